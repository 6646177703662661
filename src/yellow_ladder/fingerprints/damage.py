"""Tells in words what happened to values: cut, rounded, in another encoding, shifted by hours.

A pure function of old and new values. Engines give numbers and times as numbers or as text; both are read here.
"""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from yellow_ladder.fingerprints.meanings import FALSE_WORDS, TRUE_WORDS, moment_of, text_of
from yellow_ladder.fingerprints.spellings import coded, encoded, escaped, replaced
from yellow_ladder.words import count_of

OTHER = "another value"
_ENCODINGS = ("cp1252", "latin-1", "cp437", "cp850")
_LIMITS = {127, 255, 32767, 65535, 8388607, 16777215, 2147483647, 4294967295, 2**63 - 1, 2**64 - 1}
_FURTHEST_H = 26
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_FRACTION = re.compile(r"\.(\d+)")
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")


def what_happened(old: Any, new: Any) -> str:
    """The kind of change from one value to another, in a few words; `OTHER` where it is none that is known."""
    if old is None or new is None:
        return _about_null(old, new)
    for tell in _TELLERS:
        found = tell(old, new)
        if found:
            return found
    return OTHER


def commonest(pairs: Sequence[tuple[Any, Any]]) -> str:
    """What happened to most of these values; two kinds where neither has nine of ten."""
    counts = Counter(what_happened(old, new) for old, new in pairs).most_common(2)
    if not counts:
        return OTHER
    if all(kind.startswith("cut at ") for kind, _ in counts) and len(counts) > 1:
        sizes = {len(str(new).encode("utf-8", "surrogatepass")) for _, new in pairs}
        return f"cut at {sizes.pop()} bytes" if len(sizes) == 1 else "cut"
    if len(counts) == 1 or counts[0][1] * 10 >= 9 * len(pairs):
        return counts[0][0]
    return f"{counts[0][0]}, or {counts[1][0]}"


def are_swapped(pairs: Sequence[tuple[Any, Any]]) -> bool:
    """Whether the values only changed places: each that is new was there before, as often."""
    return len(pairs) > 1 and Counter(map(_counted, (o for o, _ in pairs))) == Counter(
        map(_counted, (n for _, n in pairs))
    )


def _counted(value: Any) -> tuple[str, Any]:
    return type(value).__name__, value


def _about_null(old: Any, new: Any) -> str:
    if old is None:
        return "empty instead of NULL" if new in ("", b"") else "a value instead of NULL"
    return "NULL instead of empty" if old in ("", b"") else "NULL instead of a value"


def _texts(old: Any, new: Any) -> tuple[str, str] | None:
    return (old, new) if isinstance(old, str) and isinstance(new, str) else None


def _number(value: Any) -> Decimal | None:
    if isinstance(value, bool):
        return Decimal(int(value))
    if isinstance(value, str) and not _NUMBER.match(value):
        return None
    if not isinstance(value, int | float | Decimal | str):
        return None
    try:
        found = Decimal(value) if not isinstance(value, float) else Decimal(repr(value))
    except InvalidOperation:
        return None
    return found if found.is_finite() else None


def _by_type(old: Any, new: Any) -> str:
    """1 and '1', 5 and 5.0: only the type is another, or how it is written."""
    if type(old) is not type(new) and text_of(old) == text_of(new):
        return "of another type"
    first, second = _number(old), _number(new)
    if first is not None and first == second:
        if isinstance(old, str) and isinstance(new, str):
            zeros = len(old) - len(old.lstrip("0"))
            return "leading zeros lost" if zeros > len(new) - len(new.lstrip("0")) else "the same number, other digits"
        return "of another type"
    return ""


def _truth(old: Any, new: Any) -> str:
    first, second = str(old).lower(), str(new).lower()
    there, back = first in TRUE_WORDS and second in FALSE_WORDS, first in FALSE_WORDS and second in TRUE_WORDS
    return "the opposite" if there or back else ""


