"""Narrows a difference to rows: both states are read side by side in the order of their keys.

Nothing is held but the rows in hand and the first of each kind, so that tables of any size can be compared.
"""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from yellow_ladder.database.row_changes import ADDED, CHANGED, DELETED, Row, side_by_side
from yellow_ladder.fingerprints.damage import OTHER, are_swapped, closest, commonest, what_happened
from yellow_ladder.fingerprints.meanings import MEANINGS, as_number, text_of
from yellow_ladder.masking import MASK, is_secret_by_itself, names_a_secret
from yellow_ladder.words import count_of

SAMPLE_ROWS, EXAMPLES = 200, 3
FEW_ROWS = 30
_PLAIN_NAME, _LONGEST_KEY = re.compile(r"[a-z_][a-z0-9_]*"), 100
_SHOWN, _AROUND = 32, 10
_PLAIN_NUMBER = re.compile(r"-?(0|[1-9]\d{0,17})(\.\d{1,17})?")


@dataclass(frozen=True, slots=True)
class RowChange:
    """A row that differs: its values as they should be, None where it came, and as they are, None where it is gone."""

    kind: str  # ADDED, CHANGED or DELETED
    old: Row | None
    new: Row | None


@dataclass(frozen=True, slots=True)
class Sides:
    """The columns of both sides in order, those that rows are found by, and what their values mean."""

    columns: tuple[str, ...]
    key: tuple[str, ...]
    meanings: Mapping[str, str] = field(default_factory=dict)
    may_come: bool = False
    """Whether rows that came are no difference."""
    is_told: bool = False
    """Whether the old side is what a release told that there should be, not what was there."""
    is_sparse: bool = False
    """Whether a row that is not there is the same as one with nothing but NULL beside its key."""


def compare_rows(
    old: Iterator[Row], new: Iterator[Row], sides: Sides, *, until: float | None = None
) -> Iterator[RowChange]:
    """Each row that differs, in the order of the keys; rows begin with the bytes that they are sorted by.

    Breaks off at `until`, a moment of the monotonic clock, by raising TimeoutError.
    """
    width = len(sides.key)
    means = [MEANINGS.get(sides.meanings.get(one, "")) for one in sides.columns]
    for seen, (was, row) in enumerate(side_by_side(old, new, width)):
        if until is not None and seen % 5000 == 0 and time.monotonic() > until:
            raise TimeoutError
        if was is not None and row is not None:
            if not all(map(_same, was[width:], row[width:], means)):
                yield RowChange(CHANGED, was[width:], row[width:])
        elif was is not None:
            if not (sides.is_sparse and set(was[2 * width :]) <= {None}):
                yield RowChange(DELETED, was[width:], None)
        elif row is not None and not sides.may_come and not (sides.is_sparse and set(row[2 * width :]) <= {None}):
            yield RowChange(ADDED, None, row[width:])


def _same(old: Any, new: Any, means: Callable[[Any], Any] | None) -> bool:
    if old is None or new is None:
        return old is new
    if means is not None:
        old, new = means(old), means(new)
    return type(old) is type(new) and bool(old == new)


@dataclass(frozen=True, slots=True)
class InWords:
    """What was found of a table's rows: by column, and of rows that came or are gone by ADDED and DELETED."""

    columns: Mapping[str, str]
    rows: Mapping[str, str]
    gone: tuple[str, ...] = ()
    """Where few rows are gone, what finds each of them, as SQL over its key."""
    changed: tuple[str, ...] = ()
    """The same of rows that are there and differ."""

    @property
    def is_nothing(self) -> bool:
        """Whether no row was found that differs."""
        return not (self.columns or self.rows)


