"""Connections to PostgreSQL, with everything fixed that changes how a value is written as text."""

from __future__ import annotations

import contextlib
import glob
import select
from collections.abc import Iterator
from typing import Any

import psycopg
from psycopg import errors, sql

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Call, Client, find_clients, own_client
from yellow_ladder.database.kept import borrowed, let_go
from yellow_ladder.database.let_in import account_of, seen_as, user_of
from yellow_ladder.database.secrets import how_to_be_let_in, password_of, secret_in_memory
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.words import some_of

OUR_NAME = "yellow-ladder"
_CONNECT_WITHIN_S = 10
_FOLDERS = ("/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/usr/local/pgsql/bin", "/opt/postgresql/*/bin")
_FIXED = {
    "TimeZone": "UTC",
    "DateStyle": "ISO",
    "IntervalStyle": "postgres",
    "extra_float_digits": "3",
    "bytea_output": "hex",
    "lc_monetary": "C",
    "xmlbinary": "base64",
    "statement_timeout": "0",
    "idle_in_transaction_session_timeout": "0",
    "jit": "off",
    "default_transaction_read_only": "off",  # others may be kept from writing for a while, see `move`
}
# The server is there, and does not take who we are.
_REFUSALS = ("authentication failed", "no password supplied", "pg_hba.conf", 'role "')
Connection = psycopg.Connection[Any]


def _fixed(address: DatabaseAddress) -> dict[str, str]:
    return {**_FIXED, "lock_timeout": f"{address.lock_wait_s * 1000:.0f}ms"}


def given(address: DatabaseAddress, database: str | None = None) -> dict[str, str]:
    """Connection parameters as the engine names them, without the password."""
    values = {
        "host": address.socket or address.host,
        "port": str(address.port) if address.port else "",
        "user": user_of(address),
        "dbname": database or address.database,
    }
    return {name: value for name, value in values.items() if value}


@contextlib.contextmanager
def connected(
    address: DatabaseAddress, *, database: str | None = None, encoding: str = "UTF8", autocommit: bool = True
) -> Iterator[Connection]:
    """A connection for one block; faults of the server come out as AnswerNo or BadInput with a remedy."""
    let_go()
    try:
        connection = _connect(address, database, encoding=encoding, autocommit=autocommit)
        try:
            yield connection
        finally:
            connection.close()
    except psycopg.Error as fault:
        raise explained(fault, address) from fault


@contextlib.contextmanager
def reading(address: DatabaseAddress, *, encoding: str = "UTF8") -> Iterator[Connection]:
    """A connection that only reads, each time as of one moment: its own, or the one that the address names."""

    def connect() -> Connection:
        connection = _connect(address, None, encoding=encoding, autocommit=False)
        connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        connection.read_only = True
        return connection

    try:
        with borrowed((address, encoding), connect, rests=Connection.rollback, is_lost=_is_lost) as connection:
            if address.snapshot:
                connection.execute(plain("SET TRANSACTION SNAPSHOT ") + sql.Literal(address.snapshot))
            yield connection
    except psycopg.Error as fault:
        raise explained(fault, address) from fault


def _is_lost(connection: Connection) -> bool:
    """Whether a connection at rest has ended: its server would have nothing to say otherwise."""
    if connection.closed:
        return True
    waiting, _, _ = select.select([connection.fileno()], [], [], 0)
    return bool(waiting)


def _connect(address: DatabaseAddress, database: str | None, *, encoding: str, autocommit: bool) -> Connection:
    password = password_of(address)
    text = psycopg.conninfo.make_conninfo(
        "",
        **given(address, database),
        connect_timeout=_CONNECT_WITHIN_S,
        application_name=OUR_NAME,
        client_encoding=encoding,
        options=" ".join(f"-c {name}={value}" for name, value in _fixed(address).items()),
        **({"password": password} if password is not None else {}),
    )
    with seen_as(account_of(address)):
        return psycopg.connect(text, autocommit=autocommit, prepare_threshold=None)


