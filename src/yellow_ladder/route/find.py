"""The route with the fewest rungs that skips no waypoint. A pure function of the present version and the sheets."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from packaging.specifiers import SpecifierSet

from yellow_ladder import __version__
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version
from yellow_ladder.route.fixes import Fix, fixes_between
from yellow_ladder.route.needs import Landing, Machine, find_landings
from yellow_ladder.route.search import NOTHING_INSIDE, Inside, Offer, shortest_way


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
class PassedOver:
    """A release between here and the target that the route does not take, and why."""

    version: Version
    why: str


@dataclass(frozen=True, slots=True)
class Route:
    """Rungs from the present version to the target, at least one; and what was not taken."""

    present: Version
    target: Version
    rungs: tuple[Rung, ...]
    passed_over: tuple[PassedOver, ...] = ()
    landings: tuple[Landing, ...] = ()
    gained: tuple[Fix, ...] = ()
    still_missing: tuple[Fix, ...] = ()

    @property
    def landing(self) -> Landing | None:
        """The first place where a climb along this route stops on the way."""
        return next((one for one in self.landings if one.rungs), None)

    @property
    def before_begin(self) -> Landing | None:
        """What is to be done before the climb begins, as far as releases ask for it."""
        return next((one for one in self.landings if not one.rungs), None)

    @property
    def leg(self) -> tuple[Rung, ...]:
        """The rungs up to the first landing."""
        return self.rungs[: self.landing.rungs] if self.landing else self.rungs


@dataclass(frozen=True, slots=True)
class Wishes:
    """What the administrator allows beyond stable releases that stand.

    `no_wait`: neither days of use nor people's work are waited for.
    """

    previews: bool = False
    withdrawn: bool = False
    no_wait: bool = False


_STABLE_ONLY, _UNKNOWN_MACHINE = Wishes(), Machine()


def is_preview(release: Release) -> bool:
    """Whether a release is a preview: by its channel, or by its version where it has no channel."""
    channel = release.sheet.release.channel
    return channel == "preview" or (not channel and release.version.is_preview)


def newest_release(releases: Sequence[Release], wishes: Wishes = _STABLE_ONLY) -> Version | None:
    """The newest release that is allowed."""
    return max((one.version for one in releases if not _barred(one, wishes)), default=None)


def find_route(
    present: Version,
    target: Version | None,
    releases: Sequence[Release],
    wishes: Wishes = _STABLE_ONLY,
    machine: Machine = _UNKNOWN_MACHINE,
) -> Route:
    """The shortest allowed route; among equally short ones that through the newer releases.

    A target named by its version may be a preview. Raises AnswerNo for an unknown, older or present target, and where
    no way leads through, with the reason.
    """
    wanted = _decide_target(present, target, releases, wishes)
    between = sorted((r for r in releases if present < r.version <= wanted), key=lambda release: release.version)
    barred = {r.version: why for r in between if (why := _barred(r, wishes)) and r.version != wanted}
    passed = {r.sheet.reach.waypoint for r in releases if r.version <= present}
    offers = [_offer(release, passed, is_open=release.version not in barred) for release in between]
    here = next((r for r in releases if r.version == present), None)
    found = shortest_way(present, offers, inside_of(here) if here else NOTHING_INSIDE)
    if not found.way:
        raise AnswerNo(_explain_gap(here, (present, wanted), between, barred, found.reached))
    taken = [present, *found.way]
    by_version = {release.version: release for release in between}
    rungs = [Rung(start, by_version[end], _why(by_version[end], wanted)) for start, end in itertools.pairwise(taken)]
    over = _passed_over(between, barred, [by_version[version] for version in found.way], found.reached)
    sheets = [rung.release.sheet for rung in rungs]
    landings = find_landings((present, here.sheet if here else None), sheets, machine)
    if wishes.no_wait:
        landings = [one for one in landings if one.changes]
    if target is None:
        over += [PassedOver(r.version, why) for r in releases if r.version > wanted and (why := _barred(r, wishes))]
    open_ones = [r for r in releases if not is_preview(r)]
    return Route(
        present,
        wanted,
        tuple(rungs),
        tuple(over),
        tuple(landings),
        tuple(fixes_between(present, wanted, releases)),
        tuple(fixes_between(wanted, None, open_ones)),
    )


def _offer(release: Release, passed: Collection[bool | str], *, is_open: bool) -> Offer:
    """A release for the search; a named waypoint that the site has reached already no longer counts."""
    reach = release.sheet.reach
    waypoint = str(release.version) if reach.waypoint is True else reach.waypoint or ""
    if reach.waypoint is not True and waypoint in passed:
        waypoint = ""
    return Offer(release.version, reach.from_, waypoint, is_open and _tool_fits(release), inside_of(release))


def inside_of(release: Release) -> Inside:
    """What a release is inside: its schema's number, the parts that it brings and needs."""
    sheet = release.sheet
    needs = {name: wanted for name, wanted in sheet.needs.parts.items() if name in sheet.release.parts}
    return Inside(sheet.release.schema_number, sheet.release.parts, needs)


def _barred(release: Release, wishes: Wishes) -> str:
    """Why a release is not taken unless asked for, or nothing."""
    if release.sheet.release.withdrawn and not wishes.withdrawn:
        return f"withdrawn: {release.sheet.release.withdrawn}"
    if is_preview(release) and not wishes.previews:
        return "a preview"
    return ""


def _tool_fits(release: Release) -> bool:
    wanted = release.sheet.needs.tool
    return not wanted or SpecifierSet(wanted).contains(__version__, prereleases=True)


