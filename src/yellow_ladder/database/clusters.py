"""Data folders of database servers, told by what lies in them: no folders of files while their server runs."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import psutil

from yellow_ladder.database.sqlite.locks import holders_of
from yellow_ladder.files.reading import read_regular

# What lies in such a folder, and the file that a running server has open, or that holds its process.
MARKS = {"PG_VERSION": "postmaster.pid", "ibdata1": "ibdata1", "aria_log_control": "aria_log_control"}


@dataclass(frozen=True, slots=True)
class Cluster:
    """The data folder of a server, and whether one is at work in it."""

    folder: Path
    is_live: bool


def clusters_among(root: Path, paths: Iterable[str]) -> list[Cluster]:
    """The data folders among tree paths below `root`; each once, and the parts of one are not told by themselves."""
    marked: dict[str, str] = {}
    for path in paths:
        folder, _, name = path.rpartition("/")
        if name in MARKS:
            marked.setdefault(folder, name)
    # Each database of a PostgreSQL server has the same mark again, further down.
    tops = [one for one in marked if not any(one != other and one.startswith(f"{other}/") for other in marked)]
    return [Cluster(root / one, _is_live(root / one)) for one in sorted(tops)]


def server_processes(folder: Path) -> list[int]:
    """The processes of the server that is at work in a data folder, as far as they can be told."""
    found: list[int] = []
    for mark, sign in MARKS.items():
        if (folder / mark).exists() and sign == "postmaster.pid":
            with contextlib.suppress(OSError, ValueError, IndexError, psutil.Error):
                server = psutil.Process(int(read_regular(folder / sign, cut=True).split()[0]))
                # Its own account writes that file: only a process that works there is the server.
                if server.cwd() == str(folder):
                    found += [server.pid, *(one.pid for one in server.children(recursive=True))]
        else:
            found += holders_of(folder / sign)
    return found


def _is_live(folder: Path) -> bool:
    for mark, sign in MARKS.items():
        if (folder / mark).exists() and sign == "postmaster.pid":
            with contextlib.suppress(OSError, ValueError, IndexError):
                return psutil.pid_exists(int(read_regular(folder / sign, cut=True).split()[0]))
        elif holders_of(folder / sign):
            return True
    return False
