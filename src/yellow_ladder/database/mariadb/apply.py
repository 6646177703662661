"""Migrations on a server that cannot undo a change of the schema: each statement still runs exactly once.

How far a migration is stands in the database. A change of rows and the note of it are one transaction. A change of the
schema is whole or not done (the server sees to that), and which of the two is told by the shape that was noted before.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Sequence
from typing import Any

from yellow_ladder.database.mariadb.connect import Connection, rows
from yellow_ladder.database.mariadb.look import PROGRESS_TABLE, objects
from yellow_ladder.database.port import LEDGER_TABLE, LedgerEntry
from yellow_ladder.database.sql_text import bare
from yellow_ladder.errors import AnswerNo, Problem

_ROWS, _SESSION = ("INSERT", "UPDATE", "DELETE", "REPLACE"), ("SET",)
_UNKNOWABLE = ("CALL", "LOAD", "EXECUTE", "PREPARE", "DO", "SELECT", "WITH")
# Variables, temporary tables and what functions say of the statement before: none of it outlives a connection.
_BOUND_TO_SESSION = re.compile(
    r"(?<![@\w`'\"])@(?!@)[\w`'\"$.]|\bTEMPORARY\b|\b(?:LAST_INSERT_ID|FOUND_ROWS|ROW_COUNT)\s*\(", re.IGNORECASE
)
_WAIT_FOR_OURSELVES_S = 600
_MAKE = (
    f"CREATE TABLE IF NOT EXISTS {LEDGER_TABLE} (place INT AUTO_INCREMENT PRIMARY KEY, migration VARCHAR(200) NOT NULL"
    " UNIQUE, version VARCHAR(100) NOT NULL, sha256 CHAR(64) NOT NULL, applied_at VARCHAR(40) NOT NULL)"
    " ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
    f"CREATE TABLE IF NOT EXISTS {PROGRESS_TABLE} (migration VARCHAR(200) PRIMARY KEY, sha256 CHAR(64) NOT NULL,"
    " done INT NOT NULL, begun INT NOT NULL, shape CHAR(64) NOT NULL)"
    " ENGINE = InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
)


def apply_once(connection: Connection, statements: Sequence[str], entry: LedgerEntry) -> bool:
    """Apply what is left of a migration; False when the ledger has it. Raises AnswerNo where nobody can tell."""
    _wait_for_earlier_selves(connection)
    for statement in _MAKE:
        rows(connection, statement)
    if rows(connection, f"SELECT 1 FROM {LEDGER_TABLE} WHERE migration = %s", [entry.migration]):
        return False
    done, begun, shape = _progress(connection, entry)
    if done or begun:
        _refuse_bound_to_session(statements, entry)
    is_safe = not _without_transactions(connection)
    for number, statement in enumerate(statements, start=1):
        word = _first_word(statement)
        if word in _SESSION:
            rows(connection, statement)  # what it set was lost with the connection
            continue
        if number <= done:
            continue
        was_begun = begun == number
        if was_begun and (word in _UNKNOWABLE or (word in _ROWS and not is_safe)):
            raise _cannot_tell(entry, number)
        if was_begun and word not in _ROWS and _shape(connection) != shape:
            _note(connection, entry, "done = %s", number)
        elif word in _ROWS and is_safe:
            connection.begin()
            rows(connection, statement)
            _note(connection, entry, "done = %s", number)
            connection.commit()
        else:
            _note(connection, entry, "begun = %s, shape = %s", number, _shape(connection))
            rows(connection, statement)
            _note(connection, entry, "done = %s", number)
    connection.begin()
    fields = f"INSERT INTO {LEDGER_TABLE} (migration, version, sha256, applied_at) VALUES (%s, %s, %s, %s)"
    rows(connection, fields, [entry.migration, entry.version, entry.sha256, entry.applied_at])
    rows(connection, f"DELETE FROM {PROGRESS_TABLE} WHERE migration = %s", [entry.migration])
    connection.commit()
    return True


def _wait_for_earlier_selves(connection: Connection) -> None:
    """A run that was killed leaves its last statement with the server, which finishes it."""
    ((got,),) = rows(
        connection, "SELECT GET_LOCK(LEFT(CONCAT('ladder ', DATABASE()), 64), %s)", [_WAIT_FOR_OURSELVES_S]
    )
    if not got:
        text = "a migration of an earlier run is still at work in the server"
        raise AnswerNo(Problem("database-locked", text, "wait for it, or end it: SHOW FULL PROCESSLIST"))


def _progress(connection: Connection, entry: LedgerEntry) -> tuple[int, int, str]:
    query = f"SELECT done, begun, shape, sha256 FROM {PROGRESS_TABLE} WHERE migration = %s"
    found = rows(connection, query, [entry.migration])
    if not found:
        values = [entry.migration, entry.sha256]
        rows(connection, f"INSERT INTO {PROGRESS_TABLE} VALUES (%s, %s, 0, 0, '')", values)
        return 0, 0, ""
    done, begun, shape, sha256 = found[0]
    if sha256 != entry.sha256:
        text = f"the migration {entry.migration} was begun with another file than this one"
        raise AnswerNo(Problem("migration-refused", text, "go back with `yl descend`"))
    return int(done), int(begun), str(shape)


def _note(connection: Connection, entry: LedgerEntry, what: str, *values: Any) -> None:
    rows(connection, f"UPDATE {PROGRESS_TABLE} SET {what} WHERE migration = %s", [*values, entry.migration])


def _refuse_bound_to_session(statements: Sequence[str], entry: LedgerEntry) -> None:
    """Raise AnswerNo where a later statement may build upon what was lost with the connection."""
    bound = next((one for one in statements if _BOUND_TO_SESSION.search(one)), None)
    if bound:
        text = f"the migration {entry.migration} was begun, and depends on its connection: {bound[:60]}"
        raise AnswerNo(Problem("migration-unclear", text, "go back with `yl descend`, and climb again"))


def _first_word(statement: str) -> str:
    found = re.match(r"(?:/\*M?!\d*\s*)?\(?\s*([A-Za-z]+)", bare(statement, "mariadb"))
    return found[1].upper() if found else ""


def _shape(connection: Connection) -> str:
    return hashlib.sha256(json.dumps(objects(connection), sort_keys=True).encode()).hexdigest()


def _without_transactions(connection: Connection) -> bool:
    query = (
        "SELECT 1 FROM information_schema.tables WHERE table_schema = DATABASE()"
        " AND table_type = 'BASE TABLE' AND engine <> 'InnoDB' LIMIT 1"
    )
    return bool(rows(connection, query))


def _cannot_tell(entry: LedgerEntry, number: int) -> AnswerNo:
    text = f"statement {number} of the migration {entry.migration} was begun, and nobody can tell whether it was done"
    return AnswerNo(Problem("migration-unclear", text, "go back with `yl descend`, and climb again"))
