"""TOML files from outside: parsed once into frozen records, every problem reported in one go with its key path."""

from __future__ import annotations

import difflib
import re
import tomllib
import typing
from collections.abc import Iterator, Mapping, Sequence
from enum import Enum
from pathlib import Path
from typing import Any, ClassVar, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError
from pydantic_core import ErrorDetails

from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.words import bytes_in_words

# A sheet of a thousand tables has a tenth of this; what is larger is another file, given by mistake.
LARGEST_DOCUMENT_BYTES = 4 * 1024 * 1024


class Record(BaseModel):
    """A frozen record of a document.

    `designed` names keys that have a meaning but are not built yet, `designed_values` such values by their key.
    """

    # What judges a record is built when the first one is read: a command reads few of the kinds.
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True, defer_build=True)
    designed: ClassVar[Mapping[str, str]] = {}
    designed_values: ClassVar[Mapping[str, Mapping[str, str]]] = {}


R = TypeVar("R", bound=Record)


def read_document(path: Path, record: type[R], *, what: str, doc_page: str) -> R:
    """Read the TOML file at `path` as `record`; raises BadInput with all its problems."""
    try:
        raw = path.read_bytes()
    except FileNotFoundError as gone:
        raise BadInput(Problem("no-file", f"there is no {what} at {path}", _HOW_TO_NAME.get(what, ""))) from gone
    except OSError as fault:
        reason = Problem("unreadable-file", f"the {what} {path} cannot be read: {fault.strerror}", "check its rights")
        raise BadInput(reason) from fault
    return parse_document(raw, record, name=str(path), what=what, doc_page=doc_page)


_HOW_TO_NAME = {
    "site file": "go to the folder that has ladder.toml, or name it with --site FILE; `yl init DIR` writes a first one"
}


def parse_document(raw: bytes, record: type[R], *, name: str, what: str, doc_page: str) -> R:
    """Parse TOML bytes as `record`; `name` stands in messages. Raises BadInput with all problems."""
    if len(raw) > LARGEST_DOCUMENT_BYTES:
        too_large = f"the {what} {name} is larger than {bytes_in_words(LARGEST_DOCUMENT_BYTES)}"
        raise BadInput(Problem("document-too-large", too_large, "name the right file", name))
    try:
        content = tomllib.loads(raw.decode())
    except UnicodeDecodeError as fault:
        not_text = f"the {what} {name} is not UTF-8 text (byte {fault.start})"
        raise BadInput(Problem("broken-toml", not_text, "save it as UTF-8", name)) from fault
    except tomllib.TOMLDecodeError as fault:
        broken = Problem("broken-toml", f"the {what} {name} is not valid TOML: {fault}", "correct that line", name)
        raise BadInput(broken) from fault
    return validate_document(content, record, name=name, doc_page=doc_page)


def validate_document(content: object, record: type[R], *, name: str, doc_page: str) -> R:
    """Check values that were parsed already, of TOML or JSON; raises BadInput with all problems."""
    try:
        return record.model_validate(content)
    except ValidationError as faults:
        found = [_as_problem(detail, record, name, doc_page) for detail in faults.errors()]
        raise BadInput(_without_repeats(found)) from faults


def _without_repeats(found: Sequence[Problem]) -> list[Problem]:
    return list(dict.fromkeys(found))


def _as_problem(detail: ErrorDetails, record: type[Record], name: str, doc_page: str) -> Problem:
    """One validation error in the words of the person who wrote the file."""
    location, owner = _found_at(record, detail["loc"])
    if detail["type"] in ("union_tag_invalid", "union_tag_not_found"):
        location = (*location, detail["ctx"]["discriminator"].strip("'"))
    key, leaf = key_path(location), str(location[-1]) if location else ""
    remedy, where = f"see {doc_page}", f"{name}: {key}"
    if detail["type"] == "extra_forbidden" and owner is not None:
        return _unknown_key(key, leaf, owner, where)
    if detail["type"] == "union_tag_not_found" and isinstance(detail["input"], dict) and "type" in detail["input"]:
        message = f"unknown key `{key_path(location[:-1])}.type`; what it is stands in `{leaf}`"
        return Problem("unknown-key", message, f"write {leaf} in its place, {remedy}", where)
    if detail["type"] in ("missing", "union_tag_not_found"):
        return Problem("missing-key", f"the key `{key}` is missing", remedy, where)
    given, text = detail["input"], _choices(detail, owner, leaf) or _in_our_words(detail)
    if detail["type"] == "union_tag_invalid":
        given = detail["ctx"]["tag"]
    designed = owner.designed_values.get(leaf, {}) if owner is not None else {}
    if isinstance(given, str) and given in designed:
        message = f'`{key} = "{given}"` is designed but not built yet ({designed[given]})'
        return Problem("key-not-built", message, "take it out for now", where)
    shown = "" if isinstance(given, dict | list) else f" (it is {given!r})"
    return Problem("wrong-value", f"`{key}` {text}{shown}", remedy, where)


