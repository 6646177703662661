"""Connections to MariaDB (and MySQL), with everything fixed that changes how a value is written as text."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, TypeAlias

import pymysql
from pymysql.constants import CLIENT, CR, ER
from pymysql.converters import conversions
from pymysql.cursors import Cursor, SSCursor

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Call, Client, find_clients, own_client
from yellow_ladder.database.kept import borrowed, let_go
from yellow_ladder.database.let_in import account_of, seen_as, user_of
from yellow_ladder.database.secrets import how_to_be_let_in, password_of, secret_in_memory
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.words import some_of

_CONNECT_WITHIN_S = 10
_IDLE_S = 7 * 86_400
_FIXED = {
    "time_zone": "'+00:00'",
    "wait_timeout": str(_IDLE_S),
    "net_write_timeout": "3600",
    "sql_quote_show_create": "1",
    "group_concat_max_len": "67108864",
    "max_sort_length": "8388608",
}
_OWN_FILE = ".my.cnf"
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_UNREACHABLE = (CR.CR_CONNECTION_ERROR, CR.CR_CONN_HOST_ERROR, CR.CR_SERVER_GONE_ERROR, CR.CR_SERVER_LOST,
                ER.ACCESS_DENIED_ERROR, ER.CON_COUNT_ERROR)  # fmt: skip
_RIGHTS = (ER.DBACCESS_DENIED_ERROR, ER.TABLEACCESS_DENIED_ERROR, ER.SPECIFIC_ACCESS_DENIED_ERROR,
           ER.COLUMNACCESS_DENIED_ERROR, ER.PROCACCESS_DENIED_ERROR)  # fmt: skip
_LOCKED = (ER.LOCK_WAIT_TIMEOUT, ER.LOCK_DEADLOCK)
_FULL = (ER.RECORD_FILE_FULL, ER.DISK_FULL)
_ENCODERS_ONLY = {kind: how for kind, how in conversions.items() if not isinstance(kind, int)}
Connection: TypeAlias = "pymysql.connections.Connection[Any]"


@contextlib.contextmanager
def connected(
    address: DatabaseAddress, *, database: str | None = None, as_text: bool = False, encoding: str = "utf8mb4"
) -> Iterator[Connection]:
    """A connection for one block; faults of the server come out as AnswerNo or BadInput with a remedy.

    `as_text`: values are given as the server writes them. `database` may be empty, for none.
    """
    let_go()
    name = address.database if database is None else database
    with explaining(address):
        connection = _connect(address, name, as_text=as_text, encoding=encoding)
        try:
            yield connection
        finally:
            with contextlib.suppress(pymysql.Error):
                connection.close()


@contextlib.contextmanager
def reading(address: DatabaseAddress, *, as_text: bool = False, encoding: str = "utf8mb4") -> Iterator[Connection]:
    """A connection that only reads, kept for the next question where that is wanted."""

    def connect() -> Connection:
        return _connect(address, address.database, as_text=as_text, encoding=encoding)

    what = (address, as_text, encoding)
    with explaining(address), borrowed(what, connect, rests=_come_to_rest, is_lost=_is_lost) as connection:
        yield connection


def _come_to_rest(connection: Connection) -> None:
    connection.rollback()


def _is_lost(connection: Connection) -> bool:
    try:
        connection.ping(reconnect=False)
    except (pymysql.Error, OSError):
        return True
    return False


def _connect(address: DatabaseAddress, name: str, *, as_text: bool, encoding: str) -> Connection:
    given = _given(address, name, as_text=as_text, encoding=encoding)
    with seen_as(account_of(address)):
        connection = pymysql.connect(**given)
    try:
        with connection.cursor() as cursor:
            cursor.execute("SET SESSION " + ", ".join(f"{key} = {value}" for key, value in _fixed(address).items()))
            limit = "max_statement_time" if is_mariadb(connection) else "max_execution_time"
            cursor.execute(f"SET SESSION {limit} = 0")
    except BaseException:
        with contextlib.suppress(pymysql.Error):
            connection.close()
        raise
    return connection


def _fixed(address: DatabaseAddress) -> dict[str, str]:
    wait_s = str(max(1, round(address.lock_wait_s)))
    return {**_FIXED, "lock_wait_timeout": wait_s, "innodb_lock_wait_timeout": wait_s}


def _given(address: DatabaseAddress, name: str, *, as_text: bool, encoding: str) -> dict[str, Any]:
    given: dict[str, Any] = {
        "charset": "utf8mb4" if encoding == "binary" else encoding,
        "use_unicode": encoding != "binary",  # the driver knows no encoding that would leave bytes as they are
        "connect_timeout": _CONNECT_WITHIN_S,
        "autocommit": True,
        "client_flag": CLIENT.FOUND_ROWS,
        "database": name or None,
        "program_name": "yellow-ladder",
        "max_allowed_packet": 1024**3,
    }
    password = password_of(address)
    if password is not None:
        given["password"] = password
    elif not address.as_user and (Path.home() / _OWN_FILE).is_file():
        given["read_default_file"] = str(Path.home() / _OWN_FILE)
    if user_of(address):
        given["user"] = user_of(address)
    if address.socket:
        given["unix_socket"] = address.socket
    elif address.host:
        given["host"] = address.host
    if address.port:
        given["port"] = address.port
    # Within this machine nobody listens, and reading all the certificates would take longer than most questions.
    given["ssl_disabled"] = not address.host or address.host in _LOOPBACK
    if as_text:
        given["conv"] = _ENCODERS_ONLY
    return given


@contextlib.contextmanager
def explaining(address: DatabaseAddress) -> Iterator[None]:
    """Turn the driver's faults into errors with a remedy."""
    try:
        yield
    except pymysql.Error as fault:
        raise _explained(fault, address) from fault
    except OSError as fault:
        text = f"the connection to the database `{address.name}` ({address.place}) broke: {fault}"
        raise AnswerNo(Problem("database-unreachable", text, "see that the server runs", address.place)) from fault


