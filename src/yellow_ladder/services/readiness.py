"""How it is known that a service is ready: an object that knows its question, and the waiting for its answer."""

from __future__ import annotations

import os
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from yellow_ladder import nolinks
from yellow_ladder.masking import masked_line
from yellow_ladder.services.port import not_ready
from yellow_ladder.site.service_records import PageReady

_PAUSE_S = 0.02
_LONGEST_PAUSE_S = 0.5
_ONE_ANSWER_WITHIN_S = 5.0
_TAIL_BYTES, _LAST_LINES, _LONGEST_LINE = 8_192, 4, 160


class Readiness(Protocol):
    """One way to know that a service is ready."""

    @property
    def within_s(self) -> float:
        """For how long it may be asked."""

    @property
    def question(self) -> str:
        """What is asked, for people: an address, a port, a command."""

    @property
    def wanted(self) -> str:
        """The answer that says that it is ready."""

    def ask(self) -> str:
        """Ask once; the answer, or why there was none. Takes a few seconds at most."""


@dataclass(frozen=True, slots=True)
class PageReadiness:
    """A page that answers with a status over HTTP."""

    record: PageReady

    @property
    def within_s(self) -> float:
        """The site file's limit."""
        return self.record.within_s

    @property
    def question(self) -> str:
        """The page's address."""
        return self.record.url

    @property
    def wanted(self) -> str:
        """The status."""
        return str(self.record.status)

    def ask(self) -> str:
        """The HTTP status as text, or why there was none."""
        return answer_of(self.record.url, min(_ONE_ANSWER_WITHIN_S, self.within_s))


def readiness_of(record: PageReady | None) -> Readiness | None:
    """The way that the site file names; None where it names none, and a service counts as ready when it runs."""
    return PageReadiness(record) if record is not None else None


def wait_until_ready(name: str, readiness: Readiness | None, is_alive: Callable[[], bool], log: str) -> None:
    """Ask until the answer is the one wanted; raises AnswerNo past the limit or when the service died."""
    if readiness is None:
        return
    end = time.monotonic() + readiness.within_s
    pause, seen = _PAUSE_S, "no answer"
    remedy = f"read its log {log}" if log else "read its log"
    while time.monotonic() < end:
        seen = readiness.ask()
        if seen == readiness.wanted:
            return
        if not is_alive():
            raise not_ready(name, f"its process ended{last_words(log)}", remedy)
        time.sleep(pause)
        pause = min(pause * 1.3, _LONGEST_PAUSE_S)
    why = f"{readiness.question} gave {seen} for {readiness.within_s:g} s, {readiness.wanted} is wanted"
    raise not_ready(name, why + last_words(log), remedy)


def last_words(log: str) -> str:
    """The end of a log, for a message: by the time that it is read, the file may lie elsewhere. Secrets are masked."""
    try:
        with os.fdopen(nolinks.open_regular(nolinks.trusted(log)), "rb") as stream:
            stream.seek(max(0, os.fstat(stream.fileno()).st_size - _TAIL_BYTES))
            text = stream.read(_TAIL_BYTES).decode(errors="replace")
    except (OSError, ValueError):
        return ""
    lines = [masked_line(line.strip())[:_LONGEST_LINE] for line in text.splitlines() if line.strip()][-_LAST_LINES:]
    return f"; its log ends: {' / '.join(lines)}" if lines else ""


def answer_of(url: str, timeout_s: float) -> str:
    """The HTTP status as text, or why there was none."""
    # urllib and not the full client: this is asked in a tight loop while the site is down, and loads in no time.
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    try:
        with opener.open(url, timeout=timeout_s) as response:
            return str(response.status)
    except urllib.error.HTTPError as answer:
        with answer:
            return str(answer.code)
    except OSError as fault:
        return f"no answer ({getattr(fault, 'reason', fault)})"
