"""Ctrl-C and signals while a run is at work: a request to stop at the next safe point."""

from __future__ import annotations

import contextlib
import signal
import time
from collections.abc import Iterator

_SAME_WITHIN_S = 1.0


class Interruption:
    """Remembers Ctrl-C and SIGTERM, for the runner to stop at the next safe point."""

    def __init__(self) -> None:
        """Nobody has asked yet."""
        self.asked, self._asked_at = 0, 0.0

    def __call__(self) -> int:
        """How often somebody has asked."""
        return self.asked

    def ask(self) -> None:
        """Count a request; what follows at once is the same one, of a hand that trembles or a key that is held down."""
        if not self.asked or time.monotonic() - self._asked_at > _SAME_WITHIN_S:
            self.asked += 1
        self._asked_at = time.monotonic()


@contextlib.contextmanager
def interruptible() -> Iterator[Interruption]:
    """Turn Ctrl-C and SIGTERM into a request for the length of a block.

    A connection that breaks off (SIGHUP) is not such a request: the run goes on, and the site is not left closed.
    """
    request = Interruption()

    def ask(_number: int, _frame: object) -> None:
        request.ask()

    before = {number: signal.signal(number, ask) for number in (signal.SIGINT, signal.SIGTERM)}
    # Heard and passed over, not ignored: services that are started meanwhile would inherit an ignored signal, and one
    # that reads its settings again at SIGHUP would never do so. Dumps and loads have sessions of their own.
    before[signal.SIGHUP] = signal.signal(signal.SIGHUP, lambda *_: None)
    try:
        yield request
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
