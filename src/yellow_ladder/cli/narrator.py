"""Shows a run as it goes: a live line in a terminal, plain lines elsewhere, nothing for JSON."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator

from rich.console import Console
from rich.markup import escape
from rich.padding import Padding
from rich.status import Status
from rich.text import Text

from yellow_ladder.cli.base import Choices, console
from yellow_ladder.events import Event, Note, Progress, Said, StepDone, StepFailed, StepStarted, Unit
from yellow_ladder.words import bytes_in_words, facts_in_words, one_line, time_in_words

_PROGRESS_EVERY_S = 0.1
_INDENT, _TITLE_WIDTH = 10, 60


class Narrator:
    """Turns events into lines; the step at work has a live line below them."""

    def __init__(self, out: Console, *, live: bool) -> None:
        """Write to `out`; `live` where it is a terminal that may be redrawn."""
        self._out = out
        self._status: Status | None = out.status("", spinner="dots") if live else None
        self._step: StepStarted | None = None
        self._shown_at = 0.0
        self._told = False

    def __call__(self, event: Event) -> None:
        """Tell one event. A terminal that has gone away is no reason to fail: the journal has it all."""
        try:
            self._tell(event)
        except OSError:
            self._out.quiet = True

    def _tell(self, event: Event) -> None:
        if isinstance(event, StepStarted):
            self._step = event
            self._live(f"{escape(event.title)} …")
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
        if self._status is None or time.monotonic() - self._shown_at < _PROGRESS_EVERY_S:
            return
        self._shown_at = time.monotonic()
        words = bytes_in_words if event.unit is Unit.BYTES else (lambda count: f"{count:,.0f}")
        total = f" of {words(event.total)}" if event.total else ""
        unit = "" if event.unit is Unit.BYTES else f" {event.unit}"
        title = self._step.title if self._step else event.what
        self._live(f"{escape(title)} … [dim]{escape(event.what)}: {words(event.done)}{total}{unit}[/]")

    def _tell_words(self, event: Said) -> None:
        if self._status is None or time.monotonic() - self._shown_at < _PROGRESS_EVERY_S:
            return
        self._shown_at = time.monotonic()
        title = self._step.title if self._step else event.who
        self._live(f"{escape(title)} … [dim]{escape(one_line(event.line))}[/]")

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

    def _live(self, markup: str) -> None:
        if self._status is not None:
            number = f"{self._step.number:>3}/{self._step.total}" if self._step else ""
            self._status.update(f"[dim]{number}[/] {markup}")

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
