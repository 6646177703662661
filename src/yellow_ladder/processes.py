"""The one door through which child processes are started."""

from __future__ import annotations

import os
import signal
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from yellow_ladder.errors import AnswerNo, Problem

LARGEST_OUTPUT_BYTES = 16 * 1024**2
_LOOK_EVERY_S = 0.02


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
    most_bytes: int = LARGEST_OUTPUT_BYTES,
) -> Completed:
    """Run an argument list (never a shell) with empty input and a deadline.

    The child gets a process group of its own; past the deadline or past `most_bytes` of output the group is asked to
    stop, then killed. Its output goes to a file, so that a daemon that it leaves behind keeps nobody waiting.
    Raises AnswerNo when the program is missing, the deadline passed, or it printed too much.
    """
    with tempfile.TemporaryFile() as output:
        try:
            child = subprocess.Popen(
                list(argv),
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=output,
                stderr=subprocess.STDOUT,
                env={**os.environ, **(environment or {})},
                start_new_session=True,
            )
        except OSError as fault:
            text = f"cannot run {argv[0]}: {fault.strerror}"
            raise AnswerNo(Problem("command-missing", text, "check the path and its rights")) from fault
        with child:
            _wait_for(child, argv[0], output, deadline_s, most_bytes)
        output.seek(0)
        printed = output.read(most_bytes)
    return Completed(tuple(argv), child.returncode, printed.decode(errors="replace"))


def _wait_for(
    child: subprocess.Popen[bytes], program: str, output: IO[bytes], deadline_s: float, most_bytes: int
) -> None:
    end = time.monotonic() + deadline_s
    while True:
        try:
            child.wait(timeout=_LOOK_EVERY_S)
        except subprocess.TimeoutExpired:
            pass
        else:
            return
        if time.monotonic() > end:
            _end_group(child)
            text = f"{program} did not end within {deadline_s:g} s"
            remedy = "run it by hand to see why, or allow it more time in the site file"
            raise AnswerNo(Problem("command-late", text, remedy))
        if os.fstat(output.fileno()).st_size > most_bytes:
            _end_group(child)
            text = f"{program} printed more than {most_bytes // 1024:,} KiB and was ended"
            raise AnswerNo(Problem("command-floods", text, "run it by hand to see why"))


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
