"""How far a climb is: a pure fold over its journal."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import Any

from yellow_ladder.climb.record.journal import JournalRecord, What
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.words import moment_of


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
    ended_at: datetime | None = None

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
    if record.what is What.BEGIN:
        if standing.state is ClimbState.PLANNED:
            standing.state = ClimbState.CLIMBING
        if standing.state is ClimbState.CLIMBING:
            standing.begun.add(StepName.parse(record.step))
    elif record.what is What.DONE:
        standing.done[StepName.parse(record.step)] = record.facts
    elif record.what is What.FAILED:
        standing.why, standing.failed_step = str(record.facts.get("reason", "")), record.step
    elif record.what is What.TURN:
        standing.state = ClimbState.DESCENDING
        standing.why = standing.why or str(record.facts.get("reason", ""))
    else:
        standing.state = ClimbState(record.step)
        if standing.state is not ClimbState.SETTLED:
            standing.ended_at = moment_of(record.at)
