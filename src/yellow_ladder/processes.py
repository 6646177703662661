"""The one door through which child processes are started."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.errors import AnswerNo, Problem


@dataclass(frozen=True, slots=True)
class Completed:
    """How a command ended: its exit status and what it printed on both streams, in order."""

    argv: tuple[str, ...]
    status: int
    output: str


def run_command(
    argv: Sequence[str],
    *,
    folder: Path,
    deadline_s: float,
    environment: Mapping[str, str] | None = None,
) -> Completed:
    """Run an argument list (never a shell) with empty input and a deadline.

    The child gets a process group of its own; past the deadline the group is asked to stop, then killed.
    Raises AnswerNo when the program is missing or the deadline passed.
    """
    try:
        child = subprocess.Popen(
            list(argv),
            cwd=folder,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            env={**os.environ, **(environment or {})},
            start_new_session=True,
        )
    except OSError as fault:
        raise AnswerNo(
            Problem("command-missing", f"cannot run {argv[0]}: {fault.strerror}", "check the path and its rights")
        ) from fault
    with child:
        try:
            printed, _ = child.communicate(timeout=deadline_s)
        except subprocess.TimeoutExpired as late:
            _end_group(child)
            raise AnswerNo(
                Problem(
                    "command-late",
                    f"{argv[0]} did not end within {deadline_s:g} s",
                    "run it by hand to see why, or allow it more time in the site file",
                )
            ) from late
    return Completed(tuple(argv), child.returncode, printed.decode(errors="replace"))


def _end_group(child: subprocess.Popen[bytes]) -> None:
    """Ask the child's group to stop, and kill it after two seconds."""
    for how, wait_s in ((signal.SIGTERM, 2.0), (signal.SIGKILL, 2.0)):
        try:
            os.killpg(child.pid, how)
        except ProcessLookupError:
            return
        try:
            child.wait(timeout=wait_s)
        except subprocess.TimeoutExpired:
            continue
        return
