"""Runs one command to its end with an eye on all that it says: questions, silence, floods, errors that end with 0.

Its output is kept in a file, without secrets. What it leaves behind is ended with it.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import pty
import re
import select
import signal
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, TYPE_CHECKING

import psutil

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.masking import masked_line
from yellow_ladder.release.commands import CommandKeys
from yellow_ladder.services.mentions import with_mark
from yellow_ladder.services.port import MARK
from yellow_ladder.site.surroundings import Started
from yellow_ladder.words import bytes_in_words, count_of, time_in_words, uncoloured

if TYPE_CHECKING:
    from hashlib import _Hash as Hash

LARGEST_OUTPUT_BYTES = 64 * 1024**2
_LONGEST_LINE = 64 * 1024
_TICK_S = 0.05
_BLOCK = 65_536
_MOST_AT_THE_END = 1024**2  # more than a pipe holds
# What a command has started may take a moment to end with it.
_LEFT_WITHIN_S = 3.0
_KEPT = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW
_ASKED_TAIL = 4_096
# A line of strokes, a caret below the place of an error, the places that it came through, or where more is written,
# tells nobody anything as a program's last words: what it died of stands before it.
_TELLS = re.compile(
    r"(?!\s*(?:at \S|#\d+ |thrown in |Stack trace:|\.{3} \d+ more|from \S+:\d+|Node\.js v\d"
    r"|.*\b(?:complete|full|debug|detailed) log\b)).*\w"
)
# The shell is the leader of the session: the terminal that it opens becomes the session's own, where questions that
# are not read from standard input (passwords) are asked.
_AT_TERMINAL = 'exec <"$0" >"$0" 2>&1; exec "$@"'

OnLine = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class Call:
    """A command that is about to be run: its words and folder with everything put in, and how it is started.

    `mark` is in the environment of all that it starts, so that it can be told later what it has left behind.
    `answers`: what it prints is an answer that is compared, and what it says on its second stream is none of it.
    """

    name: str
    argv: tuple[str, ...]
    folder: Path
    how: Started
    keys: CommandKeys
    output: Path
    mark: str
    answers: bool = False


@dataclass(slots=True)
class Said:
    """What a command has said so far, line by line."""

    lines: int = 0
    warnings: int = 0
    last: str = ""
    failure: str = ""
    done: bool = False


@dataclass(frozen=True, slots=True)
class Ended:
    """How a command ended well; `digest` is of all that it printed, as it printed it."""

    took_s: float
    lines: int
    warnings: int
    last: str
    digest: str


@dataclass(slots=True)
class _Watch:
    """One command at work."""

    call: Call
    child: subprocess.Popen[bytes]
    stream: int
    output: IO[str]
    errors: IO[bytes] | None
    on_line: OnLine
    digest: Hash = field(default_factory=hashlib.sha256)
    said: Said = field(default_factory=Said)
    rest: bytes = b""
    count_bytes: int = 0
    heard_at: float = field(default_factory=time.monotonic)
    answered: int = 0

    def read(self) -> bool:
        """Take what has come; False where nothing more will."""
        try:
            block = os.read(self.stream, _BLOCK)
        except OSError:  # a terminal whose other end is closed
            block = b""
        if not block:
            return False
        self.heard_at = time.monotonic()
        self.count_bytes += len(block)
        self.digest.update(block)
        *lines, self.rest = (self.rest + block).split(b"\n")
        for line in lines:
            self._take(line)
        while len(self.rest) > _LONGEST_LINE:
            line, self.rest = self.rest[:_LONGEST_LINE], self.rest[_LONGEST_LINE:]
            self._take(line)
        self._reply()
        return True

    def drain(self, *, listening: bool) -> None:
        """Take what had come by the end: its last words may have come after the last look, and it may have left
        somebody behind who goes on.
        """
        most = self.count_bytes + _MOST_AT_THE_END
        while listening and self.count_bytes < most and select.select([self.stream], [], [], 0)[0]:
            listening = self.read()

    def finish(self) -> None:
        """Take the last line, which may have no end."""
        if self.rest.strip():
            self._take(self.rest)
        self.output.flush()
        os.fsync(self.output.fileno())
        if self.errors is not None:
            self._take_errors(self.errors)

    def _take_errors(self, errors: IO[bytes]) -> None:
        """Keep what it said on its second stream in a file of its own, without secrets: its last words may be there."""
        errors.seek(0)
        text = errors.read(_MOST_AT_THE_END).decode(errors="replace")
        lines = [masked_line(self.call.how.surroundings.masked(line)) for line in uncoloured(text).splitlines()]
        lines = [line for line in lines if line.strip()]
        if lines:
            last = next((one for one in reversed(lines) if _TELLS.match(one)), lines[-1])
            self.said.last = "".join(one if one.isprintable() else " " for one in last.strip())[:200]
            call = self.call
            opened = os.open(call.output.with_suffix(".errors.txt"), _KEPT, 0o600)
            with os.fdopen(opened, "w", encoding="utf-8") as stream:
                stream.writelines(f"{line}\n" for line in lines)

    def _take(self, raw: bytes) -> None:
        # Of a line that a progress bar has written over and over, the last state.
        line = uncoloured(raw.rstrip(b"\r").rpartition(b"\r")[2].decode(errors="replace"))
        keys, said = self.call.keys, self.said
        shown = masked_line(self.call.how.surroundings.masked(line))
        if keys.failed and not said.failure and re.search(keys.failed, line):
            said.failure = shown.strip()[:200]
        said.warnings += bool(keys.warned and re.search(keys.warned, line))
        said.done = said.done or bool(keys.done and re.search(keys.done, line))
        said.lines += 1
        self.output.write(shown + "\n")
        if _TELLS.match(shown) or (shown.strip() and not said.last):
            said.last = "".join(one if one.isprintable() else " " for one in shown.strip())[:200]
            self.on_line(said.last)

    def _reply(self) -> None:
        """Answer what is asked: a question stands at the end of what was said, without an end of its line."""
        asked = self.rest[-_ASKED_TAIL:].decode(errors="replace")
        for reply in self.call.keys.answers:
            if asked.strip() and re.search(reply.asked, asked):
                said = reply.say or self.call.how.surroundings.variables.get(reply.say_variable, "")
                self._take(self.rest)
                self.rest = b""
                self.answered += 1
                os.write(self.stream, said.encode() + b"\n")
                return


def run_watched(call: Call, on_line: OnLine, look_on: Callable[[], None]) -> Ended:
    """Run a command to its end; `look_on` is called while it works and may end it by raising.

    Raises AnswerNo with the reason and where its output is kept: where it cannot be started, takes too long, says
    nothing for too long, floods, ends otherwise than wanted, says that it has failed, or leaves processes behind.
    """
    started = time.monotonic()
    opened = os.open(call.output, _KEPT, 0o600)
    with contextlib.ExitStack() as stack:
        output = stack.enter_context(os.fdopen(opened, "w", encoding="utf-8"))
        errors = stack.enter_context(tempfile.TemporaryFile()) if call.answers else None
        child, stream = stack.enter_context(_launched(call, errors))
        watch = _Watch(call, child, stream, output, errors, on_line)
        try:
            _until_it_ends(watch, started, look_on)
            left = _left_behind(call, child.pid)
        except BaseException:
            _end_all(call, child)
            watch.finish()
            raise
        watch.finish()
    if left:
        _end_all(call, child)
        raise _failed(call, f"it ended and left {left} at work, which was ended", "let it wait for what it starts")
    _judge(call, child.returncode, watch.said)
    said = watch.said
    return Ended(time.monotonic() - started, said.lines, said.warnings, said.last, watch.digest.hexdigest())


@contextlib.contextmanager
def _launched(call: Call, errors: IO[bytes] | None) -> Iterator[tuple[subprocess.Popen[bytes], int]]:
    """Start it with empty input, or at a terminal of its own where it asks questions."""
    wants_terminal = call.keys.terminal or bool(call.keys.answers)
    ours, theirs = pty.openpty() if wants_terminal else os.pipe()
    account = call.how.account
    try:
        argv, taken = list(call.argv), theirs
        if wants_terminal:
            if account is not None:
                os.fchown(theirs, account.uid, -1)
            argv, taken = ["/bin/sh", "-c", _AT_TERMINAL, os.ttyname(theirs), *argv], subprocess.DEVNULL
        child = subprocess.Popen(
            argv,
            cwd=call.folder,
            user=account.uid if account else None,
            group=account.gid if account else None,
            extra_groups=account.groups() if account else None,
            stdin=subprocess.DEVNULL,
            stdout=taken,
            stderr=taken if errors is None else errors,
            env={**call.how.environment, MARK: call.mark},
            umask=0o022 if account else -1,
            start_new_session=True,
        )
    except OSError as fault:
        os.close(ours)
        os.close(theirs)
        text = f"{call.name}: cannot run {call.argv[0]}: {fault.strerror}"
        raise AnswerNo(Problem("command-missing", text, "check the path and its rights", call.name)) from fault
    if not wants_terminal:
        os.close(theirs)
    try:
        # Its exit is asked for, not waited for: what it leaves behind may hold the other end open.
        yield child, ours
    finally:
        os.close(ours)
        if wants_terminal:
            os.close(theirs)


def _until_it_ends(watch: _Watch, started: float, look_on: Callable[[], None]) -> None:
    keys, listening = watch.call.keys, True
    while True:
        look_on()
        ready = bool(listening and select.select([watch.stream], [], [], _TICK_S)[0])
        if ready:
            listening = watch.read()
        elif watch.child.poll() is not None:
            watch.drain(listening=listening)
            return
        elif not listening:
            time.sleep(_TICK_S)
        now = time.monotonic()
        if now - started > keys.within_s:
            why = f"it did not end within {time_in_words(keys.within_s)}"
            raise _failed(watch.call, why, "run it by hand to see why, or allow more with `within_s`", watch.said.last)
        if keys.silent_s and now - watch.heard_at > keys.silent_s:
            asks = watch.rest[-200:].decode(errors="replace").strip()
            why = f"it said nothing for {time_in_words(keys.silent_s)}"
            remedy = "run it by hand to see why, or allow more with `silent_s`"
            if asks:
                why, remedy = f"{why} and may be asking: {masked_line(asks)}", "give the answer under `answers`"
            raise _failed(watch.call, why, remedy, "" if asks else watch.said.last)
        beside = os.fstat(watch.errors.fileno()).st_size if watch.errors is not None else 0
        if max(watch.count_bytes, beside) > LARGEST_OUTPUT_BYTES:
            why = f"it printed more than {bytes_in_words(LARGEST_OUTPUT_BYTES)} and was ended"
            raise _failed(watch.call, why, "run it by hand to see why")


def _judge(call: Call, status: int, said: Said) -> None:
    """Raise AnswerNo unless it ended as is wanted, by its exit status and by its words."""
    keys = call.keys
    if status < 0:
        with contextlib.suppress(ValueError):
            raise _failed(call, f"it was ended by {signal.Signals(-status).name}", "see why", said.last)
        raise _failed(call, f"it was ended by signal {-status}", "see why", said.last)
    if said.failure:
        raise _failed(call, f"it ended with {status} and said: {said.failure}", "see why")
    if status not in keys.exit_codes:
        raise _failed(call, f"it ended with {status}", "see why", said.last)
    if keys.done and not said.done:
        raise _failed(call, f"it ended with {status} and never said {keys.done!r}", "see why", said.last)


def _failed(call: Call, why: str, remedy: str, last: str = "") -> AnswerNo:
    words = f"; its last words: {last}" if last else ""
    text = f"the command `{call.name}` failed: {why}{words}"
    return AnswerNo(Problem("command-failed", text, f"{remedy}; its output is in {call.output}", call.name))


def _left_behind(call: Call, session: int) -> str:
    """What of it still runs a moment after it ended, in words."""
    end = time.monotonic() + _LEFT_WITHIN_S
    while found := _family(call, session):
        if time.monotonic() > end:
            names = [f"{one.pid} ({one.name()})" for one in found if one.is_running()]
            return f"{count_of(len(found), 'process', 'processes')}, {', '.join(names[:3])}," if names else ""
        time.sleep(_TICK_S)
    return ""


def _family(call: Call, session: int) -> list[psutil.Process]:
    """Processes of its session, and those that have left it and still carry its mark."""
    return [one for one in with_mark(call.mark, session) if one.pid != session]


def _end_all(call: Call, child: subprocess.Popen[bytes]) -> None:
    """Ask all that it has started to stop, and kill what does not."""
    for how, wait_s in ((signal.SIGTERM, 2.0), (signal.SIGKILL, 2.0)):
        family = _family(call, child.pid)
        with contextlib.suppress(ProcessLookupError):
            if child.poll() is None:
                child.send_signal(how)
        for one in family:
            with contextlib.suppress(psutil.Error):
                one.send_signal(how)
        end = time.monotonic() + wait_s
        while time.monotonic() < end and (child.poll() is None or _family(call, child.pid)):
            time.sleep(_TICK_S)
        if child.poll() is not None and not _family(call, child.pid):
            return


def end_what_is_left(mark: str) -> list[str]:
    """End what a command that was killed with this program has left at work; returns what that was."""
    found = []
    for process in with_mark(mark):
        with contextlib.suppress(psutil.Error, OSError):
            found.append(f"{process.pid} ({process.name()})")
            process.kill()
            process.wait(_LEFT_WITHIN_S)
    return found


def words_of(call_argv: tuple[str, ...], environment: Mapping[str, str]) -> str:
    """A command for people, as a shell would have it; values of its environment are not told."""
    names = " ".join(f"{name}=…" for name in environment)
    return f"{names} {' '.join(call_argv)}".strip()
