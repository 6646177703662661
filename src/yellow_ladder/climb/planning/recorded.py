"""What earlier climbs recorded of a version's files: stands in where its package is no longer at hand."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import LadderError
from yellow_ladder.release.versions import Version
from yellow_ladder.site.site import Site
from yellow_ladder.survey.drift.reference import Reference, recorded_contents
from yellow_ladder.survey.take import RecordFinder

_ENDED_WELL = (ClimbState.CLIMBED, ClimbState.SETTLED)


def find_in_climbs(site: Site, version: Version) -> tuple[str, Callable[[], Reference]] | None:
    """The newest climb that ended at a version, with the tree that it put in place."""
    try:
        climbs = [climb for climb in list_climbs(site) if climb.standing.state in _ENDED_WELL]
    except LadderError:
        return None
    for climb in reversed(climbs):
        if Version(climb.plan.to_version) == version:
            name = f"what the climb {climb.name} put in place"
            return name, partial(_read, climb.plan, name)
    return None


def _read(plan: Plan, name: str) -> Reference:
    return Reference(name, recorded_contents(plan.expected(plan.rungs[-1])), is_package=False)


CLIMB_RECORDS = RecordFinder(find_in_climbs)
