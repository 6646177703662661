"""What a SQLite file asks for and only its application has: orders of texts (collations) and functions of its own.

Without them the engine refuses every statement that comes near. For reading, another order does as well, as long as
nothing is looked up or sorted by it: what is in a tree that was built by the application's order would not be found by
another. So stand-ins are lent to connections that read; connections that write get none, and are refused honestly.
"""

from __future__ import annotations

import re
import sqlite3

_OF_THE_ENGINE = {"BINARY", "NOCASE", "RTRIM"}
_NAMED = re.compile(r"""(?i)\bCOLLATE\s+(?:"((?:[^"]|"")+)"|'([^']+)'|\[([^\]]+)\]|`([^`]+)`|(\w+))""")


def lend_orders(connection: sqlite3.Connection, schema: str = "main") -> None:
    """Give a connection that only reads a stand-in for every order that the schema names and nobody has registered."""
    # The engine's own list (PRAGMA collation_list) has also those that a schema names and nobody has registered.
    for name in own_orders(connection, schema):
        connection.create_collation(name, _by_bytes)


def _by_bytes(first: str, second: str) -> int:
    return (first > second) - (first < second)


def own_orders(connection: sqlite3.Connection, schema: str = "main") -> dict[str, list[str]]:
    """Orders that a schema names and the engine does not have by itself, with what names them (`index books_title`)."""
    query = f"SELECT type || ' ' || name, sql FROM {schema}.sqlite_master WHERE sql LIKE '%COLLATE%' ORDER BY 1"
    found: dict[str, list[str]] = {}
    for what, text in connection.execute(query):
        for name in dict.fromkeys(_names_in(text)):
            if name.upper() not in _OF_THE_ENGINE:
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
    query = f"SELECT sql FROM {schema}.sqlite_master WHERE tbl_name = ? AND type IN ('table', 'index')"
    texts = [str(row[0] or "") for row in connection.execute(query, (table,))]
    return any(name.upper() not in _OF_THE_ENGINE for text in texts for name in _names_in(text))
