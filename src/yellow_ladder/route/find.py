"""The route with the fewest rungs that skips no stop. A pure function of the present version and the sheets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from packaging.specifiers import SpecifierSet

from yellow_ladder import __version__
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version


@dataclass(frozen=True, slots=True)
class Rung:
    """One step: from a version to a release, and the reason why the route has it."""

    from_version: Version
    release: Release
    why: str

    @property
    def to_version(self) -> Version:
        """Where it leads."""
        return self.release.version


@dataclass(frozen=True, slots=True)
class Route:
    """Rungs from the present version to the target, at least one."""

    present: Version
    target: Version
    rungs: tuple[Rung, ...]


def newest_stable(releases: Sequence[Release]) -> Version | None:
    """The newest release that is no preview."""
    stable = [release.version for release in releases if not release.version.is_preview]
    return max(stable, default=None)


def find_route(present: Version, target: Version | None, releases: Sequence[Release]) -> Route:
    """The shortest allowed route; among equally short ones that through the newer releases.

    Raises AnswerNo for an unknown, older or present target, and where no way leads through, with the reason.
    """
    wanted = _decide_target(present, target, releases)
    ordered = sorted((r for r in releases if present < r.version <= wanted), key=lambda release: release.version)
    stops = [release.version for release in ordered if release.sheet.reach.stop]
    steps: dict[Version, int] = {present: 0}
    comes_from: dict[Version, Version] = {}
    for release in ordered:
        here = release.version
        # Nothing that lies below the last stop before this release can lead to it.
        floor = max((stop for stop in stops if stop < here), default=present)
        starts = [
            start for start in steps if floor <= start < here and _can_reach(release, start) and _tool_fits(release)
        ]
        if starts:
            best = min(starts, key=lambda start: (steps[start], -_rank(start, ordered)))
            steps[here], comes_from[here] = steps[best] + 1, best
    if wanted not in steps:
        raise AnswerNo(_explain_gap(present, wanted, ordered, set(steps)))
    return _walk_back(present, wanted, comes_from, ordered)


def _rank(version: Version, ordered: Sequence[Release]) -> int:
    return next((place for place, release in enumerate(ordered) if release.version == version), -1)


def _can_reach(release: Release, start: Version) -> bool:
    reach = release.sheet.reach.from_
    return not reach or start.is_in(reach)


def _tool_fits(release: Release) -> bool:
    wanted = release.sheet.needs.tool
    return not wanted or SpecifierSet(wanted).contains(__version__, prereleases=True)


def _decide_target(present: Version, target: Version | None, releases: Sequence[Release]) -> Version:
    known = ", ".join(str(release.version) for release in releases)
    wanted = target or newest_stable(releases)
    if wanted is None:
        raise AnswerNo(Problem("no-stable-release", "the source has only previews", f"name one with --to: {known}"))
    if wanted == present:
        text = f"the site is at {present} already"
        raise AnswerNo(Problem("already-there", text, f"nothing to do; other releases in the source: {known}"))
    if wanted < present:
        text = f"{wanted} is older than {present}, where the site is"
        remedy = "a climb never goes down; `yl descend` goes back to the state before a climb"
        raise AnswerNo(Problem("older-target", text, remedy))
    if all(release.version != wanted for release in releases):
        text = f"the source has no release {wanted}"
        raise AnswerNo(Problem("unknown-target", text, f"it has: {known}"))
    return wanted


def _walk_back(
    present: Version, target: Version, comes_from: dict[Version, Version], ordered: Sequence[Release]
) -> Route:
    by_version = {release.version: release for release in ordered}
    rungs: list[Rung] = []
    here = target
    while here != present:
        start = comes_from[here]
        release = by_version[here]
        rungs.append(Rung(start, release, _why(release, target)))
        here = start
    return Route(present, target, tuple(reversed(rungs)))


def _why(release: Release, target: Version) -> str:
    if release.version == target:
        return "the target"
    return "a stop that cannot be skipped" if release.sheet.reach.stop else "the next one is reached from here"


def _explain_gap(present: Version, wanted: Version, ordered: Sequence[Release], reached: set[Version]) -> Problem:
    """What stands in the way: the first release above the highest one reached, and what it asks for."""
    highest = max(reached)
    blocked = next(r for r in ordered if r.version > highest or r.version == wanted)
    reach = blocked.sheet.reach.from_
    reason = f"{blocked.version} can only be reached from {reach}" if reach else f"{blocked.version} is not reachable"
    if not _tool_fits(blocked):
        needs = blocked.sheet.needs.tool
        text = (
            f"no route from {present} to {wanted}: {blocked.version} needs Yellow Ladder {needs}, this is {__version__}"
        )
        return Problem("no-route", text, "bring this tool up to date")
    start = f"the highest that can be reached is {highest}" if highest != present else "nothing in the source leads on"
    text = f"no route from {present} to {wanted}: {reason}; {start}"
    remedy = f"put a release in the source that lies in {reach} and is reached from {highest}"
    if highest != present:
        remedy += f", or climb to {highest} first: yl climb --to {highest}"
    return Problem("no-route", text, remedy)
