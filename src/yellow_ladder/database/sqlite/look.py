"""What a SQLite database is like and what is wrong in it. Everything here reads, in pieces that end within a moment:
in rollback-journal mode a reader keeps every writer from committing.
"""

from __future__ import annotations

import itertools
import re
import sqlite3
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Any

from yellow_ladder.database.port import COUNTER_OF, LEDGER_TABLE, OF_APPLICATION, Table, Traits
from yellow_ladder.database.sqlite.strangers import has_own_order, lacks_own_function, own_orders

_PIECE_ROWS = 50_000
_MOMENT_S = 0.25
_STEPS_BETWEEN_LOOKS = 20_000
_NAMED = 5
_KEPT_IN_THE_FILE = ("fts3", "fts4", "fts5", "rtree", "rtree_i32", "geopoly")


def quoted(identifier: str) -> str:
    """An identifier in SQLite's own quoting."""
    return '"' + identifier.replace('"', '""') + '"'


def tables(connection: sqlite3.Connection) -> list[Table]:
    """All tables of the site with their columns, in name order."""
    query = (
        "SELECT m.name, c.name, c.pk FROM sqlite_master AS m JOIN pragma_table_info(m.name) AS c"
        " WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"
        " AND m.sql NOT LIKE 'CREATE VIRTUAL TABLE%' AND m.name <> ? ORDER BY m.name, c.cid"
    )
    found, unique = [], _unique_keys(connection)
    parts = connection.execute(query, (LEDGER_TABLE,)).fetchall()
    for name, columns in itertools.groupby(parts, key=lambda row: str(row[0])):
        listed = [(column, position) for _, column, position in columns]
        keyed = [column for _, column in sorted((position, column) for column, position in listed if position)]
        found.append(Table(name, tuple(column for column, _ in listed), tuple(keyed or unique.get(name, ()))))
    return found


def _unique_keys(connection: sqlite3.Connection) -> dict[str, tuple[str, ...]]:
    """The shortest unique key that is never NULL, of tables without a primary one."""
    query = (
        'SELECT m.name, l.name, i.name, i.cid >= 0 AND coalesce(c."notnull", 0) FROM sqlite_master AS m'
        ' JOIN pragma_index_list(m.name) AS l ON l."unique" AND NOT l.partial'
        " JOIN pragma_index_info(l.name) AS i LEFT JOIN pragma_table_info(m.name) AS c ON c.cid = i.cid"
        " WHERE m.type = 'table' AND m.sql NOT LIKE 'CREATE VIRTUAL TABLE%'"
        " AND NOT EXISTS (SELECT 1 FROM pragma_table_info(m.name) AS k WHERE k.pk > 0)"
        " ORDER BY m.name, l.name, i.seqno"
    )
    found: dict[str, tuple[int, tuple[str, ...]]] = {}
    for (table, _), parts in itertools.groupby(connection.execute(query), key=lambda row: (row[0], row[1])):
        columns = [(column, is_set) for _, _, column, is_set in parts]
        if all(is_set for _, is_set in columns):
            key = (len(columns), tuple(column for column, _ in columns))
            found[table] = min(found.get(table, key), key)
    return {table: columns for table, (_, columns) in found.items()}


def row_number(connection: sqlite3.Connection, table: str) -> str:
    """The key that is the number of the row itself; nothing where a table has another key, or none."""
    keys = connection.execute("SELECT name, lower(type) FROM pragma_table_info(?) WHERE pk > 0", (table,)).fetchall()
    apart = connection.execute("SELECT 1 FROM pragma_index_list(?) WHERE origin = 'pk'", (table,)).fetchone()
    return str(keys[0][0]) if len(keys) == 1 and keys[0][1] == "integer" and apart is None else ""


def count(connection: sqlite3.Connection, table: str) -> int:
    """Rows of a table."""
    return int(connection.execute(f"SELECT count(*) FROM {quoted(table)}").fetchone()[0])


def count_gently(connection: sqlite3.Connection, table: str) -> int:
    """Rows of a table, counted in pieces by row number, or by key where it has none: no statement takes long."""
    some = f"SELECT count(*) FROM (SELECT 1 FROM {quoted(table)} LIMIT {_PIECE_ROWS})"
    few = int(connection.execute(some).fetchone()[0])
    if few < _PIECE_ROWS:
        return few
    parts = connection.execute("SELECT name, pk FROM pragma_table_info(?)", (table,)).fetchall()
    key = ["rowid"]
    if not _has_row_numbers(connection, table, [name for name, _ in parts]):
        key = [quoted(name) for position, name in sorted((pk, name) for name, pk in parts if pk)]
    if not key or (key != ["rowid"] and has_own_order(connection, table)):
        return count(connection, table)
    columns, marks = ", ".join(key), ", ".join("?" * len(key))
    piece = f"SELECT {columns} FROM {quoted(table)} WHERE ({columns}) > ({marks}) ORDER BY {columns} LIMIT ?"
    rest = f"SELECT count(*) FROM ({piece})"
    edge = f"{piece} OFFSET {_PIECE_ROWS - 1}"
    first = f"SELECT {columns} FROM {quoted(table)} ORDER BY {columns} LIMIT 1"
    here = connection.execute(first).fetchone()
    total = 1 if here else 0
    while here:
        after = connection.execute(edge, (*here, 1)).fetchone()
        total += _PIECE_ROWS if after else connection.execute(rest, (*here, _PIECE_ROWS)).fetchone()[0]
        here = after
    return int(total)


