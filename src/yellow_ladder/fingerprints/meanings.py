"""What a value means, whatever type it has and however it is written: for columns whose type a release changes."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

TRUE_WORDS = frozenset({"1", "t", "true", "yes", "y", "on"})
FALSE_WORDS = frozenset({"0", "f", "false", "no", "n", "off"})
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
# Whole numbers of this size are moments in seconds, or in milliseconds, since 1970: the years 1973 to 5138.
_SECONDS, _MILLISECONDS = range(10**8, 10**11), range(10**11, 10**14)


def text_of(value: Any) -> str:
    """A value as text."""
    return value.decode("utf-8", "surrogateescape") if isinstance(value, bytes) else str(value)


def as_number(value: Any) -> Any:
    """5, 5.0, '5.00' are one number; what is none stays what it is."""
    try:
        found = Decimal(repr(value) if isinstance(value, float) else text_of(value).strip())
    except InvalidOperation:
        return value
    if not found.is_finite():
        return str(found)
    return "0" if not found else f"{found.normalize():f}"


def as_moment(value: Any) -> Any:
    """A moment as its time in UTC: of a text with or without zone, of a number since 1970; others stay."""
    found = moment_of(value)
    return value if found is None else found.isoformat()


def moment_of(value: Any) -> datetime | None:
    """The moment that a text in ISO form or a number of seconds or milliseconds since 1970 means; UTC without zone."""
    text = text_of(value).strip()
    try:
        number = Decimal(text)
        if int(number) in _MILLISECONDS:
            number /= 1000
        return _EPOCH + timedelta(microseconds=int(number * 10**6)) if int(number) in _SECONDS else None
    except (InvalidOperation, ValueError, OverflowError):
        pass
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


def as_truth(value: Any) -> Any:
    """True and false, however they are told; others stay."""
    word = text_of(value).strip().lower()
    return "true" if word in TRUE_WORDS else "false" if word in FALSE_WORDS else value


def as_json(value: Any) -> Any:
    """The same JSON in one way of writing it; what is none stays."""
    try:
        parsed = json.loads(text_of(value), parse_float=_json_number, parse_int=_json_number)
        return json.dumps(parsed, sort_keys=True, ensure_ascii=False, separators=(",", ":"))
    except ValueError:
        return value


def _json_number(text: str) -> str:
    return f"\0{as_number(text)}"  # no JSON text that was sent through can begin like this and be a number


def as_one_number(value: Any) -> Any:
    """Of SQLite's two kinds of numbers, one: what SQL works out gets the kind of its column only when it is kept."""
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < 2**53 else value


ONE_NUMBER = "one number"
MEANINGS: Mapping[str, Callable[[Any], Any]] = {
    "number": as_number,
    "moment": as_moment,
    "text": text_of,
    "truth": as_truth,
    "json": as_json,
    ONE_NUMBER: as_one_number,
}


def meant(values: tuple[Any, ...], meaning: str) -> tuple[Any, ...]:
    """Values by what they mean; NULL stays NULL."""
    means = MEANINGS[meaning]
    return tuple(None if value is None else means(value) for value in values)
