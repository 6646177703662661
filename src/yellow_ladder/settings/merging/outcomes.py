"""What becomes of each key of a settings file: said here once, for check, plan, climb, proof and people."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

WHOLE_FILE = "(the whole file)"
"""In place of a key, where a file is spoken of as a whole."""


class Fate(StrEnum):
    """What becomes of a key; a value of the site's own always stays, if only in a comment."""

    KEPT = "kept"  # the site's own value stays
    FOLLOWS = "follows"  # nobody changed it here: it takes the release's new value
    NEW = "new"  # the release brings it
    GONE = "gone"  # the release has it no more, and nobody changed it here
    LEFT_OUT = "left out"  # the site took it out, and it stays out
    RENAMED = "renamed"
    RETIRED = "retired"  # no longer accepted; the site's value stays readable as a comment
    CONFLICT = "conflict"  # changed here and by the release, differently, and not decided


@dataclass(frozen=True, slots=True)
class Sides:
    """A key's values in the three versions, as their files write them; None where a version does not set it."""

    base: str | None
    mine: str | None
    new: str | None


@dataclass(frozen=True, slots=True)
class Outcome:
    """What becomes of one key. `result` is what will be set; `took` says how a conflict was decided."""

    key: str
    fate: Fate
    sides: Sides
    result: str | None
    took: str = ""
    old_key: str = ""
    why: str = ""


@dataclass(frozen=True, slots=True)
class Answer:
    """How a conflict is decided: the site's value, the release's, or one of its own."""

    take: str  # mine, new, value
    value: str = ""


Decider = Callable[[str, Sides], Answer | None]


def undecided(_key: str, _sides: Sides) -> Answer | None:
    """Decides nothing."""
    return None
