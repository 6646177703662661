"""What differs between two lists of entries, of which most lines are the same.

A line is an entry as it was written down, so equal lines are equal entries: only the others are read.
"""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.files.entry import Entry, place_of
from yellow_ladder.files.listing import Listing


def unlike(left: Listing, right: Listing) -> Iterator[tuple[Entry | None, Entry | None, int]]:
    """Every path whose entries are not the same in two lists, in order, with its entry in each, None where it is not
    in one of them, and which entry of the right list it is or would stand before, counted from 0.
    """
    ours, theirs, number = left.lines(), right.lines(), 0
    old, new = next(ours, None), next(theirs, None)
    while old is not None or new is not None:
        if old == new:
            old, new, number = next(ours, None), next(theirs, None), number + 1
            continue
        was = None if old is None else left.entry_of(old)
        now = None if new is None else right.entry_of(new)
        if was is not None and now is not None and was.path != now.path:
            comes_first = place_of(was.path) < place_of(now.path)
            was, now = (was, None) if comes_first else (None, now)
        yield was, now, number
        old = next(ours, None) if was is not None else old
        new, number = (next(theirs, None), number + 1) if now is not None else (new, number)
