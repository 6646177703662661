"""Reads a SQLite database: queries in chunks, and SQL as this engine writes it."""

from __future__ import annotations

import sqlite3
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.kept import let_go
from yellow_ladder.database.port import Chunk, Span, Table
from yellow_ladder.database.selecting import Selecting
from yellow_ladder.database.sqlite.chunks import fetch, lenient_text, next_size
from yellow_ladder.database.sqlite.look import quoted
from yellow_ladder.database.sqlite.rights import opened_as, rights_of

if TYPE_CHECKING:
    from yellow_ladder.database.columns import Column


def rows_of(span: Span | None) -> str:
    """SQL for the rows of a span, or nothing for all."""
    return f" WHERE {quoted(span.column or 'rowid')} BETWEEN {span.low} AND {span.high}" if span else ""


class SqliteSelecting(Selecting):
    """Reads selections of a SQLite database."""

    address: DatabaseAddress

    @abstractmethod
    def _reading(self) -> AbstractContextManager[sqlite3.Connection]:
        """A connection that reads."""

    def _answer(self, query: str, *, lenient: bool) -> Iterator[Chunk]:
        with self._reading() as connection:
            if lenient:
                connection.text_factory = lenient_text
            cursor = connection.execute(query)
            # Small at first: nobody knows yet how wide the rows are.
            size = 200
            while chunk := fetch(cursor, size):
                yield chunk
                size = next_size(chunk)

    def read_columns(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[list[Column]] | None:
        """With the owner's rights from the beginning to the end, since all of it is the driver's work."""
        from yellow_ladder.database.sqlite import bulk  # two libraries that few commands need

        with self._reading() as connection:
            wish = bulk.wish_for(connection, table.name, columns, rows_of(span))
        if wish is None:
            return None
        let_go()
        uri, owner = opened_as(self.address)

        def read() -> Iterator[list[Column]]:
            chunks = bulk.read(uri, wish)
            try:
                while True:
                    with rights_of(owner):
                        chunk = next(chunks, None)
                    if chunk is None:
                        return
                    yield chunk
            finally:
                with rights_of(owner):
                    chunks.close()

        return read()

    def quoted(self, identifier: str) -> str:
        return quoted(identifier)

    def _source_text(self, table: str) -> str:
        return quoted(table)

    def _in_bytes(self, column: str, kind: str) -> str:  # noqa: ARG002
        return f"CAST({column} AS BLOB)"

    def unlike(self, first: str, second: str) -> str:
        """Other bytes are another value, whatever a column's collation calls equal."""
        return f"(({first}) COLLATE BINARY) IS NOT (({second}) COLLATE BINARY)"

    def query_columns(self, query: str) -> tuple[str, ...]:
        with self._reading() as connection:
            cursor = connection.execute(f"SELECT * FROM ({query}) LIMIT 0")
            return tuple(str(column[0]) for column in cursor.description)
