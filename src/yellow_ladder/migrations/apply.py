"""Applies a release's SQL files in order."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.database import Database
from yellow_ladder.database.port import LedgerEntry
from yellow_ladder.database.sql_text import Unfinished, split_sql, transaction_control
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


def read_scripts(
    migrations: Sequence[Migration], folders: Sequence[Path], databases: Mapping[str, Database]
) -> list[Script]:
    """Read migration files from the first of `folders` that has each; raises BadInput naming what is missing.

    `databases` tell which engine's file it is.
    """
    return [_read_script(one, folders, databases[one.database].address.engine) for one in migrations]


def _read_script(migration: Migration, folders: Sequence[Path], engine: str) -> Script:
    file = migration.file_for(engine)
    path = next((folder / file for folder in folders if (folder / file).is_file()), None)
    if path is None:
        raise missing_file(migration, file)
    raw = path.read_bytes()
    statements = split_statements(raw.decode(), str(path), engine)
    return Script(migration.id, file, migration.database, hashlib.sha256(raw).hexdigest(), statements)


def missing_file(migration: Migration, file: str) -> BadInput:
    """The error for a migration whose file a release does not have."""
    text = f"the migration {migration.id} names {file}, which the release does not have"
    return BadInput(Problem("migration-missing", text, "report it to the release's publisher", file))


def split_statements(text: str, name: str, engine: str = "sqlite") -> tuple[str, ...]:
    """Split SQL into statements by the engine's own rules (quotes, comments, bodies).

    Raises BadInput for a last statement without its semicolon and for transaction control, which is the tool's.
    """
    try:
        statements = split_sql(text, engine)
    except Unfinished as rest:
        why = f"{name} ends in the middle of a statement"
        raise BadInput(
            Problem("migration-broken", why, "end the last statement with a semicolon, and close every quote", name)
        ) from rest
    for statement in statements:
        word = transaction_control(statement, engine)
        if word:
            why = f"{name} has the statement {word}; the tool itself begins and ends a migration"
            raise BadInput(Problem("migration-broken", why, "take that statement out", name))
    return statements


def apply_scripts(
    databases: dict[str, Database], scripts: Sequence[Script], version: str, applied_at: str
) -> dict[str, bool]:
    """Apply scripts in order, each in one transaction with its ledger entry; may be repeated after a crash.

    Returns which were applied now (False: the ledger had them). Raises AnswerNo with the migration's name; what
    came before it is kept. Itself it leaves no trace where the engine can take a migration back whole.
    """
    done = {}
    for script in scripts:
        entry = LedgerEntry(script.migration, version, script.sha256, applied_at)
        try:
            done[script.migration] = databases[script.database].apply(script.statements, entry)
        except LadderError as fault:
            why = fault.problems[0]
            text = f"the migration {script.migration} ({script.file}) to {version} failed: {why.message}"
            remedy = "look for the rows that cause this, or report it to the release's publisher"
            raise AnswerNo(Problem("migration-failed", text, remedy, script.file)) from fault
    return done
