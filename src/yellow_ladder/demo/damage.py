"""What an upgrade can do to data and nobody sees on the evening itself: done on purpose, so that it can be looked for.

Each kind of damage to values is a function of the old value, so that it is the same on every engine.
"""

from __future__ import annotations

import html
import json
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any


@dataclass(frozen=True, slots=True)
class ValueDamage:
    """Values of a column changed: of which role the column is, how, in how many rows, and the words that tell it."""

    kind: str
    role: str
    change: Callable[[Any], Any]
    words: str
    rows: int = 1


def _bare(text: str) -> str:
    return "".join(one for one in unicodedata.normalize("NFD", text) if not unicodedata.combining(one))


def _moved(**by: float) -> Callable[[str], str]:
    return lambda text: str(datetime.fromisoformat(text) + timedelta(**by))


def _turned(text: str) -> str:
    moment = datetime.fromisoformat(text)
    return str(moment.replace(month=moment.day, day=moment.month))


def _at(**parts: int) -> Callable[[str], str]:
    return lambda text: str(datetime.fromisoformat(text).replace(**parts))  # type: ignore[arg-type]


def _other_json(text: str) -> str:
    return json.dumps({**json.loads(text), "dogs": 99})


def _json_again(text: str) -> str:
    return json.dumps(dict(reversed(json.loads(text).items())), separators=(",", ":"))


VALUES: tuple[ValueDamage, ...] = (
    ValueDamage("cut", "text", lambda v: v[:6], "cut at 6 characters"),
    ValueDamage("cut-everywhere", "text", lambda v: v[:7], "cut at 7 characters", rows=9),
    ValueDamage("cut-beginning", "text", lambda v: v[2:], "cut at its beginning"),
    ValueDamage("case", "text", lambda v: v.upper(), "letter case"),
    ValueDamage("accents", "text", _bare, "accents lost"),
    ValueDamage("question-marks", "text", lambda v: v.encode("ascii", "replace").decode(), "question marks"),
    ValueDamage("wrong-encoding", "text", lambda v: v.encode().decode("cp1252", "replace"), "wrong encoding"),
    ValueDamage("other-encoding", "text", lambda v: v.encode().decode("latin-1"), "wrong encoding"),
    ValueDamage("normal-form", "text", lambda v: unicodedata.normalize("NFD", v), "normal form"),
    ValueDamage("blank-at-end", "text", lambda v: v + " ", "blanks at the end"),
    ValueDamage("blank-at-beginning", "text", lambda v: " " + v, "blanks around"),
    ValueDamage("tab-at-end", "text", lambda v: v + "\t", "blanks at the end"),
    ValueDamage("blanks-inside", "text", lambda v: v.replace(" ", "  "), "blanks inside"),
    ValueDamage("emptied", "text", lambda _: "", "empty instead of a value"),
    ValueDamage("html", "text", html.escape, "written for HTML"),
    ValueDamage("quotes-doubled", "text", lambda v: v.replace("'", "''"), "doubled"),
    ValueDamage("backslashes", "text", lambda v: v.replace("'", "\\'"), "doubled"),
    ValueDamage("appended", "text", lambda v: v + " (old)", "put behind"),
    ValueDamage("prepended", "text", lambda v: "Dear " + v, "put before"),
    ValueDamage("other-text", "text", lambda _: "Somebody Else", "differ"),
    ValueDamage("null", "note", lambda _: None, "NULL instead of a value"),
    ValueDamage("line-ends", "note", lambda v: v.replace("\n", "\r\n"), "line ends"),
    ValueDamage("line-ends-back", "windows", lambda v: v.replace("\r\n", "\n"), "line ends"),
    ValueDamage("blanks-cut", "padded", lambda v: v.rstrip(), "blanks at the end lost"),
    ValueDamage("null-for-empty", "blank", lambda _: None, "NULL instead of empty"),
    ValueDamage("empty-for-null", "nothing", lambda _: "", "empty instead of NULL"),
    ValueDamage("value-for-null", "nothing", lambda _: "none", "a value instead of NULL"),
    ValueDamage("leading-zeros", "code", lambda v: v.lstrip("0"), "leading zeros lost"),
    ValueDamage("trailing-zeros", "figures", lambda v: v.rstrip("0"), "other digits"),
    ValueDamage("rounded", "money", lambda v: round(v), "rounded"),
    ValueDamage("rounded-once", "money", lambda v: round(v, 1), "rounded to 1 place"),
    ValueDamage("sign", "money", lambda v: -v, "sign"),
    ValueDamage("zero", "money", lambda _: 0, "0 instead of a number"),
    ValueDamage("hundredfold", "money", lambda v: round(v * 100, 2), "multiplied by 100"),
    ValueDamage("hundredth", "count", lambda v: v // 100, "multiplied by 0.01"),
    ValueDamage("limit", "count", lambda _: 32767, "largest number of its type"),
    ValueDamage("one-more", "count", lambda v: v + 1, "another number|rounded"),
    ValueDamage("fewer-digits", "weight", lambda v: float(f"{v:.6g}"), "rounded"),
    ValueDamage("hour", "moment", _moved(hours=1), r"shifted by \+1 hours"),
    ValueDamage("hours-everywhere", "moment", _moved(hours=-2), "shifted by -2 hours", rows=9),
    ValueDamage("half-hour", "moment", _moved(minutes=330), r"shifted by \+5.5 hours"),
    ValueDamage("seconds", "moment", _at(second=0, microsecond=0), "seconds lost"),
    ValueDamage("fraction", "fine", _at(microsecond=0), "fraction of a second lost"),
    ValueDamage("time-of-day", "moment", _at(hour=0, minute=0, second=0, microsecond=0), "time of day lost"),
    ValueDamage("day-and-month", "moment", _turned, "day and month"),
    ValueDamage("next-day", "moment", _moved(days=3), r"shifted by \+3 days"),
    ValueDamage("century", "moment", _at(year=1926), "shifted by -100 years"),
    ValueDamage("opposite", "truth", lambda v: not v, "the opposite"),
    ValueDamage("other-json", "json", _other_json, "other JSON"),
    ValueDamage("json-again", "json", _json_again, "same JSON, written otherwise"),
    ValueDamage("bytes-cut", "bytes", lambda v: v[:4], "cut at 4 bytes|cut at 10 char"),
    ValueDamage("bytes-emptied", "bytes", lambda _: b"", "empty instead of a value|cut at 2 char"),
    ValueDamage("bytes-changed", "bytes", lambda v: bytes([v[0] ^ 1]) + v[1:], "differ"),
)
