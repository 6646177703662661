"""What is read of a MariaDB database: tables, rows, selections, the answers of queries."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.mariadb import look, packing
from yellow_ladder.database.mariadb.connect import Connection, explaining, quoted, reading, rows, streamed
from yellow_ladder.database.port import Chunk, Packed, Span, Table, UndecodableText, cut
from yellow_ladder.database.row_changes import Row
from yellow_ladder.database.selecting import Selecting
from yellow_ladder.database.selection import Selection
from yellow_ladder.database.server import ServerDatabase, counted
from yellow_ladder.errors import AnswerNo, Problem

_INTEGERS = ("tinyint", "smallint", "mediumint", "int", "bigint")
_CHUNK_ROWS, _CHUNK_BYTES = 4_000, 8 * 1024**2
_LARGEST = 2**63 - 1


class MariadbReader(ServerDatabase, Selecting):
    """Reads a database. With `held`, everything is read through one connection, at its moment."""

    def __init__(self, address: DatabaseAddress, held: Connection | None = None) -> None:
        """Name the database; nothing is connected yet."""
        super().__init__(address)
        self._held = held
        self.reads_alone = held is not None

    @contextlib.contextmanager
    def _reading(self, *, as_text: bool = False, encoding: str = "utf8mb4") -> Iterator[Connection]:
        if self._held is not None:
            with explaining(self.address):
                yield self._held
            return
        with reading(self.address, as_text=as_text, encoding=encoding) as connection:
            yield connection

    @cached_property
    def _known(self) -> dict[str, tuple[Table, dict[str, str]]]:
        with self._reading() as connection:
            return look.tables(connection)

    def _types(self, table: str) -> dict[str, str]:
        if table not in self._known:
            self.__dict__.pop("_known", None)  # a migration may have made it since
        if table not in self._known:
            text = f"the database `{self.address.name}` has no table {table}"
            raise AnswerNo(Problem("no-table", text, "see `yl survey`", table))
        return self._known[table][1]

    def tables(self) -> list[Table]:
        self.__dict__.pop("_known", None)
        return [table for table, _ in self._known.values()]

    def scalar(self, query: str) -> Any:
        with self._reading() as connection:
            rows(connection, "START TRANSACTION READ ONLY") if self._held is None else None
            found = rows(connection, query)
        return found[0][0] if found else None

    def count_rows(self, table: str) -> int:
        return int(self.scalar(f"SELECT count(*) FROM {quoted(table)}"))

    def count_all(self, tables: Sequence[str], *, gently: bool = False) -> dict[str, int]:  # noqa: ARG002
        """Readers never keep writers waiting here."""
        return counted(tables, lambda table: f"SELECT count(*) FROM {quoted(table)}", self._all)

    def _all(self, query: str) -> list[tuple[Any, ...]]:
        with self._reading() as connection:
            return rows(connection, query)

    def spans(self, table: str, parts: int, edges: Sequence[int] = ()) -> list[Span | None]:
        """Parts are made of a whole-numbered key of one column."""
        types, (known, _) = self._types(table), self._known[table]
        if len(known.key) != 1 or types[known.key[0]] not in _INTEGERS:
            return [None]
        key = quoted(known.key[0])
        with self._reading() as connection:
            ((low, high),) = rows(connection, f"SELECT min({key}), max({key}) FROM {quoted(table)}")
        if low is None or high > _LARGEST or high - low < parts:
            return [None]
        return [Span(*ends, known.key[0]) for ends in cut(low, high, parts, edges)]

    def read_rows(
        self, table: Table, columns: Sequence[str], span: Span | None, *, lenient: bool = False
    ) -> Iterator[Chunk]:
        """Values come as the server writes them: numbers are text, binary ones bytes."""
        types = self._types(table.name)
        wanted = ", ".join(look.expression(name, types[name]) for name in columns)
        query = f"SELECT {wanted} FROM {quoted(table.name)}"
        if span is not None:
            query += f" WHERE {quoted(span.column)} BETWEEN {span.low} AND {span.high}"
        yield from self._stream(query, lenient=lenient)

    def read_packed(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[Packed] | None:
        """Of a span of a whole-numbered key, where no column holds bytes."""
        kinds = self._types(table.name)
        if span is None or not packing.fits(kinds, columns):
            return None
        return self._packed(table.name, columns, span)

    def _packed(self, table: str, columns: Sequence[str], span: Span) -> Iterator[Packed]:
        kinds = self._types(table)
        with self._reading(as_text=True, encoding="binary") as connection:
            if self._held is None:
                rows(connection, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield from packing.packed(connection, table, columns, kinds, span)

    def _stream(self, query: str, *, lenient: bool = False) -> Iterator[Chunk]:
        encoding = "binary" if lenient else "utf8mb4"
        with self._reading(as_text=True, encoding=encoding) as connection, streamed(connection, query) as cursor:
            size = 200
            try:
                while chunk := cursor.fetchmany(size):
                    yield chunk
                    widest = max(sum(len(value) for value in row if value is not None) for row in chunk[:50])
                    size = max(1, min(_CHUNK_ROWS, _CHUNK_BYTES // (widest + 16 * len(chunk[0]))))
            except UnicodeDecodeError as fault:
                raise UndecodableText from fault

    def _answer(self, query: str, *, lenient: bool) -> Iterator[Chunk]:
        yield from self._stream(query, lenient=lenient)

    def quoted(self, identifier: str) -> str:
        return quoted(identifier)

    def _source_text(self, table: str) -> str:
        return quoted(table)

    def _kinds(self, selection: Selection) -> Mapping[str, str]:
        if not selection.query:
            return self._types(selection.table)
        with self._reading() as connection:
            return look.query_kinds(connection, selection.query)

    def _column(self, name: str, kind: str) -> str:
        return look.expression(name, kind)

    def _in_bytes(self, column: str, kind: str) -> str:
        return look.in_bytes(column, kind)

    def unlike(self, first: str, second: str) -> str:
        """Other bytes are another value, whatever a collation calls equal."""
        same = "CAST(CONVERT(({}) USING utf8mb4) AS BINARY)"
        return f"NOT ({same.format(first)} <=> {same.format(second)})"

    def query_columns(self, query: str) -> tuple[str, ...]:
        with self._reading() as connection:
            return tuple(look.query_kinds(connection, query))

    def sorted_rows(self, table: Table, columns: Sequence[str], width: int) -> Iterator[Row]:
        """See the base."""
        types = self._types(table.name)
        wanted = ", ".join(look.expression(name, types[name]) for name in columns)
        query = f"SELECT {wanted} FROM {quoted(table.name)}"
        if width:
            query += " ORDER BY " + ", ".join(look.binary_order(name, types[name]) for name in columns[:width])
        for chunk in self._stream(query):
            yield from chunk
