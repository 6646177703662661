"""TOML files from outside: parsed once into frozen records, every problem reported in one go with its key path."""

from __future__ import annotations

import difflib
import re
import tomllib
import typing
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError
from pydantic_core import ErrorDetails

from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.words import bytes_in_words

LARGEST_DOCUMENT_BYTES = 4 * 1024 * 1024


class Record(BaseModel):
    """A frozen record of a document; `designed` names keys that have a meaning but are not built yet."""

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)
    designed: ClassVar[Mapping[str, str]] = {}


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


_HOW_TO_NAME = {"site file": "go to the folder that has ladder.toml, or name it with --site FILE"}


def parse_document(raw: bytes, record: type[R], *, name: str, what: str, doc_page: str) -> R:
    """Parse TOML bytes as `record`; `name` stands in messages. Raises BadInput with all problems."""
    if len(raw) > LARGEST_DOCUMENT_BYTES:
        too_large = f"the {what} {name} is larger than {bytes_in_words(LARGEST_DOCUMENT_BYTES)}"
        raise BadInput(Problem("document-too-large", too_large, "this is hardly the file that was meant", name))
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
    key = key_path(detail["loc"])
    owner = _record_at(record, detail["loc"][:-1])
    leaf = str(detail["loc"][-1]) if detail["loc"] else ""
    remedy = f"see {doc_page}"
    if detail["type"] == "extra_forbidden" and owner is not None:
        if leaf in owner.designed:
            message = f"`{key}` is designed but not built yet ({owner.designed[leaf]})"
            return Problem("key-not-built", message, "take the key out for now", f"{name}: {key}")
        near = difflib.get_close_matches(leaf, [*owner.model_fields, *owner.designed], n=1, cutoff=0.5)
        hint = f"did you mean `{near[0]}`?" if near else "known here: " + ", ".join(owner.model_fields)
        return Problem("unknown-key", f"unknown key `{key}`", hint, f"{name}: {key}")
    if detail["type"] == "missing":
        return Problem("missing-key", f"the key `{key}` is missing", remedy, f"{name}: {key}")
    text = detail["msg"].removeprefix("Value error, ").removeprefix("Input ")
    text = re.sub(r"^should be a valid dictionary.*", "should be a table", text)
    text = text.replace("valid list", "list").replace("valid tuple", "list")
    given = detail["input"]
    shown = "" if isinstance(given, dict | list) else f" (it is {given!r})"
    return Problem("wrong-value", f"`{key}` {text}{shown}", remedy, f"{name}: {key}")


def key_path(location: Sequence[int | str]) -> str:
    """`("services", 0, "run")` as `services[0].run`."""
    path = ""
    for part in location:
        path += f"[{part}]" if isinstance(part, int) else f".{part}" if path else str(part)
    return path or "(the whole file)"


def _record_at(record: type[Record], location: Sequence[int | str]) -> type[Record] | None:
    """The record type that stands at a key path below `record`."""
    here: type[Record] | None = record
    for part in location:
        if isinstance(part, int) or here is None:
            continue
        if part not in here.model_fields:
            return None
        here = next(_records_in(here.model_fields[part].annotation), None)
    return here


def _records_in(annotation: Any) -> Iterator[type[Record]]:
    if isinstance(annotation, type) and issubclass(annotation, Record):
        yield annotation
    for inner in typing.get_args(annotation):
        yield from _records_in(inner)
