"""Shows a run as it goes: a live line in a terminal, plain lines elsewhere, nothing for JSON."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from dataclasses import dataclass

from rich.console import Console
from rich.padding import Padding
from rich.status import Status
from rich.text import Text

from yellow_ladder.cli.base import Choices, console
from yellow_ladder.events import Event, Note, Progress, Said, StepDone, StepFailed, StepStarted, Unit
from yellow_ladder.words import bytes_in_words, facts_in_words, one_line, time_in_words

_PROGRESS_EVERY_S = 0.1
_LINE_EVERY_S = 60.0  # where a line cannot be written over
_PACE_AFTER_S = 3.0  # before that, how fast it goes says little
_INDENT, _TITLE_WIDTH = 10, 60
_SPINNER, _SHORTEST_TITLE = 3, 16  # columns of the live line


@dataclass(slots=True)
class Pace:
    """When a piece of work was first told of, and how much was done then."""

    of: str
    done: int
    since_s: float


def progress_in_words(event: Progress, pace: Pace, now_s: float) -> str:
    """`34 GiB of 198 GiB (17 %), 310 MiB/s, about 9 min left`; how fast, and how long still, once that can be said."""
    words = bytes_in_words if event.unit is Unit.BYTES else (lambda count: f"{count:,.0f}")
    unit = "" if event.unit is Unit.BYTES else f" {event.unit}"
    of_all = f" of {words(event.total)}" if event.total else ""
    if event.unit in (Unit.RELEASES, Unit.COMMANDS):  # the one that is at work now, each as long as it may take
        return f"{words(event.done)}{of_all}{unit}"
    share = f" ({event.done * 100 // event.total} %)" if event.total else ""
    took_s, moved = now_s - pace.since_s, event.done - pace.done
    if took_s < _PACE_AFTER_S or moved <= 0 or (event.unit is Unit.FILES and not event.total):
        return f"{words(event.done)}{of_all}{unit}{share}"
    left_s = (event.total - event.done) * took_s / moved if event.total else 0.0
    left = f", about {time_in_words(left_s)} left" if left_s >= 1 else ""
    return f"{words(event.done)}{of_all}{unit}{share}, {words(moved / took_s)}{unit}/s{left}"


class Narrator:
    """Turns events into lines; the step at work has a live line below them."""

    def __init__(self, out: Console, *, live: bool) -> None:
        """Write to `out`; `live` where it is a terminal that may be redrawn."""
        self._out = out
        self._status: Status | None = out.status("", spinner="dots") if live else None
        self._step: StepStarted | None = None
        self._shown_at = time.monotonic()
        self._pace: Pace | None = None
        self._told = False

    def __call__(self, event: Event) -> None:
        """Tell one event. A terminal that has gone away is no reason to fail: the journal has it all."""
        try:
            self._tell(event)
        except OSError:
            self._out.quiet = True

    def _tell(self, event: Event) -> None:
        if isinstance(event, StepStarted):
            self._step, self._shown_at = event, time.monotonic()
            self._live(event.title)
        elif isinstance(event, Progress):
            self._tell_progress(event)
        elif isinstance(event, Said):
            self._tell_words(event)
        elif isinstance(event, StepDone):
            self._line(Text("✔", "green"), event.title, time_in_words(event.took_s), facts_in_words(event.facts))
        elif isinstance(event, StepFailed):
            self._line(Text("✘", "bold red"), event.title)
            self._out.print(Padding(Text(one_line(event.reason), "red"), (0, 1, 0, _INDENT)))
        elif isinstance(event, Note):
            mark = Text("↓", "bold yellow") if event.is_warning else Text("·", "dim")
            self._note(mark, event.text)

    def _tell_progress(self, event: Progress) -> None:
        now = time.monotonic()
        if self._pace is None or self._pace.of != event.what or event.done < self._pace.done:
            self._pace = Pace(event.what, event.done, now)
        if self._is_time(now):
            self._between(event.what, f"{event.what}: {progress_in_words(event, self._pace, now)}")

    def _tell_words(self, event: Said) -> None:
        if self._is_time(time.monotonic()):
            self._between(event.who, event.line)

    def _is_time(self, now: float) -> bool:
        """Whether something between the start and the end of a step is to be told again."""
        if now - self._shown_at < (_LINE_EVERY_S if self._status is None else _PROGRESS_EVERY_S):
            return False
        self._shown_at = now
        return True

    def _between(self, who: str, text: str) -> None:
        title = self._step.title if self._step else who
        if self._status is None:
            self._note(Text("·", "dim"), f"{title} … {text}")
        else:
            self._live(title, text)

    def _note(self, mark: Text, text: str) -> None:
        """All of it, on as many lines as it takes: what is told besides is told nowhere else."""
        lines = Text(one_line(text)).wrap(self._out, max(20, self._out.width - _INDENT - 1))
        for number, line in enumerate(lines):
            line.rstrip()
            before = Text.assemble(" " * (_INDENT - 2), mark, " ") if number == 0 else Text(" " * _INDENT)
            self._out.print(before + line, no_wrap=True, crop=False)
        self._told = True

    def _line(self, mark: Text, title: str, took: str = "", summary: str = "") -> None:
        """One line, cut at the width: number, mark, title, seconds, summary."""
        number = f"{self._step.number:>3}/{self._step.total}" if self._step else ""
        line = Text.assemble((f" {number:<6} ", "dim"), mark, f" {one_line(title)}")
        if took:
            line.pad_right(max(0, _TITLE_WIDTH - line.cell_len))
            line.append(f"{took:>10}", "dim")
        if summary:
            line.append(f"  {one_line(summary)}", "dim")
        self._out.print(line, no_wrap=True, overflow="ellipsis", crop=True)
        self._told = True

    def _live(self, title: str, text: str = "") -> None:
        """One line that is written over: where not all of it fits, how far it is counts for more than its title."""
        if self._status is None:
            return
        number = f"{self._step.number:>3}/{self._step.total}" if self._step else ""
        shown, said = Text(f"{one_line(title)} …"), Text(one_line(text), "dim")
        room = self._out.width - _SPINNER - len(number) - 1
        left_over = room - said.cell_len - 1
        if not text or left_over >= _SHORTEST_TITLE:
            shown.truncate(left_over if text else room, overflow="ellipsis")
        else:
            shown = Text()
            if said.cell_len > room:
                said = Text("…", "dim") + said[1 - room :]
        self._status.update(Text(" ").join(one for one in (Text(number, "dim"), shown, said) if one))

    def __enter__(self) -> Narrator:
        """Show the live line."""
        if self._status is not None:
            self._status.start()
        return self

    def __exit__(self, *_: object) -> None:
        """Take the live line away."""
        if self._status is not None:
            self._status.stop()
        if self._told:
            self._out.print()


@contextlib.contextmanager
def narrated(choices: Choices) -> Iterator[Narrator]:
    """Tell a run to a person on standard error."""
    out = console(choices, errors=True)
    if choices.as_json:
        out.quiet = True
    with Narrator(out, live=out.is_terminal and not choices.as_json) as narrator:
        yield narrator
