"""A tree beside what is expected in it: one walk and one list, both in order, side by side.

Most files are as they were when they were listed, and the kernel says so. Of these the listed entry is what is there:
nothing is made, looked up or compared, which for a million files is most of the time that such a pass takes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from yellow_ladder.files.entry import Entry, place_of
from yellow_ladder.files.manifest import HardLinks, Skip, describe_found, walk_tree

Pair = tuple[Entry | None, Entry | None]


def look_beside(root: Path, skip: Skip, expected: Iterable[Entry], called: str = "") -> Iterator[Pair]:
    """Every path below `root` or among `expected`, which comes in order, with its entry as expected and as it is.

    What has not been touched since it was listed is the same object twice. What is not as expected is read, as
    `files.manifest.look_at` does. Where `root` is itself `called` something, paths begin with that.
    """
    links, waiting = HardLinks(), iter(expected)
    old = next(waiting, None)
    for path, found in walk_tree(root, skip, called):
        while old is not None and old.path != path and place_of(old.path) < place_of(path):
            yield old, None
            old = next(waiting, None)
        if old is None or old.path != path:
            yield None, describe_found(path, found, None, links)
            continue
        yield old, old if old.is_still(found.status) else describe_found(path, found, old, links)
        old = next(waiting, None)
    while old is not None:
        yield old, None
        old = next(waiting, None)
