"""The common look: headings, tables, marks for how things stand, the next command to type."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import Any

from rich.box import Box
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from yellow_ladder.words import one_line

ACCENT, GOOD, CAREFUL, BAD, FAINT = "bold yellow", "green", "yellow", "bold red", "dim"
_RULED = Box("    \n    \n ── \n    \n    \n    \n    \n    \n")


class Page:
    """Renderables one under the other, indented by one, with air between blocks."""

    def __init__(self) -> None:
        """Start empty."""
        self._blocks: list[RenderableType] = []

    def add(self, *blocks: RenderableType) -> Page:
        """Add blocks."""
        self._blocks += blocks
        return self

    def __rich_console__(self, _console: Console, _options: ConsoleOptions) -> RenderResult:
        """Give the blocks to rich."""
        for block in self._blocks:
            yield Padding(block, (0, 1, 0 if isinstance(block, _Heading) else 1, 1))


def title(*parts: str) -> Text:
    """The first line: what this is about."""
    text = Text(one_line(parts[0]), style=ACCENT)
    for part in parts[1:]:
        text.append(" · ", style=FAINT).append(one_line(part), style="not bold default")
    return text


class _Heading(Text):
    """Stands right above the block that follows it."""


def heading(words: str) -> Text:
    """A heading inside a page."""
    return _Heading(one_line(words), style="bold")


class _PlainTable(Table):
    """A table whose cells are shown as they are: a path with brackets in it is no markup."""

    def add_row(self, *cells: RenderableType | None, **how: Any) -> None:
        """Add a row."""
        super().add_row(*map(_plain, cells), **how)


def _plain(cell: RenderableType | None) -> RenderableType | None:
    return Text(one_line(cell)) if isinstance(cell, str) else cell


def table(headers: Sequence[str], *, right: Sequence[int] = (), fold: Sequence[int] = ()) -> Table:
    """A ruled table; columns in `right` hold numbers, columns in `fold` may take several lines.

    Beside numbers, names take several lines where they must: a number that is cut is another number.
    """
    fold = [*fold, 0] if right and 0 not in right else fold
    made = _PlainTable(box=_RULED, pad_edge=False, header_style=FAINT, show_edge=False)
    for place, header in enumerate(headers):
        made.add_column(
            header,
            justify="right" if place in right else "left",
            overflow="fold",
            no_wrap=place not in fold,
        )
    return made


def labelled(rows: Iterable[tuple[str, RenderableType]]) -> Table:
    """Names on the left, what is known on the right."""
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style=FAINT, no_wrap=True)
    grid.add_column(overflow="fold")
    for name, value in rows:
        grid.add_row(_plain(name), _plain(value))
    return grid


def verdict(words: str, *, good: bool) -> Text:
    """The one sentence that matters."""
    return Text(("✔ " if good else "✘ ") + one_line(words), style=GOOD + " bold" if good else BAD)


# What every command of this call has to name, so that the next one can be typed as it is told.
_named: ContextVar[str] = ContextVar("named", default="")


def name_site(file: Path) -> None:
    """Commands are told with this site file from now on."""
    _named.set(f" --site {shlex.quote(str(file))}")


def next_command(*lines: tuple[str, str]) -> Table:
    """What to type next, and what it does."""
    grid = Table.grid(padding=(0, 2))
    grid.add_column(style=FAINT, no_wrap=True)
    grid.add_column(style="bold cyan", no_wrap=not _named.get(), overflow="fold")
    grid.add_column(overflow="fold")
    for place, (command, does) in enumerate(lines):
        named = _named.get() if command.startswith("yl ") and "--site" not in command else ""
        grid.add_row("Next" if place == 0 else "or", Text(command + named), does)
    return grid


def bullet_list(items: Iterable[RenderableType], mark: str = "·", style: str = FAINT) -> Table:
    """Items one under the other, each behind its mark."""
    grid = Table.grid(padding=(0, 1))
    grid.add_column(style=style, no_wrap=True)
    grid.add_column(overflow="fold")
    for item in items:
        grid.add_row(mark, _plain(item))
    return grid
