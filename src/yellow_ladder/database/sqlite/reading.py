"""Reads a SQLite database: queries in chunks, and SQL as this engine writes it."""

from __future__ import annotations

import sqlite3
from abc import abstractmethod
from collections.abc import Iterator
from contextlib import AbstractContextManager

from yellow_ladder.database.port import Chunk
from yellow_ladder.database.selecting import Selecting
from yellow_ladder.database.sqlite.chunks import fetch, lenient_text, next_size
from yellow_ladder.database.sqlite.look import quoted


class SqliteSelecting(Selecting):
    """Reads selections of a SQLite database."""

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
