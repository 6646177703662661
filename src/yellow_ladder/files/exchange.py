"""By what a tree is known wherever it lies, and where it can be renamed to."""

from __future__ import annotations

from pathlib import Path

from yellow_ladder import nolinks


def inode_of(path: Path) -> int:
    """The inode number of `path` itself, 0 where there is nothing."""
    status = nolinks.status_or_none(path)
    return status.st_ino if status is not None else 0


def same_file_system(first: Path, second: Path) -> bool:
    """Whether two existing paths lie on one file system, so that a rename between them is possible."""
    return first.lstat().st_dev == second.lstat().st_dev