def _has_row_numbers(connection: sqlite3.Connection, table: str, columns: list[str]) -> bool:
    if "rowid" in (name.lower() for name in columns):
        return False
    try:
        connection.execute(f"SELECT rowid FROM {quoted(table)} LIMIT 0").close()
    except sqlite3.OperationalError:
        return False
    return True


def object_counts(connection: sqlite3.Connection) -> dict[str, int]:
    """How many objects there are of each kind, tables aside."""
    kinds = (name.split(" ", 1)[0] for name in objects(connection))
    return Counter(kind for kind in kinds if kind not in ("table", "number"))


def traits(connection: sqlite3.Connection) -> Traits:
    """Encoding, collations that the schema names, sequences."""
    encoding = str(connection.execute("PRAGMA encoding").fetchone()[0])
    texts = [row[0] for row in connection.execute("SELECT sql FROM sqlite_master WHERE sql IS NOT NULL")]
    found = {name.strip("\"'[]`") for text in texts for name in re.findall(r"(?i)\bCOLLATE\s+(\S+?)[\s,)]", text + " ")}
    collations = tuple(sorted({name.upper() for name in found} | {"BINARY"}))
    return Traits("sqlite", sqlite3.sqlite_version, encoding, collations, _sequences(connection))


def _sequences(connection: sqlite3.Connection) -> tuple[str, ...]:
    return tuple(name.removeprefix(COUNTER_OF) for name in positions(connection))


def positions(connection: sqlite3.Connection) -> dict[str, str]:
    """Where the counter of each table with AUTOINCREMENT stands."""
    if not connection.execute("SELECT 1 FROM sqlite_master WHERE name = 'sqlite_sequence'").fetchone():
        return {}
    rows = connection.execute("SELECT name, seq FROM sqlite_sequence ORDER BY name")
    return {f"{COUNTER_OF}{name}": str(seq) for name, seq in rows if name != LEDGER_TABLE}


def kept_apart(_connection: sqlite3.Connection, _known: Mapping[str, str]) -> dict[str, str]:
    """Everything is in tables."""
    return {}


def accounts(_connection: sqlite3.Connection) -> dict[str, str]:
    """There is no server that could know any."""
    return {}


def objects(connection: sqlite3.Connection) -> dict[str, str]:
    """Tables, views, triggers and indexes by `kind name`, as they are defined; the numbers that applications keep in
    the file's header.
    """
    query = (
        "SELECT type || ' ' || name, sql FROM sqlite_master"
        " WHERE sql IS NOT NULL AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY 1"
    )
    numbers = {
        f"number {name}": str(connection.execute(f"PRAGMA {name}").fetchone()[0])
        for name in ("application_id", "user_version")
    }
    return numbers | dict(connection.execute(query).fetchall())


def broken_objects(connection: sqlite3.Connection) -> list[str]:
    """Views that cannot be read and triggers that cannot run. The engine compiles them; nothing is executed."""
    query = "SELECT type, name, tbl_name, sql FROM sqlite_master WHERE type IN ('view', 'trigger') ORDER BY type, name"
    found, blamed = [], set()
    found_objects = connection.execute(query).fetchall()
    for kind, name, _, _ in found_objects:
        if kind == "view":
            fault = _fault_of(connection, f"SELECT * FROM {quoted(name)} LIMIT 0")
            if fault:
                found.append(f"the view {name}: {fault}")
                blamed.add(name)
    triggers = [
        (name, table, sql) for kind, name, table, sql in found_objects if kind == "trigger" and table not in blamed
    ]
    for table in sorted({table for _, table, _ in triggers}):
        for event, statement in _events(connection, table):
            fault = _fault_of(connection, f"EXPLAIN {statement}")
            suspects = [one for one in triggers if one[1] == table and re.search(rf"(?i)\b{event}\b", one[2])]
            if fault and suspects:
                lost = fault.rsplit(".", 1)[-1].rsplit(" ", 1)[-1]
                sure = [name for name, _, sql in suspects if re.search(rf"(?i)\b{re.escape(lost)}\b", sql)]
                names = ", ".join(sure or [name for name, _, _ in suspects])
                found.append(f"the trigger {names} of {table}: {fault}")
    orders = [
        f"{', '.join(who)}: the order of texts {own} {OF_APPLICATION}" for own, who in own_orders(connection).items()
    ]
    return _own_functions_apart(list(dict.fromkeys(found))) + orders


def _own_functions_apart(faults: list[str]) -> list[str]:
    """A function that the engine does not have is one that the application registers for itself: nothing is broken."""
    found, needed_by = [], dict[str, list[str]]()
    for text in faults:
        own = lacks_own_function(text)
        if own:
            needed_by.setdefault(own, []).append(text.partition(": ")[0])
        else:
            found.append(text)
    return [*found, *(f"{', '.join(who)}: the function {own} {OF_APPLICATION}" for own, who in needed_by.items())]


