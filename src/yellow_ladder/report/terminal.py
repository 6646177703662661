"""The terminal that results and progress are written to."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any, TextIO

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from yellow_ladder.words import harmless


class Trimmed:
    """Passes text on to a file without blanks at the ends of lines: there is no screen that they would fill."""

    def __init__(self, stream: TextIO) -> None:
        """Write to `stream`."""
        self._stream = stream

    def write(self, text: str) -> int:
        """Write text."""
        return self._stream.write(re.sub(r" +(?=\n)", "", text))

    def __getattr__(self, name: str) -> Any:
        """Everything else is the file's."""
        return getattr(self._stream, name)


class SteadyConsole(Console):
    """A console that falls silent when nobody reads it any more, instead of ending the program at work."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Render, and write out whatever could steer the terminal and is not this console's own."""
        for segment in super().render(renderable, options):
            yield segment if segment.control else Segment(harmless(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """Say nothing from now on."""
        self.quiet = True
