"""The terminal that results and progress are written to."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment

from yellow_ladder.words import harmless


class SteadyConsole(Console):
    """A console that falls silent when nobody reads it any more, instead of ending the program at work."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Render, and write out whatever could steer the terminal and is not this console's own."""
        for segment in super().render(renderable, options):
            yield segment if segment.control else Segment(harmless(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """Say nothing from now on."""
        self.quiet = True