def _explained(fault: pymysql.Error, address: DatabaseAddress) -> AnswerNo | BadInput:
    name, place = address.name, address.place
    code = fault.args[0] if fault.args and isinstance(fault.args[0], int) else 0
    said = str(fault.args[1]) if len(fault.args) > 1 else str(fault)
    if code == ER.BAD_DB_ERROR:
        text = f"the server has no database of the name in databases.url of `{name}`: {said}"
        return BadInput(Problem("database-missing", text, "correct databases.url in the site file", place))
    if code in _UNREACHABLE or (code == 0 and isinstance(fault, pymysql.InterfaceError)):
        text = f"the database `{name}` ({place}) does not let us in: {said or 'the connection is gone'}"
        remedy = how_to_be_let_in(address, is_refused=code == ER.ACCESS_DENIED_ERROR)
        return AnswerNo(Problem("database-unreachable", text, remedy, place))
    if code in _LOCKED:
        return locked(address, said)
    if code in _RIGHTS:
        text = f"the account {address.user or 'used'} may not do this in the database `{name}`: {said}"
        return AnswerNo(Problem("database-rights", text, "give it the right, or name another account in databases.url"))
    if code in _FULL:
        return AnswerNo(Problem("disk-full", f"no space left for the database `{name}`: {said}", "free space there"))
    text = f"the database `{name}` refused: {said}"
    return AnswerNo(Problem("database-refused", text, "look into it with the server's own shell", place))


def locked(address: DatabaseAddress, said: str) -> AnswerNo:
    """The error for a lock of somebody else."""
    held = _in_use(address)
    tables = f" ({some_of(held)})" if held else ""
    waited = f"for longer than {address.lock_wait_s:g} s"
    text = f"the database `{address.name}` is locked by another session {waited}{tables}: {said}"
    return AnswerNo(Problem("database-locked", text, "see who holds it: SHOW FULL PROCESSLIST", address.place))


def _in_use(address: DatabaseAddress) -> list[str]:
    """Tables that somebody has locked or is working on just now."""
    try:
        connection = _connect(address, address.database, as_text=False, encoding="utf8mb4")
        with contextlib.closing(connection):
            found = rows(connection, f"SHOW OPEN TABLES FROM {quoted(address.database)} WHERE In_use > 0")
    except (pymysql.Error, OSError, BadInput):
        return []
    return sorted(str(row[1]) for row in found)


def is_mariadb(connection: Connection) -> bool:
    """Whether the server is MariaDB, and not its older kin."""
    return "mariadb" in str(connection.get_server_info()).lower()  # type: ignore[no-untyped-call]


def rows(connection: Connection, query: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
    """All rows of a query."""
    with connection.cursor(Cursor) as cursor:
        cursor.execute(query, tuple(values) or None)
        return list(cursor.fetchall())


@contextlib.contextmanager
def streamed(connection: Connection, query: str) -> Iterator[SSCursor]:
    """A query whose rows stay with the server until they are fetched."""
    cursor = connection.cursor(SSCursor)
    try:
        cursor.execute(query)
        yield cursor
    finally:
        with contextlib.suppress(pymysql.Error, OSError):
            if connection.open:
                cursor.close()
        if not connection.open and (left := getattr(cursor, "_result", None)) is not None:
            # Closing reads the rest of an answer away; of a connection that was cut the driver has no stream for that,
            # and would look for it once more when it lets go of cursor and answer.
            cursor.connection = None  # type: ignore[assignment]
            left.unbuffered_active = False


def quoted(identifier: str) -> str:
    """An identifier in the engine's own quoting."""
    return "`" + identifier.replace("`", "``") + "`"


@contextlib.contextmanager
def call_of(address: DatabaseAddress) -> Iterator[tuple[list[str], Call]]:
    """The first arguments of a client program, and how it is to be called, so that it finds server and password."""
    arguments = ["--protocol=tcp"] if address.host or address.port else []
    for option, value in (
        ("socket", address.socket), ("host", address.host), ("port", address.port), ("user", address.user)
    ):  # fmt: skip
        if value:
            arguments.append(f"--{option}={value}")
    password = password_of(address)
    if password is None:
        yield arguments, Call()
        return
    secret = password.replace("\\", "\\\\").replace('"', '\\"')
    with secret_in_memory(f'[client]\npassword="{secret}"\n') as (path, descriptor):
        # What a file of the account's own says of passwords would otherwise be taken instead.
        yield [f"--defaults-file={path}", *arguments], Call(descriptors=(descriptor,))


def client(kind: str, version: tuple[int, ...], *, mariadb: bool, programs: str = "") -> Client:
    """The program `dump` or `shell` of the server's own kind, first of all in `programs`; raises AnswerNo without."""
    names = {
        ("dump", True): ("mariadb-dump", "mysqldump"), ("shell", True): ("mariadb", "mysql"),
        ("dump", False): ("mysqldump",), ("shell", False): ("mysql",),
    }[kind, mariadb]  # fmt: skip
    own = own_client(names, programs)
    if own is not None and own.version[:1] >= version[:1]:
        return own
    found = [one for one in find_clients(names, ("/usr/local/mysql/bin",)) if one.version[:1] >= version[:1]]
    if not found:
        text = f"there is no {names[0]} of version {version[0]} or newer, which the server needs"
        package = "mariadb-client" if mariadb else "mysql-client"
        remedy = f"install the package {package}, or name its folder: databases.programs"
        raise AnswerNo(Problem("client-missing", text, remedy, names[0]))
    return found[0]
