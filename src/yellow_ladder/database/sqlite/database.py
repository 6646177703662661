"""SQLite through its standard driver."""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Collection, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from yellow_ladder import nolinks
from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.answers import Answering, WithoutClone
from yellow_ladder.database.kept import borrowed, let_go
from yellow_ladder.database.port import (
    LEDGER_TABLE,
    Chunk,
    Database,
    Details,
    LedgerEntry,
    OnAmount,
    Session,
    Span,
    Table,
    TableChanges,
    cut,
)
from yellow_ladder.database.row_changes import csv_path, paired
from yellow_ladder.database.sqlite import aside, look
from yellow_ladder.database.sqlite import changes as sqlite_changes
from yellow_ladder.database.sqlite.faults import explained, missing
from yellow_ladder.database.sqlite.locks import holders_of, lock_holders
from yellow_ladder.database.sqlite.look import quoted
from yellow_ladder.database.sqlite.reading import SqliteSelecting, rows_of
from yellow_ladder.database.sqlite.rights import connect, may_write, opened_as, owner_of
from yellow_ladder.database.sqlite.strangers import with_orders
from yellow_ladder.durable import sync_folder
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.files.copying import copy_bytes, remove_entry

BUSY_S = 5.0
_PAGES_A_STEP = 4096
# Fields of the header (file format, section 1.3) that a copy through the backup interface counts anew.
_COUNTERS = ((24, 28), (40, 44), (92, 100))


