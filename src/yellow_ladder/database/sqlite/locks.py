"""Who holds SQLite's write locks, asked of the kernel without taking one.

Byte ranges from the file format documents: RESERVED in the database file, and the write lock in the -shm file of a
write-ahead log.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import struct
from pathlib import Path

from yellow_ladder import nolinks

_RESERVED_AT, _WAL_WRITE_AT = 0x40000001, 120
_FLOCK = struct.Struct("hhqqi4x")  # type, whence, start, length, pid


def lock_holders(path: Path) -> list[int]:
    """Process ids that hold a write lock; 0 for one in another namespace. The database must not be open here."""
    found = [_holder(path, _RESERVED_AT), _holder(path.with_name(path.name + "-shm"), _WAL_WRITE_AT)]
    return [pid for pid in found if pid is not None]


def _holder(path: Path, at: int) -> int | None:
    with contextlib.suppress(OSError):
        descriptor = nolinks.open_regular(path)
        try:
            asked = _FLOCK.pack(fcntl.F_WRLCK, os.SEEK_SET, at, 1, 0)
            kind, _, _, _, pid = _FLOCK.unpack(fcntl.fcntl(descriptor, fcntl.F_GETLK, asked))
            return None if kind == fcntl.F_UNLCK else int(pid)
        finally:
            os.close(descriptor)
    return None


def holders_of(*paths: Path) -> list[int]:
    """Process ids that have one of these files open, whatever its name was then; none of this process."""
    wanted = set()
    for path in paths:
        with contextlib.suppress(OSError):
            status = nolinks.status_of(path)
            wanted.add((status.st_dev, status.st_ino))
    found = []
    for process in os.listdir("/proc") if wanted else ():
        if process.isdigit() and int(process) != os.getpid():
            # It may end meanwhile, or be another account's.
            folder = f"/proc/{process}/fd/"
            with contextlib.suppress(OSError):
                if any(_is_one_of(folder + one, wanted) for one in os.listdir(folder)):
                    found.append(int(process))
    return sorted(found)


def _is_one_of(descriptor: str, wanted: set[tuple[int, int]]) -> bool:
    with contextlib.suppress(OSError):
        status = os.stat(descriptor)  # noqa: PTH116  once for each of thousands
        return (status.st_dev, status.st_ino) in wanted
    return False
