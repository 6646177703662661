"""Waiting until a service answers over HTTP."""

from __future__ import annotations

import time
import urllib.error
import urllib.request
from collections.abc import Callable

from yellow_ladder.services.port import not_ready
from yellow_ladder.site.service_records import Ready

_PAUSE_S = 0.02
_LONGEST_PAUSE_S = 0.5


def wait_until_ready(name: str, ready: Ready | None, is_alive: Callable[[], bool], log: str) -> None:
    """Ask the ready URL until it answers with the status wanted; raises AnswerNo past the limit or when it died."""
    if ready is None:
        return
    end = time.monotonic() + ready.within_s
    pause, seen = _PAUSE_S, "no answer"
    remedy = f"read its log {log}" if log else "read its log"
    while time.monotonic() < end:
        seen = answer_of(ready.url, min(5.0, ready.within_s))
        if seen == str(ready.status):
            return
        if not is_alive():
            raise not_ready(name, "its process ended", remedy)
        time.sleep(pause)
        pause = min(pause * 1.3, _LONGEST_PAUSE_S)
    raise not_ready(name, f"{ready.url} gave {seen} for {ready.within_s:g} s, {ready.status} is wanted", remedy)


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
