"""The one door through which child processes are started."""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

from yellow_ladder.accounts import Account
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.words import bytes_in_words

LARGEST_OUTPUT_BYTES = 16 * 1024**2
# Short against what a person notices, long against what a look costs.
_LOOK_EVERY_S = 0.02
_LIMIT_NAMES = {resource.RLIMIT_NOFILE: "nofile", resource.RLIMIT_NPROC: "nproc", resource.RLIMIT_MEMLOCK: "memlock"}


@dataclass(frozen=True, slots=True)
class Completed:
    """How a command ended: its exit status and what it printed on both streams, in order."""

    argv: tuple[str, ...]
    status: int
    output: str


# Asks the kernel to kill the process when its parent dies (prctl PR_SET_PDEATHSIG), and becomes the program. A process
# of its own does that, since nothing may be done between fork and exec where there are threads.
_GUARD = """import ctypes, os, sys
ctypes.CDLL(None).prctl(1, 9)
if os.getppid() != int(sys.argv[1]): sys.exit(1)
try: os.execvp(sys.argv[2], sys.argv[2:])
except OSError as fault: sys.exit(f"cannot run {sys.argv[2]}: {fault.strerror}")
"""


def _ending_with_us() -> list[str]:
    """What stands before a command so that it is killed when this process is, however that comes about."""
    return [sys.executable, "-I", "-S", "-c", _GUARD, str(os.getpid())]


def nobody() -> None:
    """Nobody looks on."""


@dataclass(frozen=True, slots=True)
class Streams:
    """What a command is given besides its arguments. `look_on` is called while it works and may end it by raising."""

    source: IO[bytes] | None = None
    target: IO[bytes] | None = None
    descriptors: tuple[int, ...] = ()
    look_on: Callable[[], None] = nobody
    ends_with_us: bool = False  # killed by the kernel when this process is
    account: Account | None = None  # whose rights it has; None leaves this program's
    limits: Mapping[int, int] = field(default_factory=dict)  # of the kernel, by their RLIMIT_ number


def run_command(
    argv: Sequence[str],
    *,
    folder: Path,
    deadline_s: float,
    environment: Mapping[str, str] | None = None,
    most_bytes: int = LARGEST_OUTPUT_BYTES,
    streams: Streams | None = None,
) -> Completed:
    """Run an argument list (never a shell) with empty input and a deadline.

    The child gets a process group of its own; past the deadline or past `most_bytes` of output the group is asked to
    stop, then killed. Its output goes to a file, so that a daemon that it leaves behind keeps nobody waiting.
    `streams` gives it other input and output, open descriptors, and somebody who looks on while it works.
    An account it is handed to gives it its rights, groups and home, and nothing of this program's environment.
    Raises AnswerNo when the program is missing, the deadline passed, or it printed too much.
    """
    streams = streams or Streams()
    account = streams.account
    with tempfile.TemporaryFile() as output:
        try:
            with limited(streams.limits) as limiting:
                child = subprocess.Popen(
                    [*(_ending_with_us() if streams.ends_with_us else ()), *limiting, *argv],
                    cwd=folder,
                    # Rights are given up before anything is loaded: what is loaded may be the account's own.
                    user=account.uid if account else None,
                    group=account.gid if account else None,
                    extra_groups=account.groups() if account else None,
                    stdin=subprocess.DEVNULL if streams.source is None else streams.source,
                    stdout=output if streams.target is None else streams.target,
                    stderr=output,
                    env=environment_of(account, environment),
                    umask=0o022 if account else -1,
                    # A group of its own: a deadline ends what it started too, and Ctrl-C does not reach it.
                    start_new_session=True,
                    pass_fds=streams.descriptors,
                )
        except OSError as fault:
            text = f"cannot run {argv[0]}: {fault.strerror}"
            raise AnswerNo(Problem("command-missing", text, "check the path and its rights")) from fault
        with child:
            try:
                _wait_for(child, argv[0], output, deadline_s, most_bytes, streams.look_on)
            except BaseException:
                _end_group(child)
                raise
        output.seek(0)
        # What it printed stays bounded, also where the last look came before the last words.
        printed = output.read(most_bytes)
    return Completed(tuple(argv), child.returncode, printed.decode(errors="replace"))


def environment_of(account: Account | None, environment: Mapping[str, str] | None) -> Mapping[str, str]:
    """What a command finds around it: this program's own, or what an account may know, and what is given besides."""
    return {**(account.environment(os.environ) if account else os.environ), **(environment or {})}


@contextlib.contextmanager
def limited(limits: Mapping[int, int]) -> Iterator[list[str]]:
    """What stands before a command so that it has these limits of the kernel; it has to be started meanwhile.

    A program of its own sets them, once rights are given up: nothing of ours may be done in a child before it becomes
    that. What is more than this program has, it takes for itself as long, since a child could not. Raises AnswerNo
    where it may not.
    """
    if limits and shutil.which("prlimit") is None:
        text = "limits are set by the program prlimit, which is not here"
        raise AnswerNo(Problem("command-missing", text, "install it (util-linux), or take `limits` out"))
    before = {which: resource.getrlimit(which) for which in limits}
    raised = []
    try:
        for which, most in limits.items():
            soft, hard = before[which]
            if hard != resource.RLIM_INFINITY and most > hard:
                resource.setrlimit(which, (soft, most))
                raised.append(which)
    except ValueError as fault:
        text = f"its limits are higher than yl itself may give ({_LIMIT_NAMES[which]}: {before[which][1]:,})"
        raise AnswerNo(Problem("limits-not-had", text, "raise them for yl, or lower `limits`")) from fault
    else:
        yield (
            ["prlimit", *(f"--{_LIMIT_NAMES[which]}={most}:{most}" for which, most in limits.items())] if limits else []
        )
    finally:
        for which in raised:
            resource.setrlimit(which, before[which])


def _wait_for(
    child: subprocess.Popen[bytes],
    program: str,
    output: IO[bytes],
    deadline_s: float,
    most_bytes: int,
    look_on: Callable[[], None],
) -> None:
    end = time.monotonic() + deadline_s
    while True:
        look_on()
        try:
            child.wait(timeout=_LOOK_EVERY_S)
        except subprocess.TimeoutExpired:
            pass
        else:
            return
        if time.monotonic() > end:
            text = f"{program} did not end within {deadline_s:g} s"
            remedy = "run it by hand to see why, or allow it more time in the site file"
            raise AnswerNo(Problem("command-late", text, remedy))
        if os.fstat(output.fileno()).st_size > most_bytes:
            text = f"{program} printed more than {bytes_in_words(most_bytes)} and was ended"
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