class SqliteDatabase(Answering, SqliteSelecting, WithoutClone):
    """A database in one file."""

    ending = "sqlite"
    moves_meanwhile = False
    _answers = look

    def __init__(self, address: DatabaseAddress, *, busy_s: float = BUSY_S) -> None:
        """Name the database; nothing is opened yet. `busy_s` is how long a lock of others is waited for."""
        self.address = address
        self._busy_s = busy_s

    def _reading(self) -> AbstractContextManager[sqlite3.Connection]:
        return self._connected()

    @contextlib.contextmanager
    def _connected(self, *, write: bool = False, lent: bool = True) -> Iterator[sqlite3.Connection]:
        path = self.address.path
        if not path.is_file():
            raise missing(self.address)
        uri, owner = opened_as(self.address, write=write)

        def open_it() -> sqlite3.Connection:
            connection = connect(uri, owner, uri=True, timeout=self._busy_s, isolation_level=None)
            return with_orders(connection) if lent and not write else connection

        try:
            if write:
                let_go()
                with contextlib.closing(open_it()) as connection:
                    yield connection
                return
            status = path.stat()  # another file under the name is another database
            what = (uri, owner, self._busy_s, status.st_dev, status.st_ino, lent)
            with borrowed(what, open_it, rests=_come_to_rest, is_lost=lambda _: False) as connection:
                yield connection
        except sqlite3.Error as fault:
            raise self._explained(fault) from fault

    def _explained(self, fault: sqlite3.Error) -> AnswerNo | BadInput:
        return explained(fault, self.address)

    def probe(self) -> str:
        with self._connected() as connection:
            connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
        return f"SQLite {sqlite3.sqlite_version}"

    def size_bytes(self) -> int:
        return sum(path.stat().st_size for path in self._files() if path.exists())

    def own_files(self) -> tuple[Path, ...]:
        return (*self._files(), *aside.files_of(aside.place_of(self.address.path)))

    def _files(self) -> tuple[Path, ...]:
        return aside.files_of(self.address.path)

    def tables(self) -> list[Table]:
        with self._connected() as connection:
            return look.tables(connection)

    def scalar(self, query: str) -> Any:
        # Somebody else's query may look up by an order that is not here: to be refused is better than not to find.
        with self._connected(lent=False) as connection:
            row = connection.execute(query).fetchone()
        return row[0] if row else None

    def count_rows(self, table: str) -> int:
        return self.count_all([table])[table]

    def count_all(self, tables: Sequence[str], *, gently: bool = False) -> dict[str, int]:
        count = look.count_gently if gently else look.count
        with self._connected() as connection:
            return {table: count(connection, table) for table in tables}

    def invalid_constraints(self, *, thorough: bool) -> list[str]:
        with self._connected() as connection:
            return look.invalid_constraints(connection, thorough=thorough)

    def writers(self) -> list[int]:
        return lock_holders(self.address.path)

    def holders(self) -> list[int]:
        return holders_of(*self._files())

    def sessions(self) -> list[Session]:
        """Nobody keeps a list."""
        return []

    def lacks(self) -> list[tuple[str, str]]:
        path = self.address.path
        if path.is_file() and not may_write(path):
            owner = owner_of(path)
            if owner is not None:
                what = f"{path} is worked on as its owner or its folder's (uid {owner[0]}), who may not write there"
                return [(what, f"chown -R {owner[0]} {path.parent}, or let root own every folder above it")]
            return [(f"this account cannot write {path} and beside it", "run yl as root")]
        return []

    def unfinished(self) -> str:
        journal = self._files()[3]
        with contextlib.suppress(OSError):
            with os.fdopen(nolinks.open_regular(journal), "rb") as stream:
                is_hot = any(stream.read(8))
            if is_hot and not self.writers():
                return f"{journal.name} holds a transaction that a crash left; the next writer takes it back"
        return ""

    def spans(self, table: str, parts: int, edges: Sequence[int] = ()) -> list[Span | None]:
        query = f"SELECT min(rowid), max(rowid) FROM {quoted(table)}"
        try:
            with self._connected() as connection:
                low, high = connection.execute(query).fetchone()
                number = look.row_number(connection, table)
        except AnswerNo:  # a table WITHOUT ROWID
            return [None]
        if low is None or high - low < parts:
            return [None]
        return [Span(*ends, number) for ends in cut(low, high, parts, edges if number else ())]

    def read_rows(
        self, table: Table, columns: Sequence[str], span: Span | None, *, lenient: bool = False
    ) -> Iterator[Chunk]:
        wanted = ", ".join(map(quoted, columns))
        yield from self._answer(f"SELECT {wanted} FROM {quoted(table.name)}{rows_of(span)}", lenient=lenient)

    @contextlib.contextmanager
    def backed_up(self, target: Path, on_amount: OnAmount, *, at_rest: bool) -> Iterator[SqliteDatabase]:  # noqa: ARG002
        self._copy_to(target, on_amount)
        yield self._opened(target)

    @contextlib.contextmanager
    def held_still(self, scratch: Path) -> Iterator[SqliteDatabase]:
        remove_entry(scratch)
        self._copy_to(scratch, lambda _done, _total: None)
        yield self._opened(scratch)

    def _copy_to(self, target: Path, on_amount: OnAmount) -> None:
        with self._connected() as source:
            page_bytes = source.execute("PRAGMA page_size").fetchone()[0]
            # SQLite would make the file with this account's umask, readable by others for an instant.
            os.close(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
            copy = sqlite3.connect(target, isolation_level=None)
            try:
                copy.execute("PRAGMA synchronous = OFF")  # synced once, below
                # It would be made with the owner's rights, who has none in the tool's folder.
                copy.execute("PRAGMA journal_mode = OFF")

                def tell(_status: int, left: int, total: int) -> None:
                    on_amount((total - left) * page_bytes, total * page_bytes)

                source.backup(copy, pages=_PAGES_A_STEP, progress=tell)
            finally:
                copy.close()
        for ending in aside.COMPANIONS:
            remove_entry(target.with_name(target.name + ending))
        with target.open("rb") as stream:
            os.fsync(stream.fileno())
        sync_folder(target.parent)

    def is_same_as_backup(self, backup: Path) -> bool:
        """Only a file without a filled write-ahead log can be compared by its bytes."""
        wal = self._files()[1]
        if wal.exists() and wal.stat().st_size:
            return False
        with os.fdopen(nolinks.open_regular(self.address.path), "rb") as ours, backup.open("rb") as theirs:
            first, second = bytearray(ours.read(100)), bytearray(theirs.read(100))
            for low, high in _COUNTERS:
                first[low:high] = second[low:high] = bytes(high - low)
            if first != second:
                return False
            while (left := ours.read(1024 * 1024)) == theirs.read(1024 * 1024):
                if not left:
                    return True
        return False

    def check_backup(self, backup: Path) -> None:
        copy = self._opened(backup)
        try:
            with copy._connected() as connection:
                answer = next(iter(look.unsound(connection, "quick_check")), "")
        except BadInput as broken:
            answer = broken.problems[0].message
        if answer:
            text = f"the copy of the database `{self.address.name}` is not sound: {answer}"
            raise AnswerNo(Problem("backup-damaged", text, "check the disk; make another backup", str(backup)))

    def _opened(self, backup: Path) -> SqliteDatabase:
        return SqliteDatabase(DatabaseAddress(self.address.name, "sqlite", backup, is_kept=True))

    def copied_to(self, backup: Path, scratch: Path) -> SqliteDatabase:
        self.drop_scratch(scratch)
        copy_bytes(backup, scratch)
        scratch.chmod(0o600)
        return SqliteDatabase(DatabaseAddress(self.address.name, "sqlite", scratch))

    def opened_scratch(self, scratch: Path) -> SqliteDatabase:
        return self._opened(scratch)

    def drop_scratch(self, scratch: Path) -> None:
        for ending in ("", *aside.COMPANIONS):
            remove_entry(scratch.with_name(scratch.name + ending))

    def changes_since(self, then: Database, leave_out: Collection[str] = ()) -> list[TableChanges]:
        pairs = paired(then.tables(), self.tables())
        with self._compared(then) as connection:
            found = [
                sqlite_changes.count_changes(connection, *pair) for name, pair in pairs.items() if name not in leave_out
            ]
        return [one for one in found if one.added or one.changed or one.deleted]

    def write_changes_since(self, then: Database, changes: Sequence[TableChanges], folder: Path) -> list[Path]:
        wanted, written = {one.table for one in changes}, []
        with self._compared(then) as connection:
            for name, pair in paired(then.tables(), self.tables()).items():
                if name in wanted:
                    path = csv_path(folder, self.address.name, name)
                    sqlite_changes.write_changes(connection, *pair, path)
                    written.append(path)
        return written

    @contextlib.contextmanager
    def _compared(self, then: Database) -> Iterator[sqlite3.Connection]:
        try:
            with sqlite_changes.both_opened(then.address.path, self.address.path) as connection:
                yield connection
        except sqlite3.Error as fault:
            raise self._explained(fault) from fault

    def details(self) -> Details:
        status = nolinks.status_of(nolinks.trusted(self.address.path))
        return {"uid": status.st_uid, "gid": status.st_gid, "mode": status.st_mode & 0o7777}

    def restore_from(self, backup: Path, details: Details) -> None:
        """The present file goes with its log and its journal: beside an older one, SQLite would replay them into it."""
        path = self.address.path
        fresh = path.with_name(f".{path.name}.restored")
        remove_entry(fresh)
        copy_bytes(backup, fresh)
        nolinks.set_owner(fresh, details["uid"], details["gid"])
        nolinks.set_mode(fresh, details["mode"])
        with self._nobody_writing():
            if nolinks.is_there(path):
                self.drop_leftovers()
            aside.move(path)
        # Only now: a connection that closes removes the log of the name that it knows, which may be a newer one's.
        nolinks.rename(fresh, path)
        nolinks.sync_folder(path.parent)

    @contextlib.contextmanager
    def _nobody_writing(self) -> Iterator[None]:
        """Keep writers waiting, so that none is in the middle of a transaction; one that waits goes on in the file that
        was set aside, and has it open. What is no database any more has no writers.
        """
        with contextlib.ExitStack() as held:
            with contextlib.suppress(LadderError, sqlite3.Error):
                connection = held.enter_context(self._connected(write=True))
                connection.execute("BEGIN IMMEDIATE")
            yield

    def keep_others_out(self) -> None:
        """A file has no door; whoever still has it open is found when it is set aside."""

    def let_others_in(self) -> None:
        """Nobody was kept out."""

    def why_others_get_in(self) -> tuple[str, str]:
        return "", ""

    def why_only_counted(self) -> tuple[str, str]:
        return "", ""

    def others_of_server(self) -> list[str]:
        return []

    def data_folder(self) -> None:
        """There is no server."""

    def sets_aside(self) -> bool:
        return True

    def set_aside(self) -> SqliteDatabase | None:
        """Whoever had the file open may still be writing to it under its new name."""
        place = aside.complete(self.address.path)
        if place is None:
            return None
        holder = aside.holder_of(place)
        if holder is not None:
            text = f"process {holder} still has the database `{self.address.name}` open that was set aside"
            raise AnswerNo(
                Problem("still-written-to", text, f"see what it is, and end it: ps -fp {holder}", str(place))
            )
        return SqliteDatabase(DatabaseAddress(self.address.name, "sqlite", place))

    def drop_leftovers(self) -> None:
        """Its log and its journal go with it."""
        aside.drop(self.address.path)

    def ledger(self) -> list[LedgerEntry]:
        with self._connected() as connection:
            if not _has_ledger(connection):
                return []
            query = f"SELECT migration, version, sha256, applied_at FROM {LEDGER_TABLE} ORDER BY rowid"
            return [LedgerEntry(*row) for row in connection.execute(query)]

    def apply(self, statements: Sequence[str], entry: LedgerEntry) -> bool:
        """Foreign keys are off while tables are rebuilt and are checked before the commit."""
        with self._connected(write=True) as connection:
            connection.execute("PRAGMA foreign_keys = OFF")
            # Take the write lock now: a transaction that begins with reading may be refused it later.
            connection.execute("BEGIN IMMEDIATE")
            connection.execute(
                f"CREATE TABLE IF NOT EXISTS {LEDGER_TABLE}"
                " (migration TEXT PRIMARY KEY, version TEXT NOT NULL, sha256 TEXT NOT NULL, applied_at TEXT NOT NULL)"
            )
            query = f"SELECT sha256 FROM {LEDGER_TABLE} WHERE migration = ?"
            if connection.execute(query, (entry.migration,)).fetchone():
                connection.execute("ROLLBACK")
                return False
            # Rows that were broken before are not this migration's doing.
            broken_before = len(connection.execute("PRAGMA foreign_key_check").fetchall())
            for statement in statements:
                connection.execute(statement)
                if not connection.in_transaction:
                    raise self._refused(entry, "it ends the transaction by itself")
            broken = len(connection.execute("PRAGMA foreign_key_check").fetchall())
            if broken > broken_before:
                raise self._refused(entry, f"{broken - broken_before:,} rows would refer to rows that do not exist")
            values = (entry.migration, entry.version, entry.sha256, entry.applied_at)
            connection.execute(f"INSERT INTO {LEDGER_TABLE} VALUES (?, ?, ?, ?)", values)
            connection.execute("COMMIT")
        return True

    def _refused(self, entry: LedgerEntry, why: str) -> AnswerNo:
        text = f"the migration {entry.migration} to {entry.version} was not kept: {why}"
        return AnswerNo(Problem("migration-refused", text, "report it to the release's publisher", self.address.name))


def _come_to_rest(connection: sqlite3.Connection) -> None:
    connection.text_factory = str
    if connection.in_transaction:
        connection.execute("ROLLBACK")


def _has_ledger(connection: sqlite3.Connection) -> bool:
    query = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = ?"
    return connection.execute(query, (LEDGER_TABLE,)).fetchone() is not None
