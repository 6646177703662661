"""Numbers, sizes and moments, written in one way wherever people read them; and moments as files hold them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any


def bytes_in_words(count: float) -> str:
    """`1.4 MiB`; binary units, three significant digits at most."""
    for unit in ("B", "KiB", "MiB", "GiB", "TiB"):
        if abs(count) < 1024 or unit == "TiB":
            return f"{count:.0f} {unit}" if count >= 100 else f"{count:.1f} {unit}".replace(".0 ", " ")
        count /= 1024
    raise AssertionError("the loop ends with the largest unit")


def time_in_words(seconds: float) -> str:
    """`34 ms`, `1.3 s`, `12 s`, `3 min 20 s`, `2 h 05 min`."""
    if seconds < 1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s"
    return f"{minutes // 60} h {minutes % 60:02d} min"


def count_of(number: int, noun: str, plural: str = "") -> str:
    """`1 row`, `2,000 rows`."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def some_of(items: Iterable[str], most: int = 5) -> str:
    """The first few, and how many more there are."""
    listed = list(items)
    more = f" and {len(listed) - most:,} more" if len(listed) > most else ""
    return ", ".join(listed[:most]) + more


# Control characters of both sets, what turns the direction of writing, and what is no character at all: in a name or a
# message from outside they could steer a terminal or make a line look like another one.
_STEERING = re.compile("[\x00-\x09\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")


# What colours a terminal, moves its cursor, or gives its window a name.
_COLOURS = re.compile(r"\x1b\[[0-?]*[ -/]*[@-~]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)")


def uncoloured(text: str) -> str:
    """What a program has said, without what it tells a terminal beside that."""
    return _COLOURS.sub("", text)


def harmless(text: str) -> str:
    """A text from outside with everything but line feeds written out that could steer a terminal: `\\x1b`."""
    return _STEERING.sub(lambda found: found[0].encode("unicode_escape").decode(), text)


def one_line(text: str) -> str:
    """The same, and on one line: a line feed in a name must not look like a line of ours."""
    return harmless(text).replace("\n", "↵ ")


def stamp_of(moment: datetime) -> str:
    """A UTC moment as files hold it: `2026-11-23T08:12:30Z`."""
    return f"{moment:%Y-%m-%dT%H:%M:%SZ}"


def moment_of(stamp: str) -> datetime:
    """The moment of a stamp; raises ValueError where the text is not a stamp."""
    return datetime.fromisoformat(stamp.replace("Z", "+00:00"))


def moment_in_words(moment: datetime | str) -> str:
    """A UTC moment, or a stamp of one, as `2026-11-23 08:12 UTC`; nothing for no stamp."""
    stamp = moment if isinstance(moment, str) else stamp_of(moment)
    return stamp.replace("T", " ")[:16] + " UTC" if stamp else ""


def day_in_words(moment: datetime | str) -> str:
    """The UTC day of a moment or a stamp: `2026-11-23`."""
    return (moment if isinstance(moment, str) else stamp_of(moment))[:10]


def facts_in_words(facts: Mapping[str, Any]) -> str:
    """What a step learnt, in one line: its own summary, or its counts and sizes."""
    if "summary" in facts:
        return str(facts["summary"])
    nouns = {"rows": "row", "values": "value", "files": "file"}
    parts = [count_of(int(facts[key]), noun) for key, noun in nouns.items() if key in facts]
    if "migrations" in facts:
        parts.append(", ".join(facts["migrations"]))
    if "bytes" in facts:
        parts.append(bytes_in_words(facts["bytes"]))
    if "packed_bytes" in facts:
        parts.append(f"packed to {bytes_in_words(facts['packed_bytes'])}")
    if "versions" in facts:
        parts.append(" · ".join(facts["versions"]))
    return ", ".join(parts)