def _decide_target(present: Version, target: Version | None, releases: Sequence[Release], wishes: Wishes) -> Version:
    known = ", ".join(str(release.version) for release in releases[-12:])
    wanted = target or newest_release(releases, wishes)
    if wanted is None:
        text = "the source has only previews and withdrawn releases"
        raise AnswerNo(Problem("no-stable-release", text, f"name one with --to: {known}"))
    if wanted == present:
        text = f"the site is at {present} already"
        raise AnswerNo(Problem("already-there", text, f"nothing to do; other releases in the source: {known}"))
    if wanted < present:
        text = f"{wanted} is older than {present}, where the site is"
        remedy = "a climb never goes down; `yl descend` goes back to the state before a climb"
        raise AnswerNo(Problem("older-target", text, remedy))
    found = next((release for release in releases if release.version == wanted), None)
    if found is None:
        raise AnswerNo(Problem("unknown-target", f"the source has no release {wanted}", f"it has: {known}"))
    if found.sheet.release.withdrawn and not wishes.withdrawn:
        text = f"release {wanted} was withdrawn: {found.sheet.release.withdrawn}"
        raise AnswerNo(Problem("withdrawn-target", text, "name another with --to, or insist with --withdrawn"))
    return wanted


def _why(release: Release, target: Version) -> str:
    if release.version == target:
        return "the target"
    waypoint = release.sheet.reach.waypoint
    if waypoint:
        return "a waypoint that cannot be skipped" + (f" ({waypoint})" if isinstance(waypoint, str) else "")
    return "the next one is reached from here"


def _is_ahead(release: Release, of: Release) -> bool:
    """Whether a release has a lower public version than another and is newer inside."""
    mine, its = release.sheet.release.schema_number, of.sheet.release.schema_number
    return mine is not None and its is not None and mine > its


def _ahead_words(release: Release, of: Release) -> str:
    mine, its = release.sheet.release.schema_number, of.sheet.release.schema_number
    return f"newer inside than {of.version} (schema {mine} against {its}): a site on it could not go on there"


def _passed_over(
    between: Sequence[Release], barred: dict[Version, str], taken: Sequence[Release], reached: dict[Version, int]
) -> list[PassedOver]:
    """Every release on the way that the route does not take, and why; both lists are in ascending order."""
    found = []
    above = 0
    for release in between:
        if release.version == taken[above].version:
            above = min(above + 1, len(taken) - 1)
            continue
        why = barred.get(release.version) or _why_not(release, taken[above:], reached)
        found.append(PassedOver(release.version, why))
    return found


def _why_not(release: Release, above: Sequence[Release], reached: dict[Version, int]) -> str:
    if release.version not in reached:
        reach = release.sheet.reach.from_
        return f"can only be reached from {reach}" if reach else "a waypoint lies before it"
    waypoint = release.sheet.reach.waypoint
    if isinstance(waypoint, str) and waypoint:
        return f"another release of the waypoint {waypoint} is taken"
    ahead = next((one for one in above if _is_ahead(release, one)), None)
    if ahead is not None:
        return _ahead_words(release, ahead)
    best = reached.get(above[-1].version, 0)
    return f"not needed: the way with {best} rungs goes without it"


def _is_shut_stop(release: Release, between: Sequence[Release], barred: dict[Version, str]) -> bool:
    """Whether a release is a waypoint that no release of its name can be passed at."""
    waypoint = release.sheet.reach.waypoint
    alike = [release] if waypoint is True else [one for one in between if one.sheet.reach.waypoint == waypoint]
    return bool(waypoint) and all(one.version in barred for one in alike)


def _explain_gap(
    here: Release | None,
    ends: tuple[Version, Version],
    between: Sequence[Release],
    barred: dict[Version, str],
    reached: dict[Version, int],
) -> Problem:
    """What stands in the way: the first release above the highest one reached, and what it asks for."""
    present, wanted = ends
    highest = max(reached)
    no_way = f"no route from {present} to {wanted}"
    shut = next((r for r in between if r.version > highest and _is_shut_stop(r, between, barred)), None)
    if shut is not None:
        text = f"{no_way}: it leads through the waypoint {shut.version}, which is {barred[shut.version]}"
        return Problem("no-route", text, "wait for a release that takes its place, or allow it: see yl route --help")
    blocked = next(r for r in between if (r.version > highest and r.version not in barred) or r.version == wanted)
    if not _tool_fits(blocked):
        needs = blocked.sheet.needs.tool
        text = f"{no_way}: {blocked.version} needs Yellow Ladder {needs}, this is {__version__}"
        return Problem("no-route", text, "bring this tool up to date")
    ahead = next((r for r in (here, *between) if r and r.version in reached and _is_ahead(r, blocked)), None)
    if ahead is not None:
        text = f"{no_way}: {ahead.version} is {_ahead_words(ahead, blocked)}"
        return Problem("no-route", text, f"name a target that is not older inside, or ask for a {blocked.version}.x")
    reach = blocked.sheet.reach.from_
    reason = f"{blocked.version} can only be reached from {reach}" if reach else f"{blocked.version} is not reachable"
    start = (
        f"the highest that can be reached is {highest}"
        if highest != present
        else "no release in the source can be reached from there"
    )
    remedy = f"put a release in the source that lies in {reach} and is reached from {highest}"
    if highest != present:
        remedy += f", or climb to {highest} first: yl climb --to {highest}"
    return Problem("no-route", f"{no_way}: {reason}; {start}", remedy)