def explained(fault: psycopg.Error, address: DatabaseAddress) -> AnswerNo | BadInput:
    """A fault of the driver as an error with a remedy."""
    name, place = address.name, address.place
    said = (fault.diag.message_primary or str(fault)).strip().replace("\n", " ")
    if fault.diag.message_detail:
        said = f"{said} ({fault.diag.message_detail})"
    if isinstance(fault, errors.InvalidCatalogName):
        text = f"the server has no database of the name in databases.url of `{name}`: {said}"
        return BadInput(Problem("database-missing", text, "correct databases.url in the site file", place))
    if isinstance(fault, psycopg.OperationalError) and fault.sqlstate is None:
        text = f"the database `{name}` ({place}) does not let us in: {said}"
        remedy = how_to_be_let_in(address, is_refused=any(word in said for word in _REFUSALS))
        return AnswerNo(Problem("database-unreachable", text, remedy, place))
    if isinstance(fault, errors.LockNotAvailable | errors.DeadlockDetected):
        return locked(address, said)
    if isinstance(fault, errors.OutOfMemory):
        remedy = "raise max_locks_per_transaction in postgresql.conf and restart the server: a dump locks every table"
        return AnswerNo(Problem("database-full", f"the server of the database `{name}` refused: {said}", remedy, place))
    if isinstance(fault, errors.DiskFull):
        return AnswerNo(Problem("disk-full", f"no space left for the database `{name}`: {said}", "free space there"))
    if isinstance(fault, errors.InsufficientPrivilege):
        text = f"the account {address.user or 'used'} may not do this in the database `{name}`: {said}"
        return AnswerNo(Problem("database-rights", text, "give it the right, or name another account in databases.url"))
    return AnswerNo(
        Problem("database-refused", f"the database `{name}` refused: {said}", "look into it with psql", place)
    )


def locked(address: DatabaseAddress, said: str) -> AnswerNo:
    """The error for a lock of somebody else."""
    held = _held_by_others(address)
    tables = f" ({some_of(sorted({table for table, _ in held}))})" if held else ""
    waited = f"for longer than {address.lock_wait_s:g} s"
    text = f"the database `{address.name}` is locked by another session {waited}{tables}: {said}"
    remedy = "see who holds it: SELECT pid, usename, query FROM pg_stat_activity WHERE state <> 'idle'"
    if held:
        numbers = ", ".join(str(pid) for pid in sorted({pid for _, pid in held}))
        remedy = f"see what holds it: SELECT pid, usename, state, query FROM pg_stat_activity WHERE pid IN ({numbers})"
    return AnswerNo(Problem("database-locked", text, remedy, address.place))


def _held_by_others(address: DatabaseAddress) -> list[tuple[str, int]]:
    """(table, server process) of locks that keep readers waiting, or writers where there are none of those."""
    query = (
        "SELECT l.relation::regclass::text, l.pid, l.mode = 'AccessExclusiveLock' FROM pg_locks AS l"
        " JOIN pg_class AS c ON c.oid = l.relation JOIN pg_namespace AS n ON n.oid = c.relnamespace"
        " WHERE l.granted AND l.locktype = 'relation' AND c.relkind IN ('r', 'p') AND n.nspname !~ '^pg_'"
        " AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())"
        " AND l.pid <> pg_backend_pid() AND l.mode NOT IN ('AccessShareLock', 'RowShareLock')"
    )
    try:
        connection = _connect(address, None, encoding="UTF8", autocommit=True)
        with contextlib.closing(connection):
            found = connection.execute(plain(query)).fetchall()
    except (psycopg.Error, BadInput):
        return []
    strongest = any(is_whole for _, _, is_whole in found)
    return [(str(table), int(pid)) for table, pid, is_whole in found if is_whole or not strongest]


def command(text: str, *names: str) -> sql.Composed:
    """A statement with quoted identifiers in place of `{}`."""
    return sql.SQL(text).format(*map(sql.Identifier, names))


def plain(text: str) -> sql.SQL:
    """A statement that was put together from quoted parts."""
    return sql.SQL(text)


@contextlib.contextmanager
def call_of(address: DatabaseAddress) -> Iterator[Call]:
    """How a client program is to be called so that it finds the server and the password."""
    password = password_of(address)
    if password is None:
        yield Call({"PGAPPNAME": OUR_NAME})
        return
    line = "*:*:*:*:" + password.replace("\\", "\\\\").replace(":", "\\:") + "\n"
    with secret_in_memory(line) as (path, descriptor):
        yield Call({"PGAPPNAME": OUR_NAME, "PGPASSFILE": path}, (descriptor,))


def where(address: DatabaseAddress, database: str | None = None) -> list[str]:
    """The arguments that name server and database; a password is never among them."""
    return ["--no-password", "--dbname", psycopg.conninfo.make_conninfo("", **given(address, database))]


def client(program: str, server_major: int, programs: str = "") -> Client:
    """The program of the server's own version, or the next newer: an older one refuses; first of all in `programs`.

    Raises AnswerNo without.
    """
    own = own_client((program,), programs)
    if own is not None and own.major >= server_major:
        return own
    folders = [folder for pattern in _FOLDERS for folder in (glob.glob(pattern) or [pattern])]  # noqa: PTH207
    found = [one for one in find_clients((program,), folders) if one.major >= server_major]
    if not found:
        text = f"there is no {program} of version {server_major} or newer, which the server needs"
        remedy = f"install the package postgresql-client-{server_major}, or name its folder: databases.programs"
        raise AnswerNo(Problem("client-missing", text, remedy, program))
    return min(found, key=lambda one: one.version)
