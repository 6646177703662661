"""MariaDB (and MySQL as far as it goes the same way), through a driver and the server's own programs."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import Any

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Client
from yellow_ladder.database.kept import let_go
from yellow_ladder.database.mariadb import clone, look, move, others, parts
from yellow_ladder.database.mariadb.apply import apply_once
from yellow_ladder.database.mariadb.connect import (
    Connection,
    client,
    connected,
    explaining,
    is_mariadb,
    quoted,
    reading,
    rows,
    streamed,
)
from yellow_ladder.database.port import (
    LEDGER_TABLE,
    Chunk,
    Details,
    LedgerEntry,
    OnAmount,
    Session,
    Span,
    Table,
    UndecodableText,
)
from yellow_ladder.database.row_changes import Row
from yellow_ladder.database.selecting import Selecting
from yellow_ladder.database.selection import Selection
from yellow_ladder.database.server import ServerDatabase, beside, counted, is_local, scratch_name
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.copying import remove_entry

OLDEST = {"mariadb": (10, 6), "mysql": (8, 0)}
_INTEGERS = ("tinyint", "smallint", "mediumint", "int", "bigint")
_CHUNK_ROWS, _CHUNK_BYTES = 4_000, 8 * 1024**2
_LARGEST = 2**63 - 1
# What the server takes for the name of a database, in characters.
LONGEST_NAME = 64


class MariadbDatabase(ServerDatabase, Selecting):
    """A database of a MariaDB server. With `held`, everything is read through one connection, at its moment."""

    ending = "sql.zst"
    _answers = look
    moves_meanwhile = True

    def __init__(self, address: DatabaseAddress, held: Connection | None = None) -> None:
        """Name the database; nothing is connected yet."""
        super().__init__(address)
        self._held = held

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

    def _client(self, kind: str) -> Client:
        with self._reading() as connection:
            version = tuple(map(int, look.version_of(connection).split(".")))
            return client(kind, version, mariadb=is_mariadb(connection))

    def probe(self) -> str:
        traits = self.traits()
        oldest = OLDEST[traits.engine]
        name = {"mariadb": "MariaDB", "mysql": "MySQL"}[traits.engine]
        if tuple(map(int, traits.version.split(".")))[:2] < oldest:
            text = f"the server of the database `{self.address.name}` is {name} {traits.version}"
            remedy = f"{name} {'.'.join(map(str, oldest))} is the oldest that is supported"
            raise AnswerNo(Problem("server-too-old", text, remedy))
        return f"{name} {traits.version}"

    def size_bytes(self) -> int:
        query = (
            "SELECT coalesce(sum(data_length + index_length), 0) FROM information_schema.tables"
            " WHERE table_schema = DATABASE()"
        )
        return int(self.scalar(query))

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

    def invalid_constraints(self, *, thorough: bool) -> list[str]:
        with self._reading() as connection:
            return look.dangling(connection) if thorough else []

    def sessions(self) -> list[Session]:
        let_go()  # the server would list them too
        with self._reading() as connection:
            return look.sessions(connection)

    def lacks(self) -> list[tuple[str, str]]:
        found, versions = [], []
        for kind in ("dump", "shell"):
            try:
                versions.append(self._client(kind).version)
            except AnswerNo as fault:
                found += [(problem.message, problem.remedy) for problem in fault.problems]
        with self._reading() as connection:
            missing = look.lacking_rights(connection)
            if versions and is_mariadb(connection):
                server = tuple(map(int, look.version_of(connection).split(".")))
                found += parts.lost_history(connection, server, *versions)
        if missing:
            names, user = ", ".join(missing), self.address.user or "the account"
            what = f"{user} lacks the rights {names}, which a backup and its return need"
            found.append((what, f"GRANT {names} ON {quoted(self.address.database)}.* TO it"))
        return found

    def unfinished(self) -> str:
        """What a crash left, the server takes back by itself when it starts."""
        return ""

    def spans(self, table: str, parts: int) -> list[Span | None]:
        """Parts are made of a whole-numbered key of one column."""
        types, (known, _) = self._types(table), self._known[table]
        if self._held is not None or len(known.key) != 1 or types[known.key[0]] not in _INTEGERS:
            return [None]
        key = quoted(known.key[0])
        with self._reading() as connection:
            ((low, high),) = rows(connection, f"SELECT min({key}), max({key}) FROM {quoted(table)}")
        if low is None or high > _LARGEST or high - low < parts:
            return [None]
        edges = [low + (high + 1 - low) * part // parts for part in range(parts + 1)]
        return [Span(edges[part], edges[part + 1] - 1) for part in range(parts)]

    def read_rows(
        self, table: Table, columns: Sequence[str], span: Span | None, *, lenient: bool = False
    ) -> Iterator[Chunk]:
        """Values come as the server writes them: numbers are text, binary ones bytes."""
        types = self._types(table.name)
        wanted = ", ".join(look.expression(name, types[name]) for name in columns)
        query = f"SELECT {wanted} FROM {quoted(table.name)}"
        if span is not None:
            query += f" WHERE {quoted(self._known[table.name][0].key[0])} BETWEEN {span.low} AND {span.high}"
        yield from self._stream(query, lenient=lenient)

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

    @contextlib.contextmanager
    def backed_up(self, target: Path, on_amount: OnAmount, *, at_rest: bool) -> Iterator[MariadbDatabase]:
        """At rest, every table is locked against writing for as long as the block lasts."""
        program = self._client("dump")
        with self._reading() as connection:
            kin = move.older_kin_options(mariadb=is_mariadb(connection))
        held = self._locked() if at_rest else contextlib.nullcontext()
        with held:
            whole = [part if callable(part) else [*kin, *part] for part in parts.whole(self.address)]
            move.dump(self.address, program, target, on_amount, whole)
            yield MariadbDatabase(self.address)

    @contextlib.contextmanager
    def _locked(self) -> Iterator[None]:
        with connected(self.address) as connection:
            names = [table.name for table in self.tables()]
            if names:
                rows(connection, "LOCK TABLES " + ", ".join(f"{quoted(name)} READ" for name in names))
            yield

    def check_backup(self, backup: Path) -> None:
        move.check_dump(backup)

    @contextlib.contextmanager
    def held_still(self, scratch: Path) -> Iterator[MariadbDatabase]:  # noqa: ARG002
        with connected(self.address, as_text=True) as connection:
            rows(connection, "SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            rows(connection, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield MariadbDatabase(self.address, connection)

    def copied_to(self, backup: Path, scratch: Path) -> MariadbDatabase:
        name = scratch_name(scratch)
        move.make_empty(self.address, name, self.details())
        move.load(self.address, self._client("shell"), name, backup)
        move.silence_events(self.address, name)
        return self.opened_scratch(scratch)

    def opened_scratch(self, scratch: Path) -> MariadbDatabase:
        return MariadbDatabase(self._named(scratch_name(scratch)))

    def _named(self, database: str) -> DatabaseAddress:
        return replace(self.address, database=database)

    def drop_scratch(self, scratch: Path) -> None:
        move.drop(self.address, scratch_name(scratch))

    def details(self) -> Details:
        with self._reading() as connection:
            ((charset, collation),) = rows(connection, "SELECT @@character_set_database, @@collation_database")
        return {"charset": charset, "collation": collation}

    def restore_from(self, backup: Path, details: Details) -> None:
        """The dump is loaded beside, and its tables change places with the present ones in one instant.

        Where this account may make no other database, the present one is made anew in its place.
        """
        program = self._shell()
        if not self.sets_aside():
            move.make_empty(self.address, self.address.database, details)
            move.load(self.address, program, self.address.database, backup)
            return
        with self._loaded_beside(details) as fresh:
            move.load(self.address, program, fresh.database, backup)

    @contextlib.contextmanager
    def _loaded_beside(self, details: Details) -> Iterator[DatabaseAddress]:
        """A database to be loaded within the block; then its tables and its code take the present ones' place."""
        fresh = self._named(beside(self.address.database, "new", LONGEST_NAME))
        move.make_empty(self.address, fresh.database, details)
        try:
            yield fresh
            with tempfile.TemporaryDirectory() as folder:
                code = Path(folder) / "code"
                move.dump(
                    fresh, MariadbDatabase(fresh)._client("dump"), code, lambda _done, _total: None, parts.code(fresh)
                )
                move.exchange(self.address, fresh.database, self._gone, details)
                move.load(self.address, self._shell(), self.address.database, code)
        except BaseException:
            with contextlib.suppress(LadderError):
                move.drop(self.address, fresh.database)
            raise

    @property
    def _gone(self) -> str:
        return beside(self.address.database, "old", LONGEST_NAME)

    def keep_others_out(self) -> None:
        others.keep_out(self.address)

    def let_others_in(self) -> None:
        others.let_in(self.address)

    def why_others_get_in(self) -> tuple[str, str]:
        return others.why_in(self.address)

    def data_folder(self) -> Path | None:
        if not is_local(self.address):
            return None
        with self._reading() as connection:
            return Path(str(rows(connection, "SELECT @@datadir")[0][0]))

    def sets_aside(self) -> bool:
        """Where the account may make a database beside its own."""
        if move.exists(self.address, self._gone):
            return True
        try:
            move.make_empty(self.address, self._gone, self.details())
        except AnswerNo:
            return False
        move.drop(self.address, self._gone)
        return True

    def set_aside(self) -> MariadbDatabase | None:
        return MariadbDatabase(self._named(self._gone)) if move.exists(self.address, self._gone) else None

    def _shell(self) -> Client:
        """The program to load with, also where a kill has left no database of the name."""
        with connected(self.address, database="") as connection:
            version = tuple(map(int, look.version_of(connection).split(".")))
            return client("shell", version, mariadb=is_mariadb(connection))

    def why_no_clone(self) -> str:
        return clone.why_not(self.address)

    def make_clone(self, place: Path) -> int:
        return clone.make(self.address, self._client("dump"), place)

    def has_clone(self, place: Path) -> bool:
        return clone.is_there(place)

    def opened_clone(self, place: Path) -> AbstractContextManager[None]:  # noqa: ARG002
        """Its files are no database before they are taken in again."""
        return contextlib.nullcontext()

    def return_to_clone(self, place: Path, details: Details) -> None:
        if not self.sets_aside():
            move.make_empty(self.address, self.address.database, details)
            clone.put_back(self.address, self._shell(), place)
            return
        with self._loaded_beside(details) as fresh:
            clone.put_back(fresh, self._shell(), place)

    def drop_clone(self, place: Path) -> None:
        remove_entry(place)

    def drop_leftovers(self) -> None:
        """The tables that were moved aside."""
        move.drop(self.address, self._gone)

    def ledger(self) -> list[LedgerEntry]:
        with self._reading() as connection:
            if not rows(connection, f"SHOW TABLES LIKE '{LEDGER_TABLE}'"):
                return []
            query = f"SELECT migration, version, sha256, applied_at FROM {LEDGER_TABLE} ORDER BY place"
            return [LedgerEntry(*row) for row in rows(connection, query)]

    def apply(self, statements: Sequence[str], entry: LedgerEntry) -> bool:
        with connected(self.address) as connection:
            return apply_once(connection, statements, entry)
