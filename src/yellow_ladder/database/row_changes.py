"""How two databases of the same descent differ, row by row: both are read in the order of their keys, side by side.

Nothing is held but the rows in hand, so that tables of any size can be compared. Both must be at rest.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any, TextIO
from urllib.parse import quote

from yellow_ladder.database.port import Table, TableChanges

Row = tuple[Any, ...]
SortedRows = Callable[[Table, Sequence[str], int], Iterator[Row]]
"""Reads columns of a table in the binary order of the text of the first so many of them, NULL first."""
ADDED, CHANGED, WAS, DELETED = "added", "changed", "was", "deleted"
Difference = tuple[str, tuple[str, ...], Row]
Pair = tuple[Table | None, Table | None]


def paired(then: Collection[Table], now: Collection[Table]) -> dict[str, Pair]:
    """Each table as it was and as it is, by name; None where it is not on that side."""
    before, after = {table.name: table for table in then}, {table.name: table for table in now}
    return {name: (before.get(name), after.get(name)) for name in sorted(before.keys() | after.keys())}


def differences(then: SortedRows, now: SortedRows, pair: Pair) -> Iterator[Difference]:
    """(what happened, columns, row) for each row of a table that differs; a changed one as it is and as it was."""
    old, new = pair
    if old is None or new is None:
        only, read, kind = (new, now, ADDED) if new else (old, then, DELETED)
        if only is not None:
            yield from ((kind, only.columns, row) for row in read(only, only.columns, 0))
        return
    shared = [name for name in new.columns if name in old.columns]
    key = list(new.key) if new.key and new.key == old.key else shared
    ours = (*key, *(name for name in new.columns if name not in key))
    theirs = (*key, *(name for name in old.columns if name not in key))
    places = [(ours.index(name), theirs.index(name)) for name in shared]
    for was, row in side_by_side(then(old, theirs, len(key)), now(new, ours, len(key)), len(key)):
        if row is None and was is not None:
            yield DELETED, theirs, was
        elif was is None and row is not None:
            yield ADDED, ours, row
        elif was is not None and row is not None and any(row[mine] != was[other] for mine, other in places):
            yield CHANGED, ours, row
            yield WAS, theirs, was


def side_by_side(then: Iterator[Row], now: Iterator[Row], width: int) -> Iterator[tuple[Row | None, Row | None]]:
    """Rows of both sides that are the same by their first `width` values, in whose order they come; None where a side
    has none.
    """
    was, row = next(then, None), next(now, None)
    while was is not None or row is not None:
        order = _compare(was, row, width)
        yield (was if order <= 0 else None), (row if order >= 0 else None)
        if order <= 0:
            was = next(then, None)
        if order >= 0:
            row = next(now, None)


def _compare(was: Row | None, row: Row | None, width: int) -> int:
    """Which comes first: less than 0 the old row, more than 0 the new one, 0 where they are the same row."""
    if was is None or row is None:
        return 1 if was is None else -1
    for old, new in zip(was[:width], row[:width], strict=True):
        if old != new and (first := _ordered(old)) != (second := _ordered(new)):
            return -1 if first < second else 1
    return 0


def _ordered(value: Any) -> tuple[bool, bytes]:
    return value is not None, value.encode("utf-8", "surrogateescape") if isinstance(value, str) else bytes(
        value or b""
    )


def count_differences(then: SortedRows, now: SortedRows, name: str, pair: Pair) -> TableChanges:
    """How many rows of one table were added, changed and deleted."""
    counts = {ADDED: 0, CHANGED: 0, WAS: 0, DELETED: 0}
    for kind, _, _ in differences(then, now, pair):
        counts[kind] += 1
    return TableChanges(name, counts[ADDED], counts[CHANGED], counts[DELETED])


def csv_path(folder: Path, database: str, table: str) -> Path:
    """The file for one table's rows."""
    return folder / f"{database}.{quote(table, safe='')}.csv"


def write_differences(then: SortedRows, now: SortedRows, pair: Pair, target: Path) -> int:
    """Write these rows as CSV: what happened, then every column. Returns the lines."""
    with target.open("w", encoding="utf-8", errors="backslashreplace", newline="") as stream:
        target.chmod(0o600)
        return write_lines(stream, differences(then, now, pair))


def write_lines(stream: TextIO, found: Iterator[Difference]) -> int:
    """Write differences as lines, with a line of names wherever the columns are others than before.

    Text is quoted, numbers are not, NULL is an empty field without quotes, bytes are 0x and hex. Returns the lines.
    """
    lines, header = 0, None
    for kind, columns, row in found:
        if columns != header:
            header = columns
            stream.write(csv_line(("change", *columns)))
        stream.write(",".join((kind, *map(_field, row))) + "\n")
        lines += 1
    return lines


def csv_line(values: Iterable[Any]) -> str:
    """One line: text is quoted, numbers are not, NULL is an empty field without quotes, bytes are 0x and hex."""
    return ",".join(map(_field, values)) + "\n"


def _field(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bytes):
        return f"0x{value.hex()}"
    if isinstance(value, str):
        return '"' + value.replace('"', '""') + '"'
    return repr(value)
