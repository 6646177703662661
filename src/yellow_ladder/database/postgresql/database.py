"""PostgreSQL, through its driver and its own programs for dump and load."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql

from yellow_ladder.database.kept import let_go
from yellow_ladder.database.port import (
    LEDGER_TABLE,
    Chunk,
    Details,
    LedgerEntry,
    OnAmount,
    Session,
    Span,
    Sums,
    Table,
    UndecodableText,
    cut,
)
from yellow_ladder.database.postgresql import look, move, sums
from yellow_ladder.database.postgresql.connect import Connection, command, connected, plain, reading
from yellow_ladder.database.row_changes import Row
from yellow_ladder.database.selecting import Selecting
from yellow_ladder.database.selection import Selection
from yellow_ladder.database.server import ServerDatabase, beside, counted, is_local, scratch_name
from yellow_ladder.errors import AnswerNo, LadderError, Problem

OLDEST = 13
_CHUNK_ROWS, _CHUNK_BYTES = 4_000, 8 * 1024**2
# Servers before 14 look through the whole table for each of them.
_PARTS_BY_PAGES = 4
_LEDGER = (
    f"CREATE TABLE IF NOT EXISTS {LEDGER_TABLE} (place bigint GENERATED ALWAYS AS IDENTITY,"
    " migration text PRIMARY KEY, version text NOT NULL, sha256 text NOT NULL, applied_at text NOT NULL)"
)


class PostgresqlDatabase(ServerDatabase, Selecting):
    """A database of a PostgreSQL server."""

    ending = "pgdump"
    _answers = look
    moves_meanwhile = False

    def _reading(self, *, encoding: str = "UTF8") -> AbstractContextManager[Connection]:
        return reading(self.address, encoding=encoding)

    @contextlib.contextmanager
    def _at_one_moment(self) -> Iterator[PostgresqlDatabase]:
        """The database as it is now, for as many connections as are wanted."""
        with self._reading() as connection:
            row = connection.execute("SELECT pg_export_snapshot()").fetchone()
            yield PostgresqlDatabase(replace(self.address, snapshot=str(row[0]) if row else ""))

    @cached_property
    def _known(self) -> dict[str, tuple[str, str, Table]]:
        with self._reading() as connection:
            return look.tables(connection)

    def _place(self, table: str) -> tuple[str, str]:
        if table not in self._known:
            self.__dict__.pop("_known", None)  # a migration may have made it since
        if table not in self._known:
            text = f"the database `{self.address.name}` has no table {table}"
            raise AnswerNo(Problem("no-table", text, "see `yl survey`", table))
        schema, name, _ = self._known[table]
        return schema, name

    def _major(self) -> int:
        with self._reading() as connection:
            return move.server_major(connection)

    def probe(self) -> str:
        with self._reading() as connection:
            version = look.traits(connection).version
            if move.server_major(connection) < OLDEST:
                text = f"the server of the database `{self.address.name}` is PostgreSQL {version}"
                raise AnswerNo(Problem("server-too-old", text, f"PostgreSQL {OLDEST} is the oldest that is supported"))
        return f"PostgreSQL {version}"

    def size_bytes(self) -> int:
        return int(self.scalar("SELECT pg_database_size(current_database())"))

    def tables(self) -> list[Table]:
        self.__dict__.pop("_known", None)
        return [table for _, _, table in self._known.values()]

    def scalar(self, query: str) -> Any:
        with self._reading() as connection:
            row = connection.execute(plain(query)).fetchone()
        return row[0] if row else None

    def count_rows(self, table: str) -> int:
        return self.count_all([table])[table]

    def count_all(self, tables: Sequence[str], *, gently: bool = False) -> dict[str, int]:  # noqa: ARG002
        """Readers never keep writers waiting here. Each statement has a transaction of its own: one that has read
        thousands of tables holds more locks than a server has room for.
        """

        def question(table: str) -> str:
            return (plain("SELECT count(*) FROM ") + self._source(table)).as_string()

        def ask(query: str) -> list[tuple[Any, ...]]:
            with self._reading() as connection:
                return connection.execute(plain(query)).fetchall()

        return counted(tables, question, ask)

    def _source(self, table: str) -> sql.Composable:
        """What a table's rows are selected from: without those of tables that inherit from it, which stand alone."""
        if table == look.LARGE_OBJECTS:
            return plain("(SELECT oid AS loid, lo_get(oid) AS content FROM pg_largeobject_metadata) AS found")
        return command("ONLY {}.{}", *self._place(table))

    def invalid_constraints(self, *, thorough: bool) -> list[str]:  # noqa: ARG002
        """The server knows by itself, so that nothing takes long."""
        with self._reading() as connection:
            return look.invalid_constraints(connection)

    def sessions(self) -> list[Session]:
        with self._reading() as connection:
            return look.sessions(connection)

    def lacks(self) -> list[tuple[str, str]]:
        with self._reading() as connection:
            return [*move.lacking(connection, self.address.programs), *look.lacking(connection)]

    def unfinished(self) -> str:
        with self._reading() as connection:
            return look.unfinished(connection)

    def spans(self, table: str, parts: int, edges: Sequence[int] = ()) -> list[Span | None]:
        """Parts are made of whole pages where they are not of the key."""
        if table == look.LARGE_OBJECTS:
            return [None]
        place = self._place(table)
        with self._reading() as connection:
            pages = sums.pages(connection, *place)
            if pages < parts:
                return [None]
            key = self._known[table][2].key
            if len(key) == 1 and (ends := sums.key_ends(connection, *place, key[0], is_known=bool(edges))):
                return [Span(*one, key[0]) for one in cut(*ends, parts, edges)]
        ends_of_pages = cut(0, pages - 1, min(parts, _PARTS_BY_PAGES))
        # Rows may come behind the last page that was there, so that the last part has no end.
        return [Span(low, high if high < pages - 1 else 2**32 - 2) for low, high in ends_of_pages]

    def read_rows(
        self, table: Table, columns: Sequence[str], span: Span | None, *, lenient: bool = False
    ) -> Iterator[Chunk]:
        """Values come as the server writes them; numbers are text, bytes are hex."""
        query = plain("SELECT ") + _listed(columns) + plain(" FROM ") + self._source(table.name)
        if span is not None:
            query += plain(_where(span))
        yield from self._stream(query, lenient=lenient)

    def sums_itself(self) -> bool:
        with self._reading() as connection:
            return sums.has_our_hash(connection)

    def summed(self, selection: Selection, key: Sequence[str], span: Span | None) -> Sums | None:
        where = _where(span) if span is not None else ""
        with self._reading() as connection:
            if not sums.has_our_hash(connection):
                return None
            return sums.summed(connection, self._text_of(selection) + where, selection.names, key)

    def _stream(self, query: sql.Composable, *, lenient: bool = False) -> Iterator[Chunk]:
        with self._reading(encoding="SQL_ASCII" if lenient else "UTF8") as connection, connection.cursor() as cursor:
            try:
                with cursor.copy(plain("COPY (") + query + plain(") TO STDOUT")) as copy:
                    chunk: list[tuple[Any, ...]] = []
                    held = 0
                    for row in copy.rows():
                        chunk.append(row)
                        held += sum(len(value) for value in row if value is not None)
                        if len(chunk) >= _CHUNK_ROWS or held > _CHUNK_BYTES:
                            yield chunk
                            chunk, held = [], 0
                    if chunk:
                        yield chunk
            except (
                UnicodeDecodeError,
                psycopg.errors.CharacterNotInRepertoire,
                psycopg.errors.UntranslatableCharacter,
            ) as fault:
                raise UndecodableText from fault

    def _answer(self, query: str, *, lenient: bool) -> Iterator[Chunk]:
        yield from self._stream(plain(query), lenient=lenient)

    def quoted(self, identifier: str) -> str:
        return sql.Identifier(identifier).as_string()

    def _source_text(self, table: str) -> str:
        return self._source(table).as_string()

    def _in_bytes(self, column: str, kind: str) -> str:  # noqa: ARG002
        return f'{column}::text COLLATE "C"'

    def unlike(self, first: str, second: str) -> str:
        return f"({first}) IS DISTINCT FROM ({second})"

    def query_columns(self, query: str) -> tuple[str, ...]:
        with self._reading() as connection:
            cursor = connection.execute(plain(f"SELECT * FROM ({query}) AS q LIMIT 0"))
            return tuple(column.name for column in cursor.description or ())

    def sorted_rows(self, table: Table, columns: Sequence[str], width: int) -> Iterator[Row]:
        """See the base."""
        query = plain("SELECT ") + _listed(columns) + plain(" FROM ") + self._source(table.name)
        if width:
            order = (command('{}::text COLLATE "C" NULLS FIRST', name) for name in columns[:width])
            query += plain(" ORDER BY ") + sql.SQL(", ").join(order)
        for chunk in self._stream(query):
            yield from chunk

    @contextlib.contextmanager
    def backed_up(self, target: Path, on_amount: OnAmount, *, at_rest: bool) -> Iterator[PostgresqlDatabase]:  # noqa: ARG002
        with self._at_one_moment() as still:
            move.dump(still.address, self._major(), target, on_amount)
            yield still

    def check_backup(self, backup: Path) -> None:
        move.check_dump(self.address, 0, backup)

    @contextlib.contextmanager
    def held_still(self, scratch: Path) -> Iterator[PostgresqlDatabase]:  # noqa: ARG002
        with self._at_one_moment() as still:
            yield still

    def copied_to(self, backup: Path, scratch: Path) -> PostgresqlDatabase:
        name = scratch_name(scratch)
        major = self._major()
        move.make_empty(self.address, name, self.details())
        move.load(self.address, major, name, backup)
        return self.opened_scratch(scratch)

    def opened_scratch(self, scratch: Path) -> PostgresqlDatabase:
        return PostgresqlDatabase(replace(self.address, database=scratch_name(scratch), snapshot=""))

    def drop_scratch(self, scratch: Path) -> None:
        self._drop(scratch_name(scratch))

    def details(self) -> Details:
        with self._reading() as connection:
            return move.details_of(connection)

    def restore_from(self, backup: Path, details: Details) -> None:
        """The old database stays until the one that was loaded is whole; the two change names at once."""
        move.refuse_unknown(details, self.address.name)
        fresh, gone = (beside(self.address.database, what, move.LONGEST_NAME) for what in ("new", "old"))
        with connected(self.address, database=move.maintenance(self.address)) as connection:
            major = move.server_major(connection)
            move.drop(connection, gone)
        try:
            move.make_empty(self.address, fresh, details)
            move.load(self.address, major, fresh, backup)
            move.finish(self.address, fresh, details)
            move.swap(self.address, fresh, gone)
        except BaseException:
            with contextlib.suppress(LadderError):  # half a database would only take the room that the next try needs
                self._drop(fresh)
            raise

    def _drop(self, name: str) -> None:
        with connected(self.address, database=move.maintenance(self.address)) as connection:
            move.drop(connection, name)

    def drop_leftovers(self) -> None:
        """Dropping writes everything out that the server holds, which the way back need not wait for."""
        self._drop(beside(self.address.database, "old", move.LONGEST_NAME))

    def keep_others_out(self) -> None:
        move.only_reading(self.address, only=True)

    def let_others_in(self) -> None:
        move.only_reading(self.address, only=False)

    def why_others_get_in(self) -> tuple[str, str]:
        return "", ""

    def why_only_counted(self) -> tuple[str, str]:
        return "", ""

    def others_of_server(self) -> list[str]:
        query = "SELECT datname FROM pg_database WHERE NOT datistemplate AND datname <> 'postgres' ORDER BY 1"
        with self._reading() as connection:
            names = [str(one) for (one,) in connection.execute(query).fetchall()]
        return [one for one in names if one != self.address.database]

    def data_folder(self) -> Path | None:
        if not is_local(self.address):
            return None
        with contextlib.suppress(LadderError), self._reading() as connection:
            ((folder,),) = connection.execute("SHOW data_directory").fetchall()
            return Path(str(folder))
        return None

    def sets_aside(self) -> bool:
        return True

    def set_aside(self) -> PostgresqlDatabase | None:
        gone = beside(self.address.database, "old", move.LONGEST_NAME)
        if not move.exists(self.address, gone):
            return None
        move.let_in(self.address, gone)
        return PostgresqlDatabase(replace(self.address, database=gone, snapshot=""))

    def why_no_clone(self) -> str:
        return "; ".join(what for what, _ in self.lacks())

    def make_clone(self, place: Path) -> int:
        """The server copies its own files."""
        size = self.size_bytes()
        move.clone(self.address, scratch_name(place), self.details())
        return size

    def has_clone(self, place: Path) -> bool:
        return move.exists(self.address, scratch_name(place))

    @contextlib.contextmanager
    def opened_clone(self, place: Path) -> Iterator[PostgresqlDatabase | None]:
        """Nobody may connect to it otherwise: it is a way back. After a kill it stays open until it is looked at again
        or put back, and what it holds is compared then.
        """
        if not self.has_clone(place):
            yield None
            return
        name = scratch_name(place)
        move.let_in(self.address, name)
        try:
            yield self.opened_scratch(place)
        finally:
            let_go()
            move.let_in(self.address, name, allowed=False)

    def return_to_clone(self, place: Path, details: Details) -> None:
        """The two databases change names at once."""
        gone = beside(self.address.database, "old", move.LONGEST_NAME)
        move.finish(self.address, scratch_name(place), details)
        self.drop_leftovers()
        move.swap(self.address, scratch_name(place), gone)

    def drop_clone(self, place: Path) -> None:
        """There is none to remove."""
        self.drop_scratch(place)

    def ledger(self) -> list[LedgerEntry]:
        with self._reading() as connection:
            if not _has_ledger(connection):
                return []
            query = f"SELECT migration, version, sha256, applied_at FROM {LEDGER_TABLE} ORDER BY place"
            return [LedgerEntry(*row) for row in connection.execute(plain(query))]

    def apply(self, statements: Sequence[str], entry: LedgerEntry) -> bool:
        """It is one transaction, and the server takes everything back when a part of it fails."""
        with connected(self.address, autocommit=False) as connection:
            if not _has_ledger(connection):
                connection.execute(plain(_LEDGER))
            query = plain(f"SELECT 1 FROM {LEDGER_TABLE} WHERE migration = %s")
            if connection.execute(query, [entry.migration]).fetchone():
                return False
            for statement in statements:
                connection.execute(plain(statement))
            values = (entry.migration, entry.version, entry.sha256, entry.applied_at)
            fields = f"INSERT INTO {LEDGER_TABLE} (migration, version, sha256, applied_at)"
            connection.execute(plain(fields + " VALUES (%s, %s, %s, %s)"), values)
            connection.commit()
        return True


def _has_ledger(connection: Connection) -> bool:
    row = connection.execute("SELECT to_regclass(%s)", [LEDGER_TABLE]).fetchone()
    return bool(row and row[0])


def _where(span: Span) -> str:
    if span.column:
        return f" WHERE {sql.Identifier(span.column).as_string()} BETWEEN {span.low} AND {span.high}"
    return f" WHERE ctid >= '({span.low},0)' AND ctid < '({span.high + 1},0)'"


def _listed(columns: Sequence[str]) -> sql.Composed:
    return sql.SQL(", ").join(map(sql.Identifier, columns))
