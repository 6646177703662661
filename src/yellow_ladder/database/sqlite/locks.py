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


def holders_of(path: Path) -> list[int]:
    """Process ids that have a file open, whatever its name was when they opened it; none of this process."""
    try:
        wanted = nolinks.status_of(path)
    except OSError:
        return []
    found = []
    for process in Path("/proc").iterdir():
        if not process.name.isdigit() or int(process.name) == os.getpid():
            continue
        with contextlib.suppress(OSError):  # it ended meanwhile, or is another account's
            for one in (process / "fd").iterdir():
                with contextlib.suppress(OSError):
                    status = one.stat()
                    if (status.st_dev, status.st_ino) == (wanted.st_dev, wanted.st_ino):
                        found.append(int(process.name))
                        break
    return found