@dataclass
class Findings:
    """What was found of one table: numbers of rows by kind and of values by column, and the first of them."""

    sides: Sides
    references: Collection[str] = ()
    """Columns that point to rows of other tables."""
    known_by: str = ""
    """A column that tells people which row it is, where the key is a number alone; none of two rows have the same."""
    counts: Counter[str] = field(default_factory=Counter)
    values: Counter[str] = field(default_factory=Counter)
    first: dict[str, list[RowChange]] = field(default_factory=lambda: {one: [] for one in (ADDED, CHANGED, DELETED)})
    pairs: dict[str, list[tuple[Row, Any, Any]]] = field(default_factory=dict)

    def add(self, one: RowChange) -> None:
        """Count one row."""
        self.counts[one.kind] += 1
        if len(self.first[one.kind]) < SAMPLE_ROWS:
            self.first[one.kind].append(one)
        if one.old is None or one.new is None:
            return
        for column, old, new in self.changed_values(one.old, one.new):
            self.values[column] += 1
            kept = self.pairs.setdefault(column, [])
            if len(kept) < SAMPLE_ROWS:
                kept.append((one.old, old, new))

    def changed_values(self, old: Row, new: Row) -> Iterator[tuple[str, Any, Any]]:
        """The values of a row that differ, with their column."""
        for column, was, now in zip(self.sides.columns, old, new, strict=True):
            if not _same(was, now, MEANINGS.get(self.sides.meanings.get(column, ""))):
                yield column, was, now

    def settle(self) -> None:
        """Recognise rows that only changed what they are found by: they are neither gone nor new."""
        gone, came = self.first[DELETED], self.first[ADDED]
        if not gone or not came or len(gone) != self.counts[DELETED] or len(came) != self.counts[ADDED]:
            return
        matches = list(closest([one.old or () for one in gone], [one.new or () for one in came]))
        for here, there in matches:
            self.add(RowChange(CHANGED, gone[here].old, came[there].new))
        taken_here, taken_there = ({one[place] for one in matches} for place in (0, 1))
        self.first[DELETED] = [one for place, one in enumerate(gone) if place not in taken_here]
        self.first[ADDED] = [one for place, one in enumerate(came) if place not in taken_there]
        for kind in (DELETED, ADDED):
            self.counts[kind] = len(self.first[kind])

    def kind_of(self, column: str) -> str:
        """What happened to the values of a column, in a few words."""
        found = [(old, new) for _, old, new in self.pairs.get(column, [])]
        other = self._swapped_with(column)
        if other:
            return f"changed places with {other}"
        if len(found) == self.values[column] and are_swapped(found):
            return "swapped between rows"
        words = commonest(found)
        if column in self.references and words in (OTHER, "another number"):
            return "points to another row"
        return words

    def _swapped_with(self, column: str) -> str:
        """The column that this one changed places with in every row."""
        place = self.sides.columns.index(column)
        changed = [one for one in self.first[CHANGED] if one.old and one.new and one.old[place] != one.new[place]]
        for there, other in enumerate(self.sides.columns):
            if there != place and changed and all(
                one.old is not None and one.new is not None
                and one.old[place] == one.new[there] and one.old[there] == one.new[place]
                for one in changed
            ):  # fmt: skip
                return other
        return ""

    def in_words(self, masked: Collection[str] = ()) -> InWords:
        """What is found, in words; of `masked` columns without their values."""
        columns, changed_rows = {}, {}
        for column, count in self.values.items():
            row, old, new = min(self.pairs[column], key=lambda one: self._natural(one[0]))
            hidden = self.is_hidden(row, column, (old, new), masked)
            was, now = (MASK, MASK) if hidden else both_in_words(old, new)
            values = f"is {now}, should be {was}" if self.sides.is_told else f"{was} → {now}"
            more = f", and {count - 1:,} more" if count > 1 else ""
            where = self._key_in_words(row, masked)
            happened = self.kind_of(column)
            differs = "1 value differs" if count == 1 else f"{count:,} values differ"
            differs += "" if happened == OTHER else f" ({happened})"
            columns[column] = f"{differs}: {where}: {values}{more}"
        more_than = "more than there should be" if self.sides.is_told else "more than before"
        for kind, words in ((DELETED, "gone"), (ADDED, more_than)):
            count = self.counts[kind]
            if count:
                rows = sorted((one.old or one.new or () for one in self.first[kind]), key=self._natural)[:EXAMPLES]
                named = [self._key_in_words(row, masked) for row in rows]
                more = f" and {count - len(rows):,} more" if count > len(rows) else ""
                changed_rows[kind] = f"{count_of(count, 'row')} {words}: {'; '.join(named)}{more}"
        by_key = tuple(self._found_by(kind, masked) for kind in (DELETED, CHANGED))
        return InWords(columns, changed_rows, *by_key)

    def _found_by(self, kind: str, masked: Collection[str]) -> tuple[str, ...]:
        """What finds each row of a kind; nothing where they are many, or have no key that can be written down."""
        rows = self.first[kind]
        if not 0 < self.counts[kind] <= FEW_ROWS:
            return ()
        has_names = self.known_by and all(self._name_of(one.old or ()) for one in rows)
        by_name = self._written_keys((self.known_by,), rows, masked) if has_names else ()
        return by_name or self._written_keys(self.sides.key, rows, masked)

    def _written_keys(self, key: Sequence[str], rows: Sequence[RowChange], masked: Collection[str]) -> tuple[str, ...]:
        if not key or any(name in masked or name in self.values for name in key):
            return ()
        values = [[(one.old or ())[self._place(name)] for name in key] for one in rows]
        if not all(map(_PLAIN_NAME.fullmatch, key)) or not all(_can_be_written(one) for row in values for one in row):
            return ()
        found = (
            " AND ".join(f"{name} = {_written(one)}" for name, one in zip(key, row, strict=True)) for row in values
        )
        return tuple(found)

    def is_hidden(self, row: Row, column: str, values: Collection[Any], masked: Collection[str]) -> bool:
        """Whether values of a column are not told: it is `masked`, the row is one of something secret by its key, or
        the values are secrets by themselves.
        """
        if column in masked or any(map(is_secret_by_itself, values)):
            return True
        keys = (*self.sides.key, *filter(None, [self.known_by]))
        return column not in keys and any(names_a_secret(row[self._place(name)]) for name in keys)

    def _name_of(self, row: Row) -> str:
        """The text by which people know a row; empty where it has none, or one that is a secret, like a session's."""
        value = row[self._place(self.known_by)] if self.known_by and row else None
        if not isinstance(value, str) or _PLAIN_NUMBER.fullmatch(value) or is_secret_by_itself(value):
            return ""
        return value

    def _place(self, column: str) -> int:
        return self.sides.columns.index(column)

    def _natural(self, row: Row) -> tuple[tuple[bool, float, str], ...]:
        """What people sort by: numbers by their size."""
        found = []
        for name in self.sides.key:
            value = row[self.sides.columns.index(name)]
            number = as_number(value)
            is_number = isinstance(number, str) and number.lstrip("-").replace(".", "", 1).isdigit()
            found.append((not is_number, float(number) if is_number else 0.0, text_of(value)))
        return tuple(found)

    def _key_in_words(self, row: Row, masked: Collection[str]) -> str:
        """How a row is found: by its key, or where it has none by its first values."""
        named = [(name, row[self._place(name)]) for name in self.sides.key]
        if self._name_of(row):
            named = [*named[:2], (self.known_by, self._name_of(row))]
        shown = [f"{name} {MASK if name in masked else value_in_words(value)}" for name, value in named[:3]]
        return ", ".join(shown) + (", …" if len(self.sides.key) > 3 else "")


