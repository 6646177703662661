"""The files of a SQLite database, and where they go when another one takes their place."""

from __future__ import annotations

import time
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.database.sqlite.locks import holders_of

# They belong to one state of the file: beside another one, SQLite would take them for its own.
COMPANIONS = ("-wal", "-shm", "-journal")
_LET_GO_WITHIN_S = 5.0


def files_of(path: Path) -> tuple[Path, ...]:
    """The file of a database and what SQLite puts beside it."""
    return (path, *(path.with_name(path.name + ending) for ending in COMPANIONS))


def journal_of(path: Path) -> Path:
    """Where a transaction that was not committed leaves what it changed."""
    return files_of(path)[-1]


def place_of(path: Path) -> Path:
    """Where the present file goes: beside, so that it can be renamed there."""
    return path.with_name(f".{path.name}.aside")


def move(path: Path) -> None:
    """Set a database aside. The file first: after a kill in between, that it is not there tells that its log still has
    to follow.
    """
    for old, new in zip(files_of(path), files_of(place_of(path)), strict=True):
        if nolinks.is_there(old):
            nolinks.rename(old, new)
    nolinks.sync_folder(path.parent)


def complete(path: Path) -> Path | None:
    """What was set aside, with all that belongs to it; None where nothing was."""
    place = place_of(path)
    if not nolinks.is_there(place):
        return None
    if not nolinks.is_there(path):
        move(path)
    return place


def holder_of(place: Path) -> int | None:
    """A process that does not let go of it, after some seconds; None where none has it open."""
    end = time.monotonic() + _LET_GO_WITHIN_S
    while holders := holders_of(*files_of(place)):
        if time.monotonic() > end:
            return holders[0]
        time.sleep(0.05)
    return None


def drop(path: Path) -> None:
    """Remove what was set aside; its log and its journal first."""
    for one in files_of(place_of(path))[::-1]:
        nolinks.remove_all(one)
