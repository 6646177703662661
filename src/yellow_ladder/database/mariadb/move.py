"""Whole MariaDB databases: dumped and loaded by the server's own programs through zstd."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import IO

import zstandard

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Client, run_client
from yellow_ladder.database.let_in import for_programs
from yellow_ladder.database.mariadb.connect import Connection, call_of, connected, locked, quoted, rows
from yellow_ladder.database.mariadb.parts import END_MARK, Part
from yellow_ladder.database.port import Details, OnAmount
from yellow_ladder.errors import AnswerNo, Problem

_BLOCK = 1024 * 1024
_LEVEL = 1  # the server's programs write faster than a stronger level compresses
_TAIL = 4096
# The program's header would have a date that the site's own mode allowed (31 February) loaded as no date at all.
_MODES = b"SQL_MODE='NO_AUTO_VALUE_ON_ZERO'", b"SQL_MODE='NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES'"
# One moment for all tables. Bytes as hex, since text would depend on character sets; times in UTC; no date in the
# header, so that the same data give the same dump; no tablespaces, which need rights that an owner does not have.
_DUMP = (
    "--single-transaction", "--quick", "--hex-blob", "--tz-utc",
    "--default-character-set=utf8mb4", "--no-tablespaces", "--max-allowed-packet=1G", "--skip-dump-date",
)  # fmt: skip
# A connection that breaks has to end the load: a new one would go on without this session's settings.
_LOAD = (
    "--batch", "--binary-mode", "--skip-reconnect", "--default-character-set=utf8mb4", "--max-allowed-packet=1G",
)  # fmt: skip
# Without these, MySQL's program asks for what older servers lack, and writes statements that only an admin may run.
_OLDER_KIN = ("--column-statistics=0", "--set-gtid-purged=OFF")


def dump(address: DatabaseAddress, program: Client, target: Path, on_amount: OnAmount, parts: Sequence[Part]) -> None:
    """Dump a database as SQL into one compressed file, part by part."""
    done = 0

    def compress(source: IO[bytes]) -> None:
        nonlocal done
        packer = zstandard.ZstdCompressor(level=_LEVEL, threads=os.cpu_count() or 1)
        # Not inherited by the dump program, which would keep the file open after a kill.
        descriptor = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "wb") as stream:
            with packer.stream_writer(stream, closefd=False) as writer:
                while block := source.read(_BLOCK):
                    writer.write(block.replace(*_MODES, 1) if not done else block)
                    done += len(block)
            stream.flush()
            os.fsync(stream.fileno())

    with for_programs(address) as given, call_of(given) as (arguments, call), _thread_at_the_end(compress) as sink:
        stalled = _Stalled(address)

        def look_on() -> None:
            on_amount(done, 0)
            stalled.see(done)

        looking = replace(call, target=sink, look_on=look_on)
        for part in parts:
            if callable(part):
                part(sink)
                sink.flush()
            else:
                argv = [program.path, *arguments, *_DUMP, *part, address.database]
                run_client(argv, looking, f"the dump of the database `{address.name}`")


class _Stalled:
    """Sees that a dump that waits for a lock does not wait for ever: its program has no limit of its own."""

    def __init__(self, address: DatabaseAddress) -> None:
        self._address, self._done, self._since = address, -1, time.monotonic()

    def see(self, done: int) -> None:
        """Take how far the dump is; raises AnswerNo where it waits for somebody's lock for too long."""
        now = time.monotonic()
        if done != self._done:
            self._done, self._since = done, now
        elif now - self._since > self._address.lock_wait_s:
            self._since = now
            with connected(self._address) as connection:
                waiting = rows(connection, _WAITING)
            if waiting:
                raise locked(self._address, f"the dump waits, {waiting[0][0]}")


_WAITING = """
SELECT state FROM information_schema.processlist
WHERE db = DATABASE() AND id <> CONNECTION_ID() AND state LIKE 'Waiting for table%lock'"""


@contextlib.contextmanager
def _thread_at_the_end(work: Callable[[IO[bytes]], None]) -> Iterator[IO[bytes]]:
    """A pipe to write to, at whose other end a thread works; what the thread stumbles over is raised here."""
    reading, writing = os.pipe()
    source, sink = os.fdopen(reading, "rb"), os.fdopen(writing, "wb")
    faults: list[BaseException] = []

    def run() -> None:
        try:
            with source:  # closed at a fault too, so that the program at the other end does not wait for ever
                work(source)
        except (OSError, zstandard.ZstdError) as fault:
            faults.append(fault)

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        yield sink
    except AnswerNo:
        sink.close()
        thread.join()
        if faults:  # the program failed because nobody took what it wrote
            raise faults[0] from None
        raise
    finally:
        with contextlib.suppress(OSError):
            sink.close()
        thread.join()
    if faults:
        raise faults[0]


def check_dump(source: Path) -> None:
    """Raise AnswerNo unless a dump can be unpacked to the mark at its end."""
    tail = b""
    try:
        with source.open("rb") as packed, zstandard.ZstdDecompressor().stream_reader(packed) as stream:
            while block := stream.read(_BLOCK):
                tail = (tail + block)[-_TAIL:]
    except zstandard.ZstdError as fault:
        tail = str(fault).encode()
    if END_MARK not in tail:
        text = f"the dump {source.name} breaks off before its end"
        raise AnswerNo(
            Problem("backup-damaged", text, "use another backup, and see whether the disk is failing", str(source))
        )