def _can_be_written(value: Any) -> bool:
    if isinstance(value, str):
        is_plain = len(value) <= _LONGEST_KEY and value.isprintable() and "\\" not in value
        return is_plain and not is_secret_by_itself(value)
    return isinstance(value, int) and not isinstance(value, bool)


def _written(value: Any) -> str:
    """A value of a key as SQL that every engine takes; what is a number there may come as text."""
    return str(value) if isinstance(value, int) else "'" + value.replace("'", "''") + "'"


def value_in_words(value: Any) -> str:
    """A value, short enough for a line."""
    if value is None:
        return "NULL"
    if isinstance(value, bytes):
        return f"0x{value[:12].hex()}{'…' if len(value) > 12 else ''} ({count_of(len(value), 'byte')})"
    if isinstance(value, str) and _PLAIN_NUMBER.fullmatch(value):
        return value  # servers give numbers as text
    if isinstance(value, str):
        shown = value if len(value) <= _SHOWN else value[: _SHOWN - 1] + "…"
        return repr(shown)
    return repr(value)


def both_in_words(old: Any, new: Any) -> tuple[str, str]:
    """Two values, shortened so that where they differ is seen."""
    if not (isinstance(old, str) and isinstance(new, str)) or max(len(old), len(new)) <= _SHOWN:
        return value_in_words(old), value_in_words(new)
    same = next((at for at, (a, b) in enumerate(zip(old, new, strict=False)) if a != b), min(len(old), len(new)))
    start = max(0, same - _AROUND)
    first, second = (value_in_words(("…" if start else "") + one[start:]) for one in (old, new))
    return first, second


def lines_for_file(findings: Findings, one: RowChange, masked: Collection[str]) -> Iterator[tuple[Any, ...]]:
    """A row's lines in the file of all differences: change, key, column, before, now, what happened."""
    row = one.old if one.old is not None else one.new
    if row is None:
        return
    key = tuple(MASK if name in masked else row[findings.sides.columns.index(name)] for name in findings.sides.key)
    if one.old is not None and one.new is not None:
        for column, old, new in findings.changed_values(one.old, one.new):
            values = (MASK, MASK) if findings.is_hidden(row, column, (old, new), masked) else (old, new)
            yield (one.kind, *key, column, *values, what_happened(old, new))
        return
    for column, value in zip(findings.sides.columns, row, strict=True):
        shown = MASK if findings.is_hidden(row, column, (value,), masked) else value
        values = (shown, None) if one.kind == DELETED else (None, shown)
        yield (one.kind, *key, column, *values, "")


def header(sides: Sides) -> Sequence[str]:
    """The names of the columns of that file."""
    return ("change", *(f"key {name}" for name in sides.key), "column", "before", "now", "what happened")
