"""Applies a release's SQL files in order."""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.database import Database
from yellow_ladder.database.port import LedgerEntry
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.release.sheet import Migration


@dataclass(frozen=True, slots=True)
class Script:
    """One migration file, read and split into statements."""

    migration: str
    file: str
    database: str
    sha256: str
    statements: tuple[str, ...]


def read_scripts(migrations: Sequence[Migration], folders: Sequence[Path]) -> list[Script]:
    """Read migration files from the first of `folders` that has each; raises BadInput naming what is missing."""
    return [_read_script(migration, folders) for migration in migrations]


def _read_script(migration: Migration, folders: Sequence[Path]) -> Script:
    path = next((folder / migration.file for folder in folders if (folder / migration.file).is_file()), None)
    if path is None:
        text = f"the migration {migration.id} names {migration.file}, which the release does not have"
        raise BadInput(Problem("migration-missing", text, "tell the release's publisher", migration.file))
    raw = path.read_bytes()
    statements = split_statements(raw.decode(), str(path))
    return Script(migration.id, migration.file, migration.database, hashlib.sha256(raw).hexdigest(), statements)


def split_statements(sql: str, name: str) -> tuple[str, ...]:
    """Split SQL into statements by SQLite's own rule (quotes, comments, trigger bodies).

    Raises BadInput for a last statement without its semicolon and for transaction control, which is the tool's.
    """
    statements, start = [], 0
    for place, letter in enumerate(sql):
        if letter == ";" and sqlite3.complete_statement(sql[start : place + 1]):
            statements.append(sql[start : place + 1].strip())
            start = place + 1
    if _bare(sql[start:]):
        text = f"{name} ends in the middle of a statement"
        raise BadInput(Problem("migration-broken", text, "end the last statement with a semicolon", name))
    kept = tuple(statement for statement in statements if _bare(statement).strip("; \n\t"))
    for statement in kept:
        first = _bare(statement).split(None, 1)[0].upper().rstrip(";")
        if first in ("BEGIN", "COMMIT", "END", "ROLLBACK", "ATTACH", "DETACH", "VACUUM"):
            text = f"{name} has the statement {first}, but a migration runs in one transaction of its own"
            raise BadInput(Problem("migration-broken", text, "take that statement out", name))
    return kept


def _bare(statement: str) -> str:
    """A statement without the comments before it."""
    rest = statement.strip()
    while rest.startswith(("--", "/*")):
        rest = rest.partition("\n" if rest.startswith("--") else "*/")[2].strip()
    return rest


def apply_scripts(
    databases: dict[str, Database], scripts: Sequence[Script], version: str, applied_at: str
) -> dict[str, bool]:
    """Apply scripts in order, each in one transaction with its ledger entry; may be repeated after a crash.

    Returns which were applied now (False: the ledger had them). Raises AnswerNo with the migration's name; what
    came before it is kept, itself it leaves no trace.
    """
    done = {}
    for script in scripts:
        entry = LedgerEntry(script.migration, version, script.sha256, applied_at)
        try:
            done[script.migration] = databases[script.database].apply(script.statements, entry)
        except LadderError as fault:
            why = fault.problems[0]
            text = f"the migration {script.migration} ({script.file}) to {version} failed: {why.message}"
            remedy = "look for the rows that it stumbles over, or tell the release's publisher"
            raise AnswerNo(Problem("migration-failed", text, remedy, script.file)) from fault
    return done
