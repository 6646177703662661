"""Works on a site's SQLite file with the rights of the account that owns it.

Beside the file, SQLite believes what it finds: a planted rollback journal names any other file, and that one is removed
when the journal is played back; a log that is a link is written through. All of that is done with the file system's
rights of the owner (setfsuid(2), which takes root's rights over files away as well): what the owner could not do, the
tool does not do for him. Only this thread, and only while it is in SQLite, so that what is read can be written down
with the tool's own rights in between. A process of its own under that account would keep a hostile file from more
(faults of SQLite itself), and would have every row pass through a pipe; the rights over files are what was abused.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import sqlite3
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

from yellow_ladder import nolinks, whose
from yellow_ladder.database.address import DatabaseAddress

_libc = ctypes.CDLL(None, use_errno=True)
_CAPABILITY_VERSION, _READ_SEARCH = 0x20080522, 2  # linux/capability.h
_THIS_THREAD = struct.pack("Ii", _CAPABILITY_VERSION, 0)


def owner_of(path: Path) -> tuple[int, int] | None:
    """(uid, gid) that work on a file is done as; None for this account's own rights.

    A file of root's in a folder that another account may write to is in the hands of that account all the same.
    """
    if os.geteuid() != 0 or whose.is_ours_alone(path):
        return None
    for place in (path, *path.parents):
        with contextlib.suppress(OSError):
            status = nolinks.status_of(place)
            if status.st_uid:
                return status.st_uid, status.st_gid
    return None


def opened_as(address: DatabaseAddress, *, write: bool = False) -> tuple[str, tuple[int, int] | None]:
    """The URI that a database is opened by, and who it is worked on as.

    A backup is opened as immutable, so that SQLite leaves no lock or log file beside it.
    """
    mode = f"mode={'rw' if write else 'ro'}{'&immutable=1' if address.is_kept else ''}"
    return f"file:{quote(str(address.path))}?{mode}", None if address.is_kept else owner_of(address.path)


@contextlib.contextmanager
def rights_of(owner: tuple[int, int] | None) -> Iterator[None]:
    """Have the owner's rights over files within the block."""
    if owner is None:
        yield
        return
    groups = os.getgroups()
    os.setgroups([])
    _libc.setfsgid(owner[1])
    _libc.setfsuid(owner[0])
    _keep_reaching()
    try:
        yield
    finally:
        _libc.setfsuid(0)
        _libc.setfsgid(0)
        os.setgroups(groups)


def _keep_reaching() -> None:
    """Leave the right to walk and to read: a folder above may be closed to the owner. To write, his own must do."""
    held = ctypes.create_string_buffer(24)
    if _libc.capget(_THIS_THREAD, held) == 0:
        effective, permitted, inheritable, *high = struct.unpack("6I", held.raw)
        effective |= permitted & (1 << _READ_SEARCH)
        _libc.capset(_THIS_THREAD, struct.pack("6I", effective, permitted, inheritable, *high))


def may_write(path: Path) -> bool:
    """Whether work on a file, and beside it, will be let happen."""
    with rights_of(owner_of(path)):
        return all(os.access(place, os.W_OK, effective_ids=True) for place in (path, path.parent))


def connect(path: str, owner: tuple[int, int] | None, **wishes: Any) -> sqlite3.Connection:
    """Open a database; every call that can open, make or remove a file beside it has the owner's rights."""
    if owner is None:
        own: sqlite3.Connection = sqlite3.connect(path, **wishes)
        return own

    class OfOwner(sqlite3.Connection):
        """Fetching goes on in a transaction that `execute` has begun, and opens nothing more beside the file."""

        def execute(self, *words: Any) -> sqlite3.Cursor:
            with rights_of(owner):
                return super().execute(*words)

        def backup(self, *words: Any, **options: Any) -> None:
            with rights_of(owner):
                super().backup(*words, **options)

        def close(self) -> None:
            with rights_of(owner):
                super().close()

    with rights_of(owner):
        connection: sqlite3.Connection = sqlite3.connect(path, factory=OfOwner, **wishes)
        return connection
