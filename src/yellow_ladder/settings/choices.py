"""Decisions about conflicts, remembered beside the site file: what was decided, and about which three values."""

from __future__ import annotations

import hashlib
import secrets
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Annotated, Literal

import tomlkit
from pydantic import Field

from yellow_ladder.documents import Record, parse_document
from yellow_ladder.durable import write_whole
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.settings.merging.outcomes import Answer, Sides

NAME = "choices.toml"
DOC_PAGE = "docs/settings-merging.md"
_HEAD = (
    "# What was decided about settings that the site and a release changed differently; `yl settings` writes it.\n\n"
)


class Choice(Record):
    """`[[choices]]`: one decision. `about` is a digest of the three values, so that another question is asked anew."""

    file: str
    key: str
    take: Literal["mine", "new", "value"]
    value: str = ""
    about: Annotated[str, Field(pattern=r"^[0-9a-f]{16,64}$")]
    decided: str = ""


class ChoicesFile(Record):
    """The whole file."""

    format: Literal[1]
    salt: str = ""
    choices: Annotated[list[Choice], Field(default_factory=list)]


@dataclass(frozen=True, slots=True)
class Choices:
    """What was decided so far. `salt` keeps short values from being guessed from their digests."""

    salt: str
    made: tuple[Choice, ...] = ()

    def answer(self, file: str, key: str, sides: Sides) -> Answer | None:
        """What was decided about just these values of a key."""
        about = self.about(sides)
        for one in reversed(self.made):
            if (one.file, one.key, one.about) == (file, key, about):
                return Answer(one.take, one.value)
        return None

    def about(self, sides: Sides) -> str:
        """The digest of three values."""
        whole = repr((self.salt, sides.base, sides.mine, sides.new))
        return hashlib.sha256(whole.encode()).hexdigest()[:32]

    def with_choice(self, file: str, key: str, sides: Sides, answer: Answer, decided: str) -> Choices:
        """The same with one more; an earlier one about the key is replaced when it was about the same values."""
        about = self.about(sides)
        made = [one for one in self.made if (one.file, one.key, one.about) != (file, key, about)]
        new = Choice(file=file, key=key, take=answer.take, value=answer.value, about=about, decided=decided)  # type: ignore[arg-type]
        return replace(self, made=(*made, new))


def read_choices(folder: Path) -> Choices:
    """The decisions beside a site file; none where there is no such file. Raises BadInput where it cannot be read."""
    path = folder / NAME
    try:
        raw = path.read_bytes()
    except FileNotFoundError:
        return Choices(secrets.token_hex(8))
    except OSError as fault:
        text = f"{path} cannot be read: {fault.strerror}"
        raise BadInput(Problem("unreadable-file", text, "check its rights", str(path))) from fault
    found = parse_document(raw, ChoicesFile, name=str(path), what="file of choices", doc_page=DOC_PAGE)
    return Choices(found.salt, tuple(found.choices))


def keep_choices(folder: Path, choices: Choices) -> Path:
    """Write the decisions beside the site file, readable by its owner alone: typed values may be secrets."""
    path = folder / NAME
    document = tomlkit.document()
    document["format"], document["salt"] = 1, choices.salt
    tables = tomlkit.aot()
    for one in choices.made:
        table = tomlkit.table()
        for key, value in one.model_dump().items():
            if value != "":
                table[key] = value
        tables.append(table)
    document["choices"] = tables
    owner = folder.stat()
    write_whole(path, (_HEAD + tomlkit.dumps(document)).encode(), owner=(owner.st_uid, owner.st_gid))
    return path
