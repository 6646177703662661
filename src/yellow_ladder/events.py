"""What core code tells while it works; the command line turns it into progress, lines or JSON."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class Unit(StrEnum):
    """What a progress event counts."""

    BYTES = "bytes"
    ROWS = "rows"
    FILES = "files"


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
