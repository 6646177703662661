"""The terminal that results and progress are written to."""

from __future__ import annotations

from rich.console import Console


class SteadyConsole(Console):
    """A console that falls silent when nobody reads it any more, instead of ending the program at work."""

    def on_broken_pipe(self) -> None:
        """Say nothing from now on."""
        self.quiet = True
