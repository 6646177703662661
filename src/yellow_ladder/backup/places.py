"""Places elsewhere that backups are copied to: a folder of another disk, or another host by SFTP."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import IO, Protocol

from yellow_ladder.durable import sync_folder
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.site.site import Site


class Place(Protocol):
    """A folder elsewhere. Names are relative to it, with a slash for what lies one deeper; all raise OSError."""

    def list(self, name: str = "") -> list[str]:
        """Names in the folder, or in one below it; none where it is not there."""

    def make_folder(self, name: str) -> None:
        """Make a folder that only its owner may enter."""

    def write(self, name: str) -> AbstractContextManager[IO[bytes]]:
        """A new file, private to its owner; on disk when the block ends."""

    def read(self, name: str) -> AbstractContextManager[IO[bytes]]:
        """An existing file."""

    def rename(self, old: str, new: str) -> None:
        """Give another name, which is free."""

    def remove(self, name: str) -> None:
        """Remove a folder with all that it holds; may be repeated."""


class FolderPlace:
    """A folder of this machine, on another disk as one hopes."""

    def __init__(self, folder: Path) -> None:
        """Name it; it must be there already, since an empty mount point is no vault."""
        self._folder = folder

    def list(self, name: str = "") -> list[str]:
        folder = self._folder / name
        return sorted(os.listdir(folder)) if not name or folder.is_dir() else []

    def make_folder(self, name: str) -> None:
        (self._folder / name).mkdir(mode=0o700)

    @contextlib.contextmanager
    def write(self, name: str) -> Iterator[IO[bytes]]:
        descriptor = os.open(self._folder / name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            yield stream
            stream.flush()
            os.fsync(descriptor)
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)  # reading back shall read the disk

    @contextlib.contextmanager
    def read(self, name: str) -> Iterator[IO[bytes]]:
        with (self._folder / name).open("rb") as stream:
            yield stream

    def rename(self, old: str, new: str) -> None:
        sync_folder(self._folder / old)
        (self._folder / old).rename(self._folder / new)
        sync_folder(self._folder)

    def remove(self, name: str) -> None:
        if (self._folder / name).is_dir():
            shutil.rmtree(self._folder / name)


@contextlib.contextmanager
def opened_place(site: Site, target: CopyTarget) -> Iterator[Place]:
    """The place, for one block; raises AnswerNo with its name where its disk or network refuses anything."""
    try:
        if target.folder:
            yield FolderPlace(site.resolve(target.folder))
        else:
            # An SSH library is loaded by who needs it.
            from yellow_ladder.backup.sftp import connected_place

            with connected_place(site, target) as place:
                yield place
    except (OSError, EOFError) as fault:
        what = getattr(fault, "strerror", None) or str(fault) or "the connection is gone"
        text = f"the place `{target.name}` ({target.where}) refused: {what}"
        raise AnswerNo(Problem("place-refused", text, "see to the place, then try again: yl backup copy")) from fault