def _numbers(old: Any, new: Any) -> str:
    first, second = _number(old), _number(new)
    if first is None or second is None:
        return ""
    if first == -second:
        return "sign lost or turned"
    if second in _LIMITS and first - second >= 1:
        return f"cut at the largest number of its type, {second}"
    if second == 0:
        return "0 instead of a number"
    gap = abs(first - second)
    places = _places(second)
    if places < _places(first) and gap < Decimal(1).scaleb(-places):
        return f"rounded to {count_of(places, 'place')}" if places else "rounded to a whole number"
    if gap and abs(first) > 0 and gap / abs(first) < Decimal("1e-5") and _digits(second) < _digits(first):
        return "rounded: fewer digits than before"
    if first and (ratio := second / first) and abs(ratio).normalize() in _POWERS:
        return f"multiplied by {ratio.normalize():f}"
    turns = _turns(int(first), int(second)) if not _places(first) and not _places(second) else 0
    return f"wrapped around at {turns:,}" if turns else "another number"


def _turns(old: int, new: int) -> int:
    """At which power of two a whole number has begun again; 0 where it has not."""
    return next((2**bits for bits in (8, 16, 32, 64) if new in (old % 2**bits, old % 2**bits - 2**bits)), 0)


_POWERS = {Decimal(10) ** power for power in range(-9, 10) if power}


def _places(number: Decimal) -> int:
    exponent = number.normalize().as_tuple().exponent
    return max(0, -exponent) if isinstance(exponent, int) else 0


def _digits(number: Decimal) -> int:
    return len(number.normalize().as_tuple().digits)


def _moment(value: Any) -> tuple[datetime, int] | None:
    """A point in time that is written as one, and the digits of its fraction of a second."""
    moment = moment_of(value) if isinstance(value, str) and _DAY.match(value) else None
    if moment is None:
        return None
    fraction = _FRACTION.search(value)
    return moment, len(fraction.group(1).rstrip("0")) if fraction else 0


def _times(old: Any, new: Any) -> str:
    first, second = _moment(old), _moment(new)
    if first is None or second is None:
        return ""
    (was, digits), (now, fewer) = first, second
    if now in _BEGINNINGS:
        return "the beginning of a calendar instead of a moment"
    if was == now:
        return "the same moment, written otherwise" if digits == fewer else "fraction of a second lost"
    for words, cut in _UNITS:
        if now == cut(was):
            return words
    if fewer < digits and abs(now - was) < timedelta(seconds=1):
        return "fraction of a second lost"
    if was.day == now.month and was.month == now.day and was.year == now.year:
        return "day and month changed places"
    seconds = (now - was).total_seconds()
    if seconds % 900 == 0 and abs(seconds) <= _FURTHEST_H * 3600:
        return f"shifted by {seconds / 3600:+g} hours"
    return _by_days(was, now)


def _by_days(was: datetime, now: datetime) -> str:
    months = (now.year - was.year) * 12 + now.month - was.month
    if months and (was.day, was.timetz()) == (now.day, now.timetz()):
        return f"shifted by {months:+d} months" if months % 12 else f"shifted by {months // 12:+d} years"
    seconds = (now - was).total_seconds()
    return f"shifted by {int(seconds // 86400):+d} days" if seconds % 86400 == 0 else "another time"


# What an empty or unreadable moment becomes: the first second of counted time, and the first days that types know.
_BEGINNINGS = {datetime(year, 1, 1, tzinfo=UTC) for year in (1, 1000, 1900, 1970)}
_UNITS: tuple[tuple[str, Callable[[datetime], datetime]], ...] = (
    ("fraction of a second lost", lambda one: one.replace(microsecond=0)),
    ("seconds lost", lambda one: one.replace(microsecond=0, second=0)),
    ("minutes lost", lambda one: one.replace(microsecond=0, second=0, minute=0)),
    ("time of day lost", lambda one: one.replace(microsecond=0, second=0, minute=0, hour=0)),
)


def _bytes(old: Any, new: Any) -> str:
    if not (isinstance(old, bytes) and isinstance(new, bytes)):
        return ""
    if old.startswith(new):
        return f"cut at {len(new)} bytes" if new else "empty instead of a value"
    if new.startswith(old):
        return "something was put behind it"
    name = coded(old, new.decode("latin-1"))
    return f"encoded once more, as {name}" if name else ""


