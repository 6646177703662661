"""Two folders trade places: in one instant where the kernel can, by renames elsewhere."""

from __future__ import annotations

import ctypes
import errno
import os
from pathlib import Path

_AT_FDCWD = -100
_RENAME_EXCHANGE = 2
_CANNOT = (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP)


def exchange_in_one_instant(first: Path, second: Path) -> bool:
    """Swap two names by renameat2(RENAME_EXCHANGE); False where kernel or file system cannot.

    Raises OSError for everything else (missing name, other file system, no rights).
    """
    libc = ctypes.CDLL(None, use_errno=True)
    call = getattr(libc, "renameat2", None)
    # An old C library lacks the call, also where the kernel has it.
    if call is None:
        return False
    if call(_AT_FDCWD, os.fsencode(first), _AT_FDCWD, os.fsencode(second), _RENAME_EXCHANGE) == 0:
        return True
    number = ctypes.get_errno()
    if number in _CANNOT:
        return False
    raise OSError(number, os.strerror(number), str(first), None, str(second))


def inode_of(path: Path) -> int:
    """The inode number of `path` itself, 0 where there is nothing."""
    try:
        return path.lstat().st_ino
    except FileNotFoundError:
        return 0


def same_file_system(first: Path, second: Path) -> bool:
    """Whether two existing paths lie on one file system, so that a rename between them is possible."""
    return first.lstat().st_dev == second.lstat().st_dev