def unsound(connection: sqlite3.Connection, check: str) -> list[str]:
    """What a check of the structure, `integrity_check` or `quick_check`, finds. Where it needs functions or orders that
    only the application has, tables are checked one by one, and of those that need them every row is read.
    """
    whole = None if own_orders(connection) else _answers_of(connection, f"{check}(50)")
    if whole is not None:
        return whole
    found = []
    for table in tables(connection):
        is_own = has_own_order(connection, table.name)
        answers = None if is_own else _answers_of(connection, f"{check}({quoted(table.name)})")
        if answers is None:
            columns = ", ".join(map(quoted, table.columns))
            rows = connection.execute(f"SELECT {columns} FROM {quoted(table.name)}")
            while rows.fetchmany(_PIECE_ROWS // 100):
                pass
        found += answers or []
    return found


def _answers_of(connection: sqlite3.Connection, check: str) -> list[str] | None:
    """What a check complains of; None where it lacks a function."""
    try:
        return [str(text) for (text,) in connection.execute(f"PRAGMA {check}") if text != "ok"]
    except sqlite3.OperationalError as fault:
        if lacks_own_function(str(fault)):
            return None
        raise


def beyond_backups(connection: sqlite3.Connection) -> list[str]:
    """Virtual tables may be a view of something that lies outside the file; those of the engine's own kinds do not."""
    query = "SELECT name, sql FROM sqlite_master WHERE sql LIKE 'CREATE VIRTUAL TABLE%' ORDER BY name"
    found = [(name, re.search(r"(?i)\bUSING\s+\"?(\w+)", sql)) for name, sql in connection.execute(query)]
    return [
        f"the virtual table {name} is made by {kind[1]}: what lies outside the file is in no backup and not compared"
        for name, kind in found
        if kind and kind[1].lower() not in _KEPT_IN_THE_FILE
    ]


def _events(connection: sqlite3.Connection, table: str) -> Iterator[tuple[str, str]]:
    """A statement for each event that triggers can hang on."""
    columns = connection.execute("SELECT name, hidden FROM pragma_table_xinfo(?)", (table,)).fetchall()
    column = next((name for name, hidden in columns if not hidden), None)
    if column is None:
        return
    name, one = quoted(table), quoted(column)
    yield "insert", f"INSERT INTO {name} ({one}) VALUES (NULL)"
    yield (
        "update",
        f"UPDATE {name} SET {', '.join(f'{quoted(c)} = {quoted(c)}' for c, hidden in columns if not hidden)}",
    )
    yield "delete", f"DELETE FROM {name}"


def _fault_of(connection: sqlite3.Connection, statement: str) -> str:
    """Why a statement does not compile, or nothing. A lock of others is no fault of the object."""
    try:
        connection.execute(statement).close()
    except sqlite3.Error as fault:
        if getattr(fault, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_READONLY):
            return ""
        return str(fault)
    return ""


def invalid_constraints(connection: sqlite3.Connection, *, thorough: bool) -> list[str]:
    """Foreign keys that lead nowhere; with `thorough` every other constraint and the structure too."""
    found = []
    query = (
        'SELECT m.name, group_concat(DISTINCT f."table") FROM sqlite_master AS m'
        " JOIN pragma_foreign_key_list(m.name) AS f WHERE m.type = 'table' GROUP BY 1"
    )
    own = own_orders(connection)
    for table, parents in connection.execute(query).fetchall():
        if own and any(has_own_order(connection, one) for one in (table, *parents.split(","))):
            continue  # what refers to what would be looked up by an order that is not here
        rows = _within(connection, partial(_broken_keys, connection, table), None if thorough else _MOMENT_S)
        if rows is None:
            found.append(f"foreign keys of {table} were not checked: it would take too long beside a working site")
        found += [
            f"{count:,} rows of {table} refer to rows of {parent} that do not exist" for parent, count in rows or []
        ]
    if thorough:
        found += unsound(connection, "integrity_check")
    return found


def _broken_keys(connection: sqlite3.Connection, table: str) -> list[tuple[str, int]]:
    query = 'SELECT "parent", count(*) FROM pragma_foreign_key_check(?) GROUP BY 1 ORDER BY 1'
    return [(str(parent), int(count)) for parent, count in connection.execute(query, (table,))]


def _within(connection: sqlite3.Connection, ask: Callable[[], Any], limit_s: float | None) -> Any:
    """The answer, or None where it took longer than the limit and was broken off."""
    if limit_s is None:
        return ask()
    end = time.monotonic() + limit_s
    connection.set_progress_handler(lambda: int(time.monotonic() > end), _STEPS_BETWEEN_LOOKS)
    try:
        return ask()
    except sqlite3.OperationalError as fault:
        if getattr(fault, "sqlite_errorcode", 0) & 0xFF == sqlite3.SQLITE_INTERRUPT:
            return None
        raise
    finally:
        connection.set_progress_handler(None, 0)