def _blanks(old: str, new: str) -> str:
    if not new:
        return "empty instead of a value"
    if old.replace("\r\n", "\n") == new.replace("\r\n", "\n"):
        return "other line ends"
    if old.rstrip() == new.rstrip():
        return "blanks at the end lost" if len(new) < len(old) else "blanks at the end"
    if old.strip() == new.strip():
        return "blanks around it lost" if len(new) < len(old) else "blanks around it"
    if old.split() == new.split():
        return "other blanks inside"
    return ""


def _cut(old: str, new: str) -> str:
    if old.startswith(new):
        return f"cut at {len(new)} characters"
    if new.startswith(old):
        return "something was put behind it"
    return "cut at its beginning" if old.endswith(new) else "something was put before it" if new.endswith(old) else ""


def _letters(old: str, new: str) -> str:
    if old.casefold() == new.casefold():
        return "letter case"
    for form in ("NFC", "NFD", "NFKC", "NFKD"):
        if unicodedata.normalize(form, old) == new or unicodedata.normalize(form, new) == old:
            return "another normal form of Unicode"
    if _bare(old) == _bare(new):
        return "accents lost" if _bare(new) == new else "accents"
    return ""


def _bare(text: str) -> str:
    return "".join(one for one in unicodedata.normalize("NFD", text) if not unicodedata.combining(one))


def _encoding(old: str, new: str) -> str:
    if _is_masked(old, new):
        return "letters turned into question marks"
    for encoding in _ENCODINGS:
        for first, second, words in ((old, new, "wrong encoding: read as"), (new, old, "wrong encoding: undone, was")):
            try:
                if first.encode().decode(encoding) == second:
                    return f"{words} {encoding}"
            except UnicodeError:
                continue
    return ""


def _is_masked(old: str, new: str) -> bool:
    """Whether nothing but letters beyond ASCII became question marks, one or (byte for byte) several for each."""
    if not any(mark in new for mark in "?\ufffd") or old.isascii():
        return False
    pattern = "".join(re.escape(one) if one.isascii() else f"(?:{re.escape(one)}|[?\ufffd]{{1,4}})" for one in old)
    return re.fullmatch(pattern, new) is not None


def _of_texts(tell: Callable[[str, str], str]) -> Callable[[Any, Any], str]:
    def told(old: Any, new: Any) -> str:
        texts = _texts(old, new)
        return tell(*texts) if texts else ""

    return told


_TELLERS: tuple[Callable[[Any, Any], str], ...] = (
    _by_type,
    _truth,
    _times,
    _numbers,
    _bytes,
    *map(_of_texts, (_blanks, _letters, _encoding, escaped, replaced, encoded, _cut)),
)


def closest(gone: Sequence[tuple[Any, ...]], come: Sequence[tuple[Any, ...]]) -> Iterator[tuple[int, int]]:
    """Which row that is gone is which that came, where half of what it holds is the same; each at most once.

    Empty values say nothing, and at least one that is the same must be of few rows that came: what most of them have
    (a state, a default) makes a lost row none of them.
    """
    free = set(range(len(come)))
    common = [Counter(map(text_of, values)) for values in zip(*come, strict=True)]
    for here, old in enumerate(gone):
        best = max(free, key=lambda there: (_alike(old, come[there]), -there), default=None)
        if best is None:
            continue
        same = [place for place, (a, b) in enumerate(zip(old, come[best], strict=True)) if a == b and a not in _EMPTY]
        is_telling = any(common[place][text_of(old[place])] <= max(1, len(come) // _OF_FEW) for place in same)
        if is_telling and len(same) * 2 >= sum(value not in _EMPTY for value in old):
            free.discard(best)
            yield here, best


_EMPTY, _OF_FEW = (None, ""), 4


def _alike(old: tuple[Any, ...], new: tuple[Any, ...]) -> int:
    return sum(a == b and a not in _EMPTY for a, b in zip(old, new, strict=True))
