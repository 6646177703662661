"""Three versions of a text become one, line by line: for comments, and for what no format understands."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import TypeVar

T = TypeVar("T", bound=Hashable)
_LARGEST_COMPARED = 400  # lines without a single line of their own: beyond, they count as all different


@dataclass(frozen=True, slots=True)
class Chunk:
    """A stretch of three versions. Where both sides changed it differently, it is a conflict."""

    base: tuple[int, int]
    mine: tuple[int, int]
    new: tuple[int, int]
    same: bool = False


def chunks(base: Sequence[T], mine: Sequence[T], new: Sequence[T]) -> Iterator[Chunk]:
    """The three versions in stretches, in order: what all have, and what lies between."""
    in_mine, in_new = dict(matched(base, mine)), dict(matched(base, new))
    at = (0, 0, 0)
    for place in range(len(base)):
        if place not in in_mine or place not in in_new:
            continue
        here = (place, in_mine[place], in_new[place])
        if here != at:
            yield Chunk((at[0], here[0]), (at[1], here[1]), (at[2], here[2]))
        yield Chunk((here[0], here[0] + 1), (here[1], here[1] + 1), (here[2], here[2] + 1), same=True)
        at = (here[0] + 1, here[1] + 1, here[2] + 1)
    if at != (len(base), len(mine), len(new)):
        yield Chunk((at[0], len(base)), (at[1], len(mine)), (at[2], len(new)))


def matched(old: Sequence[T], new: Sequence[T]) -> list[tuple[int, int]]:
    """Pairs of places with equal items, rising on both sides: first by items that each side has once."""
    found: list[tuple[int, int]] = []
    _match(old, new, (0, len(old), 0, len(new)), found)
    return sorted(found)


def _match(old: Sequence[T], new: Sequence[T], span: tuple[int, int, int, int], found: list[tuple[int, int]]) -> None:
    todo = [span]
    while todo:
        low, high, first, last = todo.pop()
        while low < high and first < last and old[low] == new[first]:
            found.append((low, first))
            low, first = low + 1, first + 1
        while low < high and first < last and old[high - 1] == new[last - 1]:
            high, last = high - 1, last - 1
            found.append((high, last))
        if low == high or first == last:
            continue
        anchors = _anchors(old, new, (low, high, first, last))
        if anchors:
            edge = (low, first)
            for a, b in [*anchors, (high, last)]:
                todo.append((edge[0], a, edge[1], b))
                if a < high:
                    found.append((a, b))
                edge = (a + 1, b + 1)
        elif high - low <= _LARGEST_COMPARED and last - first <= _LARGEST_COMPARED:
            matcher = SequenceMatcher(None, old[low:high], new[first:last], autojunk=False)
            for a, b, size in matcher.get_matching_blocks():
                found += [(low + a + n, first + b + n) for n in range(size)]


def _anchors(old: Sequence[T], new: Sequence[T], span: tuple[int, int, int, int]) -> list[tuple[int, int]]:
    """Items that both sides have just once, in the longest order that both keep."""
    low, high, first, last = span
    here, there = Counter(old[low:high]), Counter(new[first:last])
    where = {new[place]: place for place in range(first, last) if there[new[place]] == 1}
    pairs = [(place, where[old[place]]) for place in range(low, high) if here[old[place]] == 1 and old[place] in where]
    return [pairs[place] for place in longest_rise([b for _, b in pairs])]


def longest_rise(numbers: Sequence[int]) -> list[int]:
    """The places of a longest rising run in a list of different numbers."""
    tops: list[int] = []
    at: list[int] = []
    before: list[int] = []
    for place, number in enumerate(numbers):
        height = bisect_left(tops, number)
        before.append(at[height - 1] if height else -1)
        if height == len(tops):
            tops.append(number)
            at.append(place)
        else:
            tops[height], at[height] = number, place
    run = []
    place = at[-1] if at else -1
    while place >= 0:
        run.append(place)
        place = before[place]
    return run[::-1]


@dataclass(frozen=True, slots=True)
class MergedLines:
    """A text of three, and the stretches that both sides changed differently: base, mine, new of each."""

    text: str
    conflicts: tuple[tuple[str, str, str], ...]


def _stretches(base: str, mine: str, new: str) -> Iterator[tuple[list[str], list[str], list[str]]]:
    """The lines of three texts, stretch by stretch."""
    b, m, n = (text.splitlines(keepends=True) for text in (base, mine, new))
    for one in chunks(b, m, n):
        yield b[slice(*one.base)], m[slice(*one.mine)], n[slice(*one.new)]


def merge_lines(base: str, mine: str, new: str) -> MergedLines:
    """Take each side's changes; where both changed the same lines differently, mine stay and it is told."""
    if new in (mine, base):
        return MergedLines(mine, ())
    if mine == base:
        return MergedLines(new, ())
    out: list[str] = []
    conflicts = []
    for was, here, there in _stretches(base, mine, new):
        if there in (here, was):
            out += here
        elif here == was:
            out += there
        else:
            out += here
            conflicts.append(("".join(was), "".join(here), "".join(there)))
    return MergedLines("".join(out), tuple(conflicts))


def merge_comments(base: str, mine: str, new: str) -> str:
    """The same for comments, of which nobody is asked: where both sides changed them, the site's come last."""
    if new in (mine, base):
        return mine
    if mine == base:
        return new
    out: list[str] = []
    for was, here, there in _stretches(base, mine, new):
        if there in (here, was):
            out += here
        elif here == was:
            out += there
        elif _are_merged(was, here, there):
            out += here
        else:
            have = {line.strip() for line in (*was, *there)}
            own = [line for line in here if line.strip() and line.strip() not in have]
            out += _before_indentation(there or [line for line in here if not line.strip()], own)
    return "".join(out)


def _are_merged(was: list[str], here: list[str], there: list[str]) -> bool:
    """Whether the site's lines have the release's among them already, in order, and none that it took away."""
    rest = iter(mine := [line.strip() for line in here])
    gone = {line.strip() for line in was} - {line.strip() for line in there}
    return all(line.strip() in rest for line in there if line.strip()) and not gone.intersection(mine)


def _before_indentation(lines: list[str], own: list[str]) -> list[str]:
    """Whole lines put below others, but above what only indents the key that follows."""
    own = [line if line.endswith("\n") else line + "\n" for line in own]
    if lines and not lines[-1].endswith("\n"):
        if lines[-1].strip():
            return [*lines[:-1], lines[-1] + "\n", *own]
        return [*lines[:-1], *own, lines[-1]]
    return [*lines, *own]
