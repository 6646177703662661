"""Looks on while a command works or a service starts: says what is waited for, and what Ctrl-C means just now."""

from __future__ import annotations

import contextlib
import time

import psutil

from yellow_ladder.climb.running.run import Run
from yellow_ladder.commands.watched import Call
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Note, Said
from yellow_ladder.services.mentions import with_mark
from yellow_ladder.services.port import Waiting
from yellow_ladder.words import time_in_words

SILENT_FOR_S = 300.0
# A second in five minutes. A share, and no time, since one that works hard beside others may get little of a processor.
IDLE_SHARE = 1 / 300
INSISTED = 2
# Of a service that is started, and users wait: the first word soon, then every few minutes.
FIRST_WORD_S, NEXT_WORD_S = 30.0, 300.0


class Patience:
    """For one command: hears what it says, and looks on while it works.

    What may not be run twice is not ended half-way because somebody pressed Ctrl-C: the step after it is soon enough.
    Whoever presses again means it: then it is ended, and counts as failed.
    """

    def __init__(self, run: Run, call: Call) -> None:
        """Begin to listen."""
        self._run, self._call = run, call
        self._heard_at, self._told, self._busy_s = time.monotonic(), 0, 0.0
        self._has_said = False

    def hear(self, line: str) -> None:
        """Take a line of it."""
        self._heard_at, self._told = time.monotonic(), 0
        self._run.listen(Said(self._call.name, line))

    def look_on(self) -> None:
        """Raise StoppedPartWay or AnswerNo where it must end; tell what somebody who waits should know."""
        asked = self._run.is_interrupted()
        if asked and self._call.keys.twice:
            self._run.look_on()
        if asked >= INSISTED:
            self._run.take_as_heard(asked)  # what is asked for is that it goes back, and not that it stops on the way
            text = f"the command `{self._call.name}` was ended, since it was asked for twice"
            remedy = f"its output is in {self._call.output}"
            raise AnswerNo(Problem("command-ended", text, remedy, self._call.name))
        if asked and not self._has_said:
            self._has_said = True
            text = f"`{self._call.name}` may not be run twice: yl stops when it has ended"
            self._run.listen(Note(f"{text}. Press Ctrl-C again to end it; the climb then goes back", is_warning=True))
        silent_s = time.monotonic() - self._heard_at
        if silent_s >= SILENT_FOR_S * (self._told + 1):
            self._told += 1
            self._tell_silence(silent_s)

    def _tell_silence(self, silent_s: float) -> None:
        busy_s = _processor_time_s(self._call.mark)
        spent, self._busy_s = max(0.0, busy_s - self._busy_s), busy_s
        is_busy = spent >= IDLE_SHARE * SILENT_FOR_S
        doing = f"used the processor for {time_in_words(spent)} meanwhile" if is_busy else "are idle"
        text = f"`{self._call.name}` has said nothing for {time_in_words(silent_s)}; its processes {doing}"
        self._run.listen(Note(text))


def _processor_time_s(mark: str) -> float:
    """What the processes of a command have used in all."""
    spent = 0.0
    for process in with_mark(mark):
        with contextlib.suppress(psutil.Error):
            times = process.cpu_times()
            spent += times.user + times.system
    return spent


class WhileItStarts:
    """For one service that is waited for: Ctrl-C ends the waiting, since a start may be begun again at any time."""

    def __init__(self, run: Run) -> None:
        """Begin to look on."""
        self._run, self._tell_at_s = run, FIRST_WORD_S

    def __call__(self, waiting: Waiting) -> None:
        """Raise StoppedPartWay where somebody asked to stop; tell what is waited for."""
        self._run.look_on()
        if waiting.since_s >= self._tell_at_s:
            self._tell_at_s = waiting.since_s + NEXT_WORD_S
            since, limit = time_in_words(waiting.since_s), time_in_words(waiting.within_s)
            text = f"waiting for `{waiting.service}`, {since} of at most {limit}"
            answer = f"{waiting.question} gives {waiting.seen}, and {waiting.wanted} is wanted"
            self._run.listen(Note(f"{text}: {answer}"))