def _choices(detail: ErrorDetails, owner: type[Record] | None, leaf: str) -> str:
    """What may stand there, where that is one of a few words."""
    of = owner.model_fields[leaf].annotation if owner is not None and leaf in owner.model_fields else None
    if detail["type"] not in ("enum", "is_instance_of") or not (isinstance(of, type) and issubclass(of, Enum)):
        return ""
    return "should be one of " + ", ".join(f"`{one.value}`" for one in of)


def _in_our_words(detail: ErrorDetails) -> str:
    if detail["type"] == "union_tag_invalid":
        return f"should be {detail['ctx']['expected_tags'].replace(', ', ' or ')}"
    text = detail["msg"].removeprefix("Value error, ").removeprefix("Input ")
    text = re.sub(r"^should be a valid dictionary.*", "should be a table", text)
    if detail["type"] == "list_type" and isinstance(detail["input"], dict):
        keys = ".".join(str(one) for one in detail["loc"] if not isinstance(one, int))
        return f"is a list of tables: begin each with [[{keys}]], and what belongs to it with [{keys}.…]"
    return text.replace("valid list", "list").replace("valid tuple", "list")


def _unknown_key(key: str, leaf: str, owner: type[Record], where: str) -> Problem:
    """A key that does not belong here: designed only, of another kind of the same thing, or misspelt."""
    if leaf in owner.designed:
        message = f"`{key}` is designed but not built yet ({owner.designed[leaf]})"
        return Problem("key-not-built", message, "take the key out for now", where)
    for other in _other_kinds(owner):
        if leaf in other.model_fields:
            theirs, ours = _kind_of(other), _kind_of(owner)
            message = f"`{key}` belongs to {theirs}, and this one has {ours}"
            return Problem("key-of-another-kind", message, "take the key out, or name the other kind", where)
    near = difflib.get_close_matches(leaf, [*owner.model_fields, *owner.designed], n=1, cutoff=0.5)
    below = [name for name, of in _tables_below(owner) if leaf in of.model_fields]
    if below and not difflib.get_close_matches(leaf, near, cutoff=0.8):
        tables = " or ".join(f"`{key.removesuffix(leaf)}{name}`" for name in below)
        return Problem("unknown-key", f"unknown key `{key}`", f"it belongs one table further in: {tables}", where)
    hint = f"did you mean `{near[0]}`?" if near else "known here: " + ", ".join(owner.model_fields)
    return Problem("unknown-key", f"unknown key `{key}`", hint, where)


def _tables_below(owner: type[Record]) -> Iterator[tuple[str, type[Record]]]:
    """The keys of a record under which a table of its own stands, with what that holds."""
    for name, field in owner.model_fields.items():
        for one in (field.annotation, *typing.get_args(field.annotation)):
            if isinstance(one, type) and issubclass(one, Record):
                yield name, one


def _other_kinds(owner: type[Record]) -> list[type[Record]]:
    """Records of the same thing with another value of their tag, however far up they come together."""
    family = owner
    while family.__bases__[0] is not Record and issubclass(family.__bases__[0], Record):
        family = family.__bases__[0]
    found, left = list[type[Record]](), [family]
    while left:
        one = left.pop()
        left += one.__subclasses__()
        if one is not owner and not one.__subclasses__() and _kind_of(one) != one.__name__:
            found.append(one)
    return found


def _kind_of(record: type[Record]) -> str:
    """The tag of a record of several kinds, as it is written: `kind = "process"`."""
    for name, field in record.model_fields.items():
        values = typing.get_args(field.annotation)
        if typing.get_origin(field.annotation) is typing.Literal and len(values) == 1:
            return f'{name} = "{values[0]}"'
    return record.__name__


def key_path(location: Sequence[int | str]) -> str:
    """`("services", 0, "run")` as `services[0].run`."""
    path = ""
    for part in location:
        path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
    return path or "(the whole file)"


def _found_at(record: type[Record], location: Sequence[int | str]) -> tuple[tuple[int | str, ...], type[Record] | None]:
    """A key path as people write it, and the record that its last key belongs to.

    Where a key holds one of several kinds, the path has the kind's tag as a word of its own, which is no key.
    """
    kinds: list[type[Record]] = [record]
    path: list[int | str] = []
    owner: type[Record] | None = record
    for part in location:
        if isinstance(part, int):
            path.append(part)
            continue
        tagged = [one for one in kinds if f'"{part}"' in _kind_of(one)] if len(kinds) > 1 else []
        if tagged:
            kinds = tagged
            continue
        owner = kinds[0] if kinds else None
        path.append(part)
        field = owner.model_fields.get(part) if owner is not None else None
        kinds = list(_records_in(field.annotation)) if field is not None else []
    if location and isinstance(location[-1], int) and kinds:
        owner = kinds[0]
    return tuple(path), owner


def _records_in(annotation: Any) -> Iterator[type[Record]]:
    if isinstance(annotation, type) and issubclass(annotation, Record):
        yield annotation
    for inner in typing.get_args(annotation):
        yield from _records_in(inner)
