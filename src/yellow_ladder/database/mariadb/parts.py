"""What the server's dump program does not write so that it loads to the same, and how a dump is put together.

Views: it writes them by name, and one WITH CHECK OPTION over a view that comes later cannot be made. FLOAT: the server
prints six digits, and a value needs up to nine. Both are written here; what fires on changes of rows comes after them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import IO, Any

import pymysql
from pymysql.converters import escape_string

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.mariadb.connect import Connection, connected, is_mariadb, quoted, rows, streamed
from yellow_ladder.database.mariadb.look import granted, tables, version_of
from yellow_ladder.database.port import Table
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.words import some_of

Writer = Callable[[IO[bytes]], None]
Part = Sequence[str] | Writer
"""Options for one run of the dump program, or somebody who writes SQL by himself."""
END_MARK = b"-- Dump completed"
_SETTINGS = (
    "SET NAMES utf8mb4, SESSION time_zone = '+00:00', SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES',"
    " SESSION foreign_key_checks = 0, SESSION unique_checks = 0;\n"
)
_ROWS_A_STATEMENT, _BYTES_A_STATEMENT = 500, 1024 * 1024
_HISTORY_FROM = (10, 11)
_INEXACT_HISTORY = (
    "FLOAT values with many digits cannot be dumped together with the history of the system-versioned table"
)
_NO_CODE = ("--skip-triggers", "--skip-routines", "--skip-events")
_ONLY_CODE = ("--no-data", "--no-create-info", "--triggers", "--routines")


def whole(address: DatabaseAddress) -> list[Part]:
    """A whole database: tables with rows, exact values, then triggers, routines and events, then views."""
    ignored = _ignored_views(address)
    with connected(address) as connection:
        history = ["--dump-history"] if versioned_tables(connection) else []
    return [
        [*_NO_CODE, *history, *ignored],
        lambda sink: _write_exact_floats(address, sink),
        [*_ONLY_CODE, "--events", *ignored],
        lambda sink: _write_views(address, sink),
    ]


def versioned_tables(connection: Connection) -> list[str]:
    """System-versioned tables, whose older rows a dump leaves out unless it is asked for them."""
    query = (
        "SELECT table_name FROM information_schema.tables"
        " WHERE table_schema = DATABASE() AND table_type = 'SYSTEM VERSIONED' ORDER BY 1"
    )
    return [str(name) for (name,) in rows(connection, query)]


def lost_history(connection: Connection, *versions: tuple[int, ...]) -> list[tuple[str, str]]:
    """Tables whose history a dump by a server and a program of these versions would not give back, with remedies."""
    found = []
    versioned = versioned_tables(connection)
    if versioned and min(versions) < _HISTORY_FROM:
        seen = f"the table {versioned[0]} is system-versioned, and the dumps of this server leave its history out"
        found.append((seen, "bring server and client programs to MariaDB 10.11 or newer first"))
    inexact = [name for name, (table, kinds) in tables(connection).items()
               if name in versioned and _is_inexact(connection, table, kinds)]  # fmt: skip
    return found + [(f"{_INEXACT_HISTORY} {name}", f"make these columns of {name} DOUBLE") for name in inexact]


def code_of_others(connection: Connection) -> list[tuple[str, str]]:
    """Views, routines, triggers and events that an account other than this one has defined, where this one could not
    write them down or make them again in that one's name; each way with a remedy.
    """
    if _has_roles(connection):
        return []  # what a role may do is not listed
    ((me,),) = rows(connection, "SELECT CURRENT_USER()")
    theirs = [(what, by, hidden) for what, by, hidden in rows(connection, _CODE) if by != me]
    found, ours = [], is_mariadb(connection)
    version = tuple(map(int, version_of(connection).split(".")))
    unread = [(what, by) for what, by, hidden in theirs if hidden]
    if unread:
        by = unread[0][1]
        right = "SELECT ON mysql.proc" if ours else "SHOW_ROUTINE ON *.*"
        if ours and version >= _SHOWS_ROUTINES_FROM:
            right = "SHOW CREATE ROUTINE ON *.*"
        what = some_of(one for one, _ in unread)
        seen = f"{me} cannot read what {by} has defined, and a backup would be without it: {what}"
        found.append((seen, f"GRANT {right} TO {_quoted_account(me)}, or name the account {by} in databases.url"))
    if theirs and not granted(connection) & _MAY_NAME_OTHERS:
        what, by = some_of(one for one, _, _ in theirs), theirs[0][1]
        seen = f"{me} could not make again, when going back, what {by} has defined: {what}"
        right = ("SET USER" if version >= _NAMES_OTHERS_FROM else "SUPER") if ours else "SET_USER_ID"
        found.append(
            (seen, f"GRANT {right} ON *.* TO {_quoted_account(me)}, or name the account {by} in databases.url")
        )
    return found


def _quoted_account(account: str) -> str:
    user, _, host = account.rpartition("@")
    return f"'{user}'@'{host}'"


def _has_roles(connection: Connection) -> bool:
    try:
        return bool(list(rows(connection, "SELECT 1 FROM information_schema.applicable_roles LIMIT 1")))
    except pymysql.Error:
        return False  # an older server has none


_NAMES_OTHERS_FROM, _SHOWS_ROUTINES_FROM = (10, 5, 2), (11, 3)
_MAY_NAME_OTHERS = {"SUPER", "SET USER", "SET_USER_ID", "SET_ANY_DEFINER"}
_CODE = """
SELECT CONCAT('the ', LOWER(routine_type), ' ', routine_name), definer, routine_definition IS NULL
FROM information_schema.routines WHERE routine_schema = DATABASE()
UNION ALL SELECT CONCAT('the view ', table_name), definer, 0
FROM information_schema.views WHERE table_schema = DATABASE()
UNION ALL SELECT CONCAT('the trigger ', trigger_name), definer, 0
FROM information_schema.triggers WHERE trigger_schema = DATABASE()
UNION ALL SELECT CONCAT('the event ', event_name), definer, 0
FROM information_schema.events WHERE event_schema = DATABASE()
ORDER BY 3 DESC, 1"""


def definitions(address: DatabaseAddress) -> list[Part]:
    """Everything but rows and events."""
    ignored = _ignored_views(address)
    return [
        ["--no-data", *_NO_CODE, *ignored],
        [*_ONLY_CODE, "--skip-events", *ignored],
        lambda sink: _write_views(address, sink),
    ]


def code(address: DatabaseAddress) -> list[Part]:
    """What is neither a table nor a row: triggers, routines, events, views."""
    ignored = _ignored_views(address)
    return [[*_ONLY_CODE, "--events", *ignored], lambda sink: _write_views(address, sink)]


def only_events(address: DatabaseAddress) -> list[Part]:
    """Events alone, which start to work as soon as they are there."""
    return [
        ["--no-data", "--no-create-info", "--skip-triggers", "--skip-routines", "--events", *_ignored_views(address)]
    ]


def _views(connection: Connection) -> list[str]:
    query = "SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE() ORDER BY 1"
    return [str(name) for (name,) in rows(connection, query)]


def _ignored_views(address: DatabaseAddress) -> list[str]:
    with connected(address) as connection:
        return [f"--ignore-table={address.database}.{name}" for name in _views(connection)]


def _write_views(address: DatabaseAddress, sink: IO[bytes]) -> None:
    """Each view after those that it is made of, and the mark that nothing is missing."""
    with connected(address) as connection:
        texts = {}
        for name in _views(connection):
            ((_, text, charset, collation),) = rows(connection, f"SHOW CREATE VIEW {quoted(name)}")
            settings = f"SET character_set_client = {charset}, collation_connection = {collation};\n"
            texts[name] = (settings.encode(), str(text).encode())
    sink.write(_SETTINGS.encode())
    for name in in_order({name: text for name, (_, text) in texts.items()}):
        settings_before, text = texts[name]
        sink.write(settings_before + text + b";\n")
    sink.write(_SETTINGS.encode() + END_MARK + b"\n")


def in_order(texts: dict[str, bytes]) -> list[str]:
    """Names so that each comes after those that its text names."""
    done: list[str] = []
    waiting = {
        name: {other for other in texts if other != name and quoted(other).encode() in text}
        for name, text in texts.items()
    }
    while waiting:
        ready = sorted(name for name, needs in waiting.items() if not needs & waiting.keys())
        for name in ready or sorted(waiting):  # none is ready only where a view is broken anyway
            done.append(name)
            del waiting[name]
    return done


def _write_exact_floats(address: DatabaseAddress, sink: IO[bytes]) -> None:
    """Rows of tables in which a FLOAT is more than what the server prints of it, written once more with all digits."""
    with connected(address) as asking:
        found = [(table, kinds) for table, kinds in tables(asking).values() if _is_inexact(asking, table, kinds)]
        generated = {(str(table), str(column)) for table, column in rows(asking, _GENERATED)} if found else set()
        versioned = versioned_tables(asking)
    for table, kinds in found:
        if table.name in versioned:
            # Deleting and writing rows anew, as below, would become a part of their history.
            remedy = f"make these columns of {table.name} DOUBLE"
            raise AnswerNo(Problem("history-not-exact", f"{_INEXACT_HISTORY} {table.name}", remedy, table.name))
        columns = [name for name in table.columns if (table.name, name) not in generated]
        sink.write(f"{_SETTINGS}DELETE FROM {quoted(table.name)};\n".encode())
        with connected(address, as_text=True) as connection:
            for statement in _inserts(connection, table, columns, kinds):
                sink.write(statement)


_GENERATED = """
SELECT table_name, column_name FROM information_schema.columns
WHERE table_schema = DATABASE() AND extra LIKE '%GENERATED%'"""


def _is_inexact(connection: Connection, table: Table, kinds: dict[str, str]) -> bool:
    floats = [quoted(name) for name, kind in kinds.items() if kind == "float"]
    if not floats:
        return False
    differs = " OR ".join(f"CAST(CAST({name} AS CHAR) AS FLOAT) <> {name}" for name in floats)
    return bool(rows(connection, f"SELECT 1 FROM {quoted(table.name)} WHERE {differs} LIMIT 1"))


def _inserts(connection: Connection, table: Table, columns: Sequence[str], kinds: dict[str, str]) -> Iterator[bytes]:
    wanted = ", ".join(f"CAST({quoted(n)} AS DOUBLE)" if kinds[n] == "float" else quoted(n) for n in columns)
    start = f"INSERT INTO {quoted(table.name)} ({', '.join(map(quoted, columns))}) VALUES\n".encode()
    with streamed(connection, f"SELECT {wanted} FROM {quoted(table.name)}") as cursor:
        held: list[bytes] = []
        size = 0
        while chunk := cursor.fetchmany(_ROWS_A_STATEMENT):
            for row in chunk:
                held.append(b"(" + b",".join(_literal(value) for value in row) + b")")
                size += len(held[-1])
                if len(held) >= _ROWS_A_STATEMENT or size > _BYTES_A_STATEMENT:
                    yield start + b",\n".join(held) + b";\n"
                    held, size = [], 0
        if held:
            yield start + b",\n".join(held) + b";\n"


def _literal(value: Any) -> bytes:
    if value is None:
        return b"NULL"
    if isinstance(value, bytes):
        return b"X'" + value.hex().encode() + b"'"
    return b"'" + str(escape_string(str(value))).encode() + b"'"
