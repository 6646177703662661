"""What the driver says, in words for the person who has to mend it."""

from __future__ import annotations

import sqlite3

from yellow_ladder import nolinks
from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.sqlite.aside import journal_of
from yellow_ladder.errors import AnswerNo, BadInput, Problem


def explained(fault: sqlite3.Error, address: DatabaseAddress) -> AnswerNo | BadInput:
    """A fault of the driver as an error with a remedy."""
    path, name = address.path, address.name
    code = getattr(fault, "sqlite_errorcode", 0) & 0xFF
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        text = f"the database `{name}` ({path}) is locked by another program"
        remedy = f"see who holds it with: fuser -v {path}"
        return AnswerNo(Problem("database-locked", text, remedy, str(path)))
    if code in (sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_CORRUPT):
        text = f"{path} is not a sound SQLite database: {fault}"
        remedy = f"correct databases.url of `{name}`, or look into the file with: sqlite3 {path}"
        return BadInput(Problem("not-a-database", text, remedy, str(path)))
    if code == sqlite3.SQLITE_READONLY and nolinks.is_there(journal_of(path)):
        text = f"the database `{name}` ({path}) has a transaction that a crash left unfinished in {path.name}-journal"
        remedy = f"let its application open it once, or take that back with: sqlite3 {path} 'PRAGMA user_version'"
        return AnswerNo(Problem("database-unfinished", text, remedy, str(path)))
    if code == sqlite3.SQLITE_FULL:
        text = f"no space left on the disk of the database `{name}`"
        return AnswerNo(Problem("disk-full", text, f"free space beside {path}", str(path)))
    text = f"the database `{name}` refused: {fault}"
    return AnswerNo(Problem("database-refused", text, "look into it with the sqlite3 program", str(path)))


def missing(address: DatabaseAddress) -> BadInput:
    """The error for a file that is not there."""
    text = f"the database `{address.name}` has no file at {address.path}"
    remedy = (
        f"correct databases.url of `{address.name}` in the site file, or take it out there if a release has given it up"
    )
    return BadInput(Problem("database-missing", text, remedy, str(address.path)))
