"""Reads the rows of a large table packed: thousands of them in one value that the server puts together.

A driver in Python makes an object of every value, which takes several times as long as the server's own dump. Here it
gets one value for a range of the key, and the values lie in it one behind the other.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from yellow_ladder.database.mariadb.connect import Connection, quoted, rows
from yellow_ladder.database.mariadb.look import expression
from yellow_ladder.database.port import FIELD_END, NULL_MARK, ROW_END, CannotPack, Packed, Span

_NUMBERS = ("tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "year", "date", "time",
            "datetime", "timestamp")  # fmt: skip
_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set")
_FIRST_ROWS, _MOST_ROWS, _BYTES = 2_000, 50_000, 4 * 1024**2


def fits(kinds: Mapping[str, str], columns: Sequence[str]) -> bool:
    """Whether these columns, by their types, are all text or written as text."""
    return all(kinds[name] in _NUMBERS or kinds[name] in _TEXTS for name in columns)


def packed(
    connection: Connection, table: str, columns: Sequence[str], kinds: Mapping[str, str], span: Span
) -> Iterator[Packed]:
    """The rows of a span of a whole-numbered key; `connection` gives texts as bytes, and sees one moment.

    Raises CannotPack where a row does not fit into one value.
    """
    # A literal of text, since one of bytes would be a number beside numbers.
    null, field, end = (f"'{mark.decode()}'" for mark in (NULL_MARK, FIELD_END, ROW_END))
    parts = ", ".join(f"IFNULL({_as_text(name, kinds[name])}, {null})" for name in columns)
    counts = ", ".join(f"COUNT({quoted(name)})" for name in columns)
    wanted = (
        f"SELECT GROUP_CONCAT(CONCAT_WS({field}, {parts}) SEPARATOR {end}), COUNT(*), {counts} FROM {quoted(table)}"
    )
    low, width = span.low, _FIRST_ROWS
    while low <= span.high:
        high = min(span.high, low + width - 1)
        ((data, count, *filled),) = rows(connection, f"{wanted} WHERE {quoted(span.column)} BETWEEN {low} AND {high}")
        found = int(count)
        if found:
            piece = Packed(bytes(data) + ROW_END, found, tuple(map(int, filled)))
            whole = piece.data.count(ROW_END) >= found
            if not whole and found == 1:
                raise CannotPack
            width = max(1, width * min(_MOST_ROWS, found * _BYTES // len(piece.data)) // found)
            if not whole:
                continue  # the server cut the value off: fewer rows, then
            yield piece
        else:
            width *= 4
        low = high + 1


def _as_text(name: str, kind: str) -> str:
    written = expression(name, kind)
    return f"CONVERT({written} USING utf8mb4)" if kind in _TEXTS else written
