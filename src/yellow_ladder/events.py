"""What core code tells while it works; the command line turns it into progress, lines or JSON."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeVar

_One = TypeVar("_One")
_ENTRIES_A_TURN = 1_000


class Unit(StrEnum):
    """What a progress event counts."""

    BYTES = "bytes"
    ROWS = "rows"
    FILES = "files"
    RELEASES = "releases"
    COMMANDS = "commands"


@dataclass(frozen=True, slots=True)
class StepStarted:
    """A step of a run begins; `number` counts from 1 to `total`."""

    step: str
    title: str
    number: int
    total: int


@dataclass(frozen=True, slots=True)
class Progress:
    """How much of a step's work is done; `total` is None where it is not known."""

    what: str
    done: int
    total: int | None
    unit: Unit


@dataclass(frozen=True, slots=True)
class Note:
    """Something worth telling that is no step: a finding, a decision, a direction turned."""

    text: str
    is_warning: bool = False


@dataclass(frozen=True, slots=True)
class Said:
    """A line that a command at work has printed, without secrets."""

    who: str
    line: str


@dataclass(frozen=True, slots=True)
class StepDone:
    """A step ended well after `took_s` seconds, with what it learnt (counts, bytes, a `summary` for people)."""

    step: str
    title: str
    took_s: float
    facts: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class StepFailed:
    """A step ended badly; what follows is told by the next events."""

    step: str
    title: str
    reason: str


Event = StepStarted | Progress | Note | Said | StepDone | StepFailed
Listener = Callable[[Event], None]


def silent(_event: Event) -> None:
    """Listen to nothing."""


def counting(tell: Listener, what: str, unit: Unit, total: int | None = None, every: int = 1) -> Callable[[int], None]:
    """What adds up how much of a piece of work is done, and tells it each time that another `every` are done."""
    done = told = 0

    def add(count: int) -> None:
        nonlocal done, told
        done += count
        if done - told >= every:
            told = done
            tell(Progress(what, done if total is None else min(done, total), total, unit))

    return add


def counted(entries: Iterable[_One], tell: Listener, what: str, total: int | None = None) -> Iterator[_One]:
    """The same entries of a tree, one by one; told is how many have passed."""
    add = counting(tell, what, Unit.FILES, total, _ENTRIES_A_TURN)
    for one in entries:
        add(1)
        yield one
