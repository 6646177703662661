"""What an upgrade can do to data and nobody sees on the evening itself: done on purpose, so that it can be looked for.

Each kind of damage to values is a function of the old value, so that it is the same on every engine.
"""

from __future__ import annotations

import html
import json
import unicodedata
from base64 import b64encode
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import quote_plus


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


def _later_month(text: str) -> str:
    moment = datetime.fromisoformat(text)
    return str(moment.replace(month=moment.month % 12 + 1, year=moment.year + moment.month // 12))


def _spelt_out(text: str) -> str:
    for letter, instead in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("ø", "oe"), ("å", "aa"), ("æ", "ae")):
        text = text.replace(letter, instead).replace(letter.upper(), instead.capitalize())
    return text


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
    ValueDamage("transliterated", "text", _spelt_out, "letters written out"),
    ValueDamage("letters-lost", "text", lambda v: v.encode("ascii", "ignore").decode(), "letters beyond ASCII lost"),
    ValueDamage("for-a-url", "text", quote_plus, "written for a URL"),
    ValueDamage("base64", "text", lambda v: b64encode(v.encode()).decode(), "as base64"),
    ValueDamage("quotes-curled", "text", lambda v: v.replace("'", "\u2019"), "quotation marks"),
    ValueDamage("invisible", "text", lambda v: "\ufeff" + v, "invisible characters came"),
    ValueDamage("words-turned", "text", lambda v: ", ".join(reversed(v.split(" ", 1))), "another order"),
    ValueDamage("breaks-for-pages", "note", lambda v: v.replace("\n", "<br>"), "line breaks written as <br>"),
    ValueDamage("breaks-spelt", "note", lambda v: v.replace("\n", "\\n"), "line breaks written as backslash"),
    ValueDamage("null", "note", lambda _: None, "NULL instead of a value"),
    ValueDamage("line-ends", "note", lambda v: v.replace("\n", "\r\n"), "line ends"),
    ValueDamage("line-ends-back", "windows", lambda v: v.replace("\r\n", "\n"), "line ends"),
    ValueDamage("blanks-cut", "padded", lambda v: v.rstrip(), "blanks at the end lost"),
    ValueDamage("null-for-empty", "blank", lambda _: None, "NULL instead of empty"),
    ValueDamage("empty-for-null", "nothing", lambda _: "", "empty instead of NULL"),
    ValueDamage("value-for-null", "nothing", lambda _: "none", "a value instead of NULL"),
    ValueDamage("leading-zeros", "code", lambda v: v.lstrip("0"), "leading zeros lost"),
    ValueDamage("trailing-zeros", "figures", lambda v: v.rstrip("0"), "other digits"),
    ValueDamage("comma", "figures", lambda v: v.replace(".", ","), "point and comma"),
    ValueDamage("cut-to-whole", "money", int, "rounded"),
    ValueDamage("null-number", "money", lambda _: None, "NULL instead of a value"),
    ValueDamage("rounded", "money", lambda v: round(v), "rounded"),
    ValueDamage("rounded-once", "money", lambda v: round(v, 1), "rounded to 1 place"),
    ValueDamage("sign", "money", lambda v: -v, "sign"),
    ValueDamage("zero", "money", lambda _: 0, "0 instead of a number"),
    ValueDamage("hundredfold", "money", lambda v: round(v * 100, 2), "multiplied by 100"),
    ValueDamage("hundredth", "count", lambda v: v // 100, "multiplied by 0.01"),
    ValueDamage("limit", "count", lambda _: 32767, "largest number of its type"),
    ValueDamage("one-more", "count", lambda v: v + 1, "another number|rounded"),
    ValueDamage("wrapped", "count", lambda v: v - 2**16, "wrapped around at 65,536"),
    ValueDamage("thousandfold", "weight", lambda v: v * 1000, "multiplied by 1000|another number"),
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
    ValueDamage("half-a-day", "moment", _moved(hours=-12), "shifted by -12 hours"),
    ValueDamage("minutes", "moment", _at(minute=0, second=0, microsecond=0), "minutes lost"),
    ValueDamage("next-month", "moment", _later_month, r"shifted by \+1 months"),
    ValueDamage("epoch", "moment", lambda _: "1970-01-01 00:00:00", "beginning of a calendar"),
    ValueDamage("null-moment", "moment", lambda _: None, "NULL instead of a value"),
    ValueDamage("null-truth", "truth", lambda _: None, "NULL instead of a value"),
    ValueDamage("opposite", "truth", lambda v: not v, "the opposite"),
    ValueDamage("other-json", "json", _other_json, "other JSON"),
    ValueDamage("json-key-lost", "json", lambda v: json.dumps({"cat": json.loads(v)["cat"]}), "other JSON"),
    ValueDamage("json-twice", "json", json.dumps, "a text of JSON"),
    ValueDamage("json-again", "json", _json_again, "same JSON, written otherwise"),
    ValueDamage("bytes-cut", "bytes", lambda v: v[:4], "cut at 4 bytes|cut at 10 char"),
    ValueDamage("bytes-behind", "bytes", lambda v: v + b"\n", "put behind"),
    ValueDamage("bytes-as-text", "bytes", b64encode, "as base64|differ"),
    ValueDamage("bytes-emptied", "bytes", lambda _: b"", "empty instead of a value|cut at 2 char"),
    ValueDamage("bytes-changed", "bytes", lambda v: bytes([v[0] ^ 1]) + v[1:], "differ"),
)
