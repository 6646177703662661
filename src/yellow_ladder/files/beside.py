"""A tree beside what is expected in it: one walk and one list, both in order, side by side.

Most files are as they were when they were listed, and the kernel says so. Of these the listed entry is what is there:
nothing is made, looked up or compared, which for a million files is most of the time that such a pass takes.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

from yellow_ladder.files.entry import Entry, place_of
from yellow_ladder.files.manifest import HardLinks, Skip, describe_found, walk_tree

Pair = tuple[Entry | None, Entry | None]


def look_beside(root: Path, skip: Skip, expected: Iterable[Entry]) -> Iterator[Pair]:
    """Every path below `root` or among `expected`, which comes in order, with its entry as expected and as it is.

    What has not been touched since it was listed is the same object twice. What is not as expected is read, as
    `files.manifest.look_at` does.
    """
    links, waiting = HardLinks(), iter(expected)
    old = next(waiting, None)
    for path, found in walk_tree(root, skip):
        while old is not None and old.path != path and place_of(old.path) < place_of(path):
            yield old, None
            old = next(waiting, None)
        if old is None or old.path != path:
            yield None, describe_found(path, found, None, links)
            continue
        is_as_listed = _is_as_listed(old, found.status)
        yield old, old if is_as_listed else describe_found(path, found, old, links)
        old = next(waiting, None)
    while old is not None:
        yield old, None
        old = next(waiting, None)


def _is_as_listed(old: Entry, status: os.stat_result) -> bool:
    """Whether a file with one name is what was listed: the kernel sets its change time, and no program can choose it.

    Everything else takes the long way: a file without a digest, one with several names, folders, links.
    """
    return (
        status.st_ctime_ns == old.changed_ns
        and status.st_ino == old.inode
        and status.st_nlink == 1
        and status.st_size == old.size
        and status.st_mtime_ns == old.modified_ns
        and bool(old.digest)
        and not old.same_as
        and status.st_mode == stat.S_IFREG | old.mode
        and status.st_uid == old.uid
        and status.st_gid == old.gid
    )
