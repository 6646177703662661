"""The search for the fewest rungs among releases in the order of their versions."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from packaging.specifiers import SpecifierSet
from packaging.version import Version as Parsed

from yellow_ladder.release.versions import Version, parse_range

_NOT_REACHED = 1 << 30


@dataclass(frozen=True, slots=True)
class Inside:
    """What a release is inside, its public version aside.

    `number` only grows along a route. `parts` are versions that it brings, `needs` ranges of the same parts that must
    be there before; a part that a release says nothing of hinders nothing.
    """

    number: int | None = None
    parts: Mapping[str, str] = field(default_factory=dict)
    needs: Mapping[str, str] = field(default_factory=dict)

    def can_come_from(self, other: Inside) -> bool:
        """Whether one that is `other` inside can become this."""
        if self.number is not None and other.number is not None and other.number > self.number:
            return False
        return all(
            name not in other.parts or Version(other.parts[name]).is_in(wanted) for name, wanted in self.needs.items()
        )


NOTHING_INSIDE = Inside()


@dataclass(frozen=True, slots=True)
class Offer:
    """A release as the search sees it.

    `reach` is the range of versions that it can be reached from (empty: any). Releases with the same `waypoint` are
    alternatives: a route that passes the lowest of them must go through one of them. One that is not `is_open` cannot
    be stood on, and is a waypoint all the same. It cannot be reached from what is newer `inside`.
    """

    version: Version
    reach: str
    waypoint: str
    is_open: bool = True
    inside: Inside = NOTHING_INSIDE


@dataclass(frozen=True, slots=True)
class Found:
    """The versions to pass, the present one aside (none: no way), and in how many rungs each version can be reached."""

    way: tuple[Version, ...]
    reached: dict[Version, int]


def shortest_way(present: Version, offers: Sequence[Offer], inside: Inside = NOTHING_INSIDE) -> Found:
    """The fewest rungs from `present` to the last of `offers`, which are in ascending order and all newer.

    Among equally short ways the one through newer releases. For n releases it takes n list slices; releases that ask
    for what others are inside are held against each of them.
    """
    versions = [present, *(offer.version for offer in offers)]
    within = [inside, *(offer.inside for offer in offers)]
    numbers = [-1 if one.number is None else one.number for one in within]
    keys = [version.parsed for version in versions]
    rungs = [0, *([_NOT_REACHED] * len(offers))]
    comes_from = [0] * len(versions)
    floors = _floors(present, offers)
    for place, offer in enumerate(offers, start=1):
        if not offer.is_open:
            continue
        floor = bisect_left(keys, floors[place - 1].parsed, 0, place)
        best = _best_start(offer, _Row(keys, rungs, within, numbers), floor, place)
        if best is not None:
            rungs[place], comes_from[place] = rungs[best] + 1, best
    reached = {version: count for version, count in zip(versions, rungs, strict=True) if count < _NOT_REACHED}
    way: list[Version] = []
    here = len(versions) - 1
    if rungs[here] == _NOT_REACHED:
        return Found((), reached)
    while here:
        way.append(versions[here])
        here = comes_from[here]
    return Found(tuple(reversed(way)), reached)


def _floors(present: Version, offers: Sequence[Offer]) -> list[Version]:
    """For each release, the lowest version that it may be reached from without skipping a waypoint."""
    lowest: dict[str, Version] = {}
    for offer in offers:
        if offer.waypoint and offer.waypoint not in lowest:
            lowest[offer.waypoint] = offer.version
    floors = []
    passed = [present]  # ascending: the lowest release of each waypoint that begins below
    names = [""]
    for offer in offers:
        own = offer.waypoint
        floors.append(
            next(v for v, name in zip(reversed(passed), reversed(names), strict=True) if name != own or not own)
        )
        if own and lowest[own] == offer.version:
            passed.append(offer.version)
            names.append(own)
    return floors


@dataclass(frozen=True, slots=True)
class _Row:
    """Columns over all places, apart for the speed of slices: versions, rungs so far, what each is inside."""

    keys: Sequence[Parsed]
    rungs: Sequence[int]
    within: Sequence[Inside]
    numbers: Sequence[int]


def _best_start(offer: Offer, row: _Row, low: int, high: int) -> int | None:
    """The place in [low:high] with the fewest rungs from which the offer can be reached; the newest of several."""
    allowed = parse_range(offer.reach) if offer.reach else SpecifierSet()
    keys, rungs = row.keys, row.rungs
    low, high = _narrowed(allowed, keys, low, high)
    own = offer.inside
    left_out: set[int] = set()
    if own.needs:
        left_out = {start for start in range(low, high) if not own.can_come_from(row.within[start])}
    elif own.number is not None and max(row.numbers[low:high], default=-1) > own.number:
        left_out = {low + place for place, number in enumerate(row.numbers[low:high]) if number > own.number}
    while low < high:
        fewest = (
            min((rungs[place] for place in range(low, high) if place not in left_out), default=_NOT_REACHED)
            if left_out
            else min(rungs[low:high])
        )
        if fewest == _NOT_REACHED:
            return None
        best = next(p for p in range(high - 1, low - 1, -1) if rungs[p] == fewest and p not in left_out)
        if allowed.contains(keys[best], prereleases=True):
            return best
        left_out.add(best)  # the order alone does not decide: previews of a bound, versions excluded one by one
    return None


def _narrowed(allowed: SpecifierSet, keys: Sequence[Parsed], low: int, high: int) -> tuple[int, int]:
    """The places that plain bounds leave; what other operators say is asked of each candidate."""
    for one in allowed:
        if one.operator not in (">=", ">", "<", "<="):
            continue
        bound = Parsed(one.version)
        if one.operator in (">=", ">"):
            low = max(low, bisect_left(keys, bound, 0, len(keys)))
        else:
            high = min(high, bisect_right(keys, bound, 0, len(keys)))
    return low, high