def load(address: DatabaseAddress, program: Client, database: str, source: Path) -> None:
    """Load a dump into an empty database."""
    reading, writing = os.pipe()
    faults: list[BaseException] = []

    def unpack() -> None:
        try:
            with os.fdopen(writing, "wb") as sink, source.open("rb") as packed:
                for block in zstandard.ZstdDecompressor().read_to_iter(packed, read_size=_BLOCK, write_size=_BLOCK):
                    sink.write(block)
        except (OSError, zstandard.ZstdError) as fault:
            faults.append(fault)

    thread = threading.Thread(target=unpack, daemon=True)
    with os.fdopen(reading, "rb") as pipe, for_programs(address) as given, call_of(given) as (arguments, call):
        thread.start()
        argv = [program.path, *arguments, *_LOAD, f"--database={database}"]
        run_client(argv, replace(call, source=pipe), f"loading the dump of the database `{address.name}`")
    thread.join()
    if faults:
        text = f"the dump {source.name} cannot be unpacked: {faults[0]}"
        raise AnswerNo(Problem("backup-damaged", text, "use another backup", str(source))) from faults[0]


def make_empty(address: DatabaseAddress, name: str, details: Details) -> None:
    """Make an empty database in place of one of that name. What accounts may do there is kept by the server."""
    with connected(address, database="") as connection:
        rows(connection, f"DROP DATABASE IF EXISTS {quoted(name)}")
        rows(connection, f"CREATE DATABASE {quoted(name)} {_characters(details)}")


def exchange(address: DatabaseAddress, fresh: str, gone: str, details: Details) -> None:
    """Let the tables of a database beside come in, and the present ones go to another, all in one instant.

    Whoever writes meanwhile writes to the one or to the other. Code of the present ones (views, triggers, routines,
    events) is removed, and has to be loaded anew. Raises AnswerNo where this account may not make such databases.
    """
    make_empty(address, gone, details)
    with connected(address, database="") as connection:
        old, new, aside = quoted(address.database), quoted(fresh), quoted(gone)
        rows(connection, f"CREATE DATABASE IF NOT EXISTS {old} {_characters(details)}")
        _remove_code(connection, address.database, before=True)
        _remove_code(connection, fresh, before=True)
        moves = [f"{old}.{one} TO {aside}.{one}" for one in _tables(connection, address.database)]
        moves += [f"{new}.{one} TO {old}.{one}" for one in _tables(connection, fresh)]
        if moves:
            rows(connection, "RENAME TABLE " + ", ".join(moves))
        _remove_code(connection, address.database, before=False)
        rows(connection, f"ALTER DATABASE {old} {_characters(details)}")
        rows(connection, f"DROP DATABASE {new}")


def _tables(connection: Connection, database: str) -> list[str]:
    query = (
        "SELECT table_name FROM information_schema.tables WHERE table_schema = %s"
        " AND table_type NOT IN ('VIEW', 'SYSTEM VIEW') ORDER BY 1"
    )
    return [quoted(str(name)) for (name,) in rows(connection, query, [database])]


# A trigger keeps its table from being moved to another database, and an event would write while it is moved.
_BEFORE = (("TRIGGER", "trigger_name", "triggers", "trigger_schema"), ("EVENT", "event_name", "events", "event_schema"))
_AFTER = (("VIEW", "table_name", "views", "table_schema"),)


def _remove_code(connection: Connection, database: str, *, before: bool) -> None:
    for kind, column, listed, of in _BEFORE if before else _AFTER:
        query = f"SELECT {column} FROM information_schema.{listed} WHERE {of} = %s"
        for (name,) in rows(connection, query, [database]):
            rows(connection, f"DROP {kind} IF EXISTS {quoted(database)}.{quoted(str(name))}")
    if not before:
        query = "SELECT routine_type, routine_name FROM information_schema.routines WHERE routine_schema = %s"
        for kind, name in rows(connection, query, [database]):
            rows(connection, f"DROP {kind} IF EXISTS {quoted(database)}.{quoted(str(name))}")


def _characters(details: Details) -> str:
    return f"CHARACTER SET {details['charset']} COLLATE {details['collation']}"


def exists(address: DatabaseAddress, name: str) -> bool:
    """Whether the server has a database of a name."""
    with connected(address, database="") as connection:
        query = "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s"
        return bool(rows(connection, query, [name]))


def drop(address: DatabaseAddress, name: str) -> None:
    """Remove a database; may be repeated."""
    with connected(address, database="") as connection:
        rows(connection, f"DROP DATABASE IF EXISTS {quoted(name)}")


def silence_events(address: DatabaseAddress, name: str) -> None:
    """Remove what would start to work by itself in a scratch database."""
    # Loaded events are enabled: in a scratch database they would send mail and delete rows like the real ones.
    with connected(address, database=name) as connection:
        query = "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE()"
        for (event,) in rows(connection, query):
            rows(connection, f"DROP EVENT {quoted(event)}")


def older_kin_options(*, mariadb: bool) -> list[str]:
    """Options that only MySQL's program knows and needs."""
    return [] if mariadb else list(_OLDER_KIN)
