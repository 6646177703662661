"""How far a climb is: a pure fold over its journal."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import Any

from yellow_ladder.climb.record.journal import JournalRecord, What
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.words import count_of, moment_of


class ClimbState(StrEnum):
    """Where a climb stands."""

    PLANNED = "planned"
    CLIMBING = "climbing"
    CLIMBED = "climbed"
    DESCENDING = "descending"
    DESCENDED = "descended"
    SETTLED = "settled"
    GIVEN_UP = "given up"

    @property
    def is_open(self) -> bool:
        """Whether the climb is under way, so that no other may begin."""
        return self in (ClimbState.PLANNED, ClimbState.CLIMBING, ClimbState.DESCENDING)


@dataclass(slots=True)
class Standing:
    """What the journal says: the state, and the facts of every step done in the present direction."""

    state: ClimbState = ClimbState.PLANNED
    up: dict[StepName, Mapping[str, Any]] = field(default_factory=dict)
    down: dict[StepName, Mapping[str, Any]] = field(default_factory=dict)
    begun: set[StepName] = field(default_factory=set)
    why: str = ""
    failed_step: str = ""
    failed_code: str = ""
    accepted: int = 0
    ended_at: datetime | None = None
    opened_at: datetime | None = None  # when users were about to be let into the new version

    @property
    def outcome(self) -> str:
        """The state for people and records: what was accepted with open eyes is never told as whole."""
        if self.accepted and not self.state.is_open:
            return f"{self.state} with {count_of(self.accepted, 'difference')}"
        return str(self.state)

    @property
    def done(self) -> dict[StepName, Mapping[str, Any]]:
        """Steps done in the direction that the climb goes now."""
        return self.down if self.state in (ClimbState.DESCENDING, ClimbState.DESCENDED) else self.up

    @property
    def has_backup(self) -> bool:
        """Whether the backup was read back; before that, nothing of the site was changed."""
        return StepName(StepKind.READ_BACK) in self.up

    @property
    def was_open_to_users(self) -> bool:
        """Whether users may have written to the new version."""
        return StepName(StepKind.OPEN) in self.begun


def fold(records: Sequence[JournalRecord]) -> Standing:
    """Read the journal from its first record to its last."""
    standing = Standing()
    for record in records:
        _advance(standing, record)
    return standing


def _advance(standing: Standing, record: JournalRecord) -> None:
    if record.what in (What.AGAIN, What.ACCEPT, What.ADJUST):
        _correct(standing, record)
    elif record.what is What.BEGIN:
        if standing.state is ClimbState.PLANNED:
            standing.state = ClimbState.CLIMBING
        if standing.state is ClimbState.CLIMBING:
            step = StepName.parse(record.step)
            standing.begun.add(step)
            if step.kind is StepKind.OPEN and standing.opened_at is None:
                standing.opened_at = moment_of(record.at)
    elif record.what is What.DONE:
        standing.done[StepName.parse(record.step)] = record.facts
    elif record.what is What.FAILED:
        standing.why, standing.failed_step = str(record.facts.get("reason", "")), record.step
        standing.failed_code = str(record.facts.get("code", ""))
    elif record.what is What.TURN:
        standing.state = ClimbState.DESCENDING
        standing.accepted = 0
        standing.why = standing.why or str(record.facts.get("reason", ""))
    else:
        standing.state = ClimbState(record.step)
        if standing.state is not ClimbState.SETTLED:
            standing.ended_at = moment_of(record.at)


def _correct(standing: Standing, record: JournalRecord) -> None:
    """Steps that are to be done again, differences that somebody accepted, a site file that was corrected."""
    if record.what is What.AGAIN:
        for step in record.facts["steps"]:
            standing.done.pop(StepName.parse(step), None)
    elif record.what is What.ACCEPT:
        standing.done[StepName.parse(record.step)] = record.facts
        standing.accepted += int(record.facts["count"])
    standing.failed_step = standing.failed_code = ""
