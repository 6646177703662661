"""The servers' own client programs: found in a version that fits the server, run without a password in sight."""

from __future__ import annotations

import contextlib
import functools
import os
import re
import shutil
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.processes import Streams, nobody, run_command
from yellow_ladder.whose import is_ours_alone

LONGEST_S = 7 * 86_400.0
_ERRORS_SHOWN = 3


@dataclass(frozen=True, slots=True)
class Client:
    """A client program: where it is and its version."""

    path: str
    version: tuple[int, ...]

    @property
    def major(self) -> int:
        """The first number of its version."""
        return self.version[0] if self.version else 0


@dataclass(frozen=True, slots=True)
class Call:
    """How a client program is run: its environment, its secret's descriptor, its streams, and who looks on."""

    environment: dict[str, str] = field(default_factory=dict)
    descriptors: tuple[int, ...] = ()
    source: IO[bytes] | None = None
    target: IO[bytes] | None = None
    look_on: Callable[[], None] = nobody


def own_client(names: Sequence[str], folder: str) -> Client | None:
    """A program of one of these names in the folder that the site file names for its server, if it is there.

    Raises AnswerNo where another account could put another program there: it is not even asked for its version.
    """
    there = [found for name in names if folder and (found := shutil.which(name, path=folder))]
    for place in there:
        if os.geteuid() == 0 and not (is_ours_alone(place) and is_ours_alone(os.path.realpath(place))):
            text = f"{place} could be another program by now: not root alone may write there"
            remedy = f"give it and the folders above it to root: see ls -ld {folder}; or take `programs` out"
            raise AnswerNo(Problem("client-not-ours", text, remedy, folder))
    return next(find_clients(names, (), folder), None) if there else None


def find_clients(names: Sequence[str], folders: Sequence[str], only: str = "") -> Iterator[Client]:
    """Programs of one of these names on the search path and in folders (which may have a `*`), each once; or in the
    folder `only`.
    """
    seen = set()
    places = [Path(found) for name in names if (found := shutil.which(name, path=only or None))]
    for pattern in folders:
        root, _, rest = pattern.partition("*")
        folder = Path(root)
        below = sorted(folder.glob("*" + rest), reverse=True) if rest and folder.is_dir() else [folder]
        places += [one / name for one in below for name in names]
    for place in places:
        real = os.path.realpath(place)
        if real not in seen and os.access(real, os.X_OK) and os.path.isfile(real):  # noqa: PTH113
            seen.add(real)
            state = os.stat(real)  # noqa: PTH116
            version = _version_of(str(place), (state.st_ino, state.st_size, state.st_mtime_ns))
            if version:
                yield Client(str(place), version)


def _version_of(program: str, file: tuple[int, int, int]) -> tuple[int, ...]:
    with contextlib.suppress(AnswerNo):
        said = _said(program, file)
        # MariaDB's programs say a version of their own, too: before the server's, and since 11 behind it.
        servers = re.search(r"\b(\d+(?:\.\d+)+)-MariaDB", said)
        if servers is not None:
            return tuple(map(int, servers[1].split(".")))
        # Otherwise the last number that looks like a version.
        found = re.findall(r"\b(\d+(?:\.\d+)+|\d+)(?=[-\s,).]|$|[a-z])", said)
        dotted = [one for one in found if "." in one]
        if dotted:
            return tuple(map(int, dotted[-1].split(".")))
    return ()


@functools.cache  # asked before each dump and load; another program under that name is another file
def _said(program: str, _file: tuple[int, int, int]) -> str:
    return run_command([program, "--version"], folder=Path("/"), deadline_s=10).output


def run_client(argv: Sequence[str], call: Call, what: str) -> None:
    """Run a client program to its end; raises AnswerNo with its own words when it fails.

    It is killed with this process: a dump that goes on writing by itself would meet the next run's.
    """
    streams = Streams(call.source, call.target, call.descriptors, call.look_on, ends_with_us=True)
    done = run_command(
        argv, folder=Path("/"), deadline_s=LONGEST_S, environment={"LC_ALL": "C", **call.environment}, streams=streams
    )
    if done.status != 0:
        lines = [line.strip() for line in done.output.splitlines() if line.strip()]
        telling = [line for line in lines if "error" in line.lower() or "fatal" in line.lower()] or lines[-1:]
        said = "; ".join(telling[:_ERRORS_SHOWN]) or f"it ended with status {done.status}"
        text = f"{what} failed: {said[:600]}"
        raise AnswerNo(Problem("client-failed", text, "correct that; the server's own log may say more", argv[0]))
