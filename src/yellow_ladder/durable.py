"""Writing that survives a power cut: whole or not at all."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any


def sync_folder(folder: Path) -> None:
    """Make the names in `folder` (created, renamed, removed) last through a power cut."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


@contextlib.contextmanager
def replaced_whole(path: Path) -> Iterator[int]:
    """An open file to write to, which takes the place of `path` in one instant when the block has ended without an
    error: a reader sees the old or the new, never a part. Raises OSError and leaves the old file as it was.
    """
    # Always the same name: what a kill leaves of one writing, the next one takes over.
    temporary = path.with_name(f".{path.name}.new")
    try:
        flags = os.O_RDWR | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC
        descriptor = os.open(temporary, flags, 0o600)
        try:
            yield descriptor
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
        temporary.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            temporary.unlink()
        raise
    # The content is on disk; the name that leads to it is not until its folder is.
    sync_folder(path.parent)


def write_whole(path: Path, content: bytes, *, mode: int = 0o600, owner: tuple[int, int] | None = None) -> None:
    """Replace `path` by `content` in one instant; a reader sees the old or the new, never a part.

    `owner` is (uid, gid); None leaves the running account's. Raises OSError and leaves the old file as it was.
    """
    with replaced_whole(path) as descriptor:
        with os.fdopen(descriptor, "wb", closefd=False) as stream:
            stream.write(content)
        if owner is not None:
            os.fchown(descriptor, *owner)
        os.fchmod(descriptor, mode)


def write_json(path: Path, document: Any) -> None:
    """Write one JSON document whole, private to its owner."""
    write_whole(path, (json.dumps(document, indent=1) + "\n").encode("ascii"))


def write_memo(path: Path, content: Iterable[bytes]) -> None:
    """Replace a file that may be lost without harm: whole for every reader, not synced. Raises OSError."""
    private_folder(path.parent)
    temporary = path.with_name(f".{path.name}.{os.getpid()}")  # two commands may remember at the same time
    try:
        descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            stream.writelines(content)
        temporary.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            temporary.unlink()
        raise


def open_private(path: Path) -> int:
    """Open a file for writing that nobody else may read, from its first byte on; what it held is gone."""
    return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)


def private_folder(path: Path) -> Path:
    """Make `path` and its missing parents, readable by the owner alone; existing folders stay as they are."""
    missing = [folder for folder in (path, *path.parents) if not folder.exists()]
    for folder in reversed(missing):
        folder.mkdir(mode=0o700, exist_ok=True)
    path.mkdir(mode=0o700, exist_ok=True)
    return path
