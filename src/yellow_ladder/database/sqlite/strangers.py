"""What a SQLite file asks for and only its application has: orders of texts (collations) and functions of its own.

Without them the engine refuses every statement that comes near. For reading, another order does as well, as long as
nothing is looked up or sorted by it: what is in a tree that was built by the application's order would not be found by
another. So stand-ins are lent to connections that read; connections that write get none, and are refused honestly.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3

from yellow_ladder import nolinks

_OF_THE_ENGINE = {"BINARY", "NOCASE", "RTRIM"}
_NAMED = re.compile(r"""(?i)\bCOLLATE\s+(?:"((?:[^"]|"")+)"|'([^']+)'|\[([^\]]+)\]|`([^`]+)`|(\w+))""")


def lend_orders(connection: sqlite3.Connection, schema: str = "main") -> None:
    """Give a connection that only reads a stand-in for every order that the schema names and nobody has registered."""
    # The engine's own list (PRAGMA collation_list) has also those that a schema names and nobody has registered.
    for name in own_orders(connection, schema):
        with contextlib.suppress(UnicodeError):  # a name that is no text cannot be registered: its tables are refused
            connection.create_collation(name, _by_bytes)


def with_orders(connection: sqlite3.Connection) -> sqlite3.Connection:
    """The same for one that was just opened, which is closed where that cannot be; raises sqlite3.Error."""
    try:
        lend_orders(connection)
    except sqlite3.Error:
        connection.close()
        raise
    return connection


def _by_bytes(first: str, second: str) -> int:
    return (first > second) - (first < second)


def own_orders(connection: sqlite3.Connection, schema: str = "main") -> dict[str, list[str]]:
    """Orders that a schema names and the engine does not have by itself, with what names them (`index books_title`)."""
    query = f"SELECT type || ' ' || name, sql FROM {schema}.sqlite_master WHERE sql LIKE '%COLLATE%' ORDER BY 1"
    found: dict[str, list[str]] = {}
    for what, text in connection.execute(query):
        for name in dict.fromkeys(_names_in(text)):
            if _is_own(name):
                found.setdefault(name, []).append(str(what))
    return found


def _names_in(text: str) -> list[str]:
    return [name for one in _NAMED.findall(text) for name in one if name]


def lacks_own_function(fault: str) -> str:
    """The name of a function that the engine says it does not have; nothing where a fault says something else."""
    match = re.search(r"(?:no such|unknown) function: (\w+)", fault)
    return match[1] if match else ""


def has_own_order(connection: sqlite3.Connection, table: str, schema: str = "main") -> bool:
    """Whether a table or an index of it is in an order that the engine does not have by itself."""
    version = int(connection.execute(f"PRAGMA {schema}.schema_version").fetchone()[0])
    files = {str(name): str(file) for _, name, file in connection.execute("PRAGMA database_list")}
    try:
        status = nolinks.status_of(files[schema])
    except (KeyError, OSError):  # in memory, or gone by now
        return table in _in_own_order(connection, schema)
    key = (files[schema], status.st_dev, status.st_ino, version)
    if key not in _known:
        while len(_known) >= _MOST_KNOWN:
            del _known[next(iter(_known))]
        _known[key] = _in_own_order(connection, schema)
    return table in _known[key]


# By file and the number of its schema: thousands of tables are asked for one by one.
_known: dict[tuple[str, int, int, int], frozenset[str]] = {}
_MOST_KNOWN = 16


def _in_own_order(connection: sqlite3.Connection, schema: str) -> frozenset[str]:
    query = (
        f"SELECT tbl_name, sql FROM {schema}.sqlite_master WHERE type IN ('table', 'index') AND sql LIKE '%COLLATE%'"
    )
    found = connection.execute(query).fetchall()
    return frozenset(str(name) for name, text in found if any(_is_own(one) for one in _names_in(text)))


def _is_own(order: str) -> bool:
    return order.upper() not in _OF_THE_ENGINE
