"""What a release says that a table will hold, read from the database before the change, and what it holds after.

Both are readings: selections with the columns that tie their rows. Where SQL over the old rows tells the new values,
the engine works them out before anything is changed, and the sums of both readings must be equal.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any
from urllib.parse import quote

import numpy as np

from yellow_ladder.database import Database
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.database.port import UndecodableText
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.durable import open_private, private_folder, sync_folder
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.fingerprints.hashing import Hashes, combine_keys, hash_values, sum_column
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.meanings import ONE_NUMBER, meant
from yellow_ladder.fingerprints.records import ColumnSums, DatabasePrint, TablePrint
from yellow_ladder.release.contract import Contract, TableChange, for_engine

OnRows = Callable[[int], None]
QueryColumns = Callable[[str, str], tuple[str, ...]]
"""The names of the columns of a query's answer, by the table that it tells of and its text: afterwards, what it reads
from may be gone, and they are known from before.
"""
_NO_ROWS: OnRows = lambda _count: None  # noqa: E731


@dataclass(frozen=True, slots=True)
class Reading:
    """One table as it will be: how to read that before, the columns that tie its rows, what its values mean.

    `grows`: rows may come besides, so that only those are compared whose key was there before.
    """

    table: str
    selection: Selection
    key: tuple[str, ...]
    meanings: Mapping[str, str] = field(default_factory=dict)
    grows: bool = False

    def after(self) -> Selection:
        """The same columns of the table as it is."""
        return Selection(tuple(Field(one.name, unless=one.unless) for one in self.selection.fields), self.table)


@dataclass(frozen=True, slots=True)
class Expected:
    """What readings gave before a change: sums by table, answers by the name of their question."""

    tables: Mapping[str, TablePrint] = field(default_factory=dict)
    answers: Mapping[str, TablePrint] = field(default_factory=dict)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        parts = {"tables": self.tables, "answers": self.answers}
        return {word: {name: one.as_record() for name, one in part.items()} for word, part in parts.items()}

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> Expected:
        """Read what `as_record` gave."""
        parts = [{n: TablePrint.from_record(one) for n, one in record[word].items()} for word in ("tables", "answers")]
        return Expected(*parts)


def readings(lineage: Lineage, base: DatabasePrint, engine: str, query_columns: QueryColumns) -> list[Reading]:
    """A reading for each table whose content one rung's contract tells; `base` is the database before that rung."""
    found = []
    for name, line in lineage.tables.items():
        if line.told is not None:
            reading = _reading(name, line, line.told, base, engine, query_columns)
            if reading is not None:
                found.append(reading)
    return found


def _reading(
    name: str,
    line: TableLine,
    told: TableChange,
    base: DatabasePrint,
    engine: str,
    query_columns: QueryColumns,
) -> Reading | None:
    meanings: dict[str, str] = dict(told.same_as)
    if told.query:
        query = for_engine(told.query, engine)
        if not query:
            return None
        names = query_columns(name, query)
        if engine == "sqlite":
            meanings = {**dict.fromkeys(names, ONE_NUMBER), **meanings}
        fields = tuple(Field(one) for one in names)
        return Reading(name, Selection(fields, query=query), tuple(told.matched_by) or names, meanings, _grows(told))
    if line.origin is None or line.origin not in base.tables or not _is_for(told, engine):
        return None
    values = {column: for_engine(text, engine) for column, text in told.values.items()}
    old_key = base.tables[line.origin].key
    # Where the application numbers its rows anew, their number is what they are not found by, and not compared.
    unheld = () if not told.matched_by or len(old_key) == len(base.tables[line.origin].names) else old_key
    fields = tuple(
        one
        for column, its in line.columns.items()
        if (one := _field(column, its.origin, values, told, engine, line.origin)) is not None
        and (one.sql or one.column not in unheld or column in told.matched_by)
    )
    if engine == "sqlite":
        meanings = {**dict.fromkeys((one for one, text in values.items() if text), ONE_NUMBER), **meanings}
    key = tuple(told.matched_by) or _key_after(line, old_key, fields)
    return Reading(name, Selection(fields, line.origin, where=_where(told, engine)), key, meanings, _grows(told))


def _grows(told: TableChange) -> bool:
    return told.rows == "grow"


def _field(
    column: str, origin: tuple[str, str] | None, values: Mapping[str, str], told: TableChange, engine: str, table: str
) -> Field | None:
    """How a column is read before: by its SQL, or as it is; None where nothing tells what it will hold."""
    if column in values:
        return Field(column, sql=values[column]) if values[column] else None
    if origin is None or origin[0] != table:
        return None
    if column not in told.columns_changed:
        return Field(column, origin[1])
    condition = for_engine(told.changed_where, engine)
    return Field(column, origin[1], unless=condition) if condition else None


def _is_for(told: TableChange, engine: str) -> bool:
    """Whether the release says for this engine which rows stay, where it says so for any."""
    condition = told.kept_where or told.gone_where
    return not condition or bool(for_engine(condition, engine))


def _where(told: TableChange, engine: str) -> str:
    if told.kept_where:
        return f"({for_engine(told.kept_where, engine)}) IS TRUE"
    return f"({for_engine(told.gone_where, engine)}) IS NOT TRUE" if told.gone_where else ""


def _key_after(line: TableLine, key: tuple[str, ...], fields: tuple[Field, ...]) -> tuple[str, ...]:
    """The new names of the old key's columns; the whole row where one of them cannot be told."""
    names = {its.origin[1]: column for column, its in line.columns.items() if its.origin is not None}
    readable = {one.name for one in fields if not one.unless}
    after = tuple(names.get(one, "") for one in key)
    return after if after and set(after) <= readable else tuple(one.name for one in fields)


@connections_kept()
def read_expected(
    database: Database, told: list[Reading], contracts: list[Contract], keys: Path, on_rows: OnRows = _NO_ROWS
) -> Expected:
    """Read what will be, before the change; `keys` is a folder for the keys of tables whose rows may become more.

    Raises AnswerNo where a release's SQL is wrong for this database.
    """
    tables = {}
    for one in told:
        kept = _keys_file(keys, database, one.table) if one.grows else None
        tables[one.table] = _read(database, one.selection, one, on_rows, keep_keys=kept)
    answers = {
        same.name: _read_answer(database, text, on_rows)
        for contract in contracts
        for same in contract.same_answers
        if (text := for_engine(same.before, database.address.engine))
    }
    return Expected(tables, answers)


@connections_kept()
def read_matched(
    database: Database, told: list[Reading], columns: Mapping[str, tuple[str, ...]], keys: Path, on_rows: OnRows
) -> dict[str, TablePrint]:
    """The same columns of the tables as they are now; of tables that grew, of rows that were there before.

    `columns` are those that each table has now: one that is gone is not read, and found missing by the judge.
    """
    found = {}
    for one in told:
        there = columns.get(one.table)
        if there is None:
            continue
        now = one.after()
        present = Selection(tuple(part for part in now.fields if part.name in there), now.table)
        if set(one.key) <= set(there):
            kept = _keys_file(keys, database, one.table) if one.grows else None
            found[one.table] = _read(database, present, one, on_rows, only_keys=kept)
    return found


def read_answers(database: Database, contracts: list[Contract], on_rows: OnRows) -> dict[str, TablePrint]:
    """The answers after the change to the questions whose answers are to be the same."""
    return {
        same.name: _read_answer(database, text, on_rows)
        for contract in contracts
        for same in contract.same_answers
        if (text := for_engine(same.after, database.address.engine))
    }


def _read_answer(database: Database, query: str, on_rows: OnRows) -> TablePrint:
    """An answer's columns are known by their place, since the two questions may name them otherwise."""
    names = database.query_columns(query)
    selection = Selection(tuple(Field(one) for one in names), query=query)
    meanings = dict.fromkeys(names, ONE_NUMBER)
    found = _read(database, selection, Reading("", selection, names, meanings), on_rows)
    places = {name: str(number) for number, name in enumerate(names)}
    return TablePrint(found.rows, tuple(places.values()), {places[n]: sums for n, sums in found.columns.items()})


def _keys_file(folder: Path, database: Database, table: str) -> Path:
    return folder / f"keys-{quote(database.address.name, safe='')}-{quote(table, safe='')}.u64"


def _read(
    database: Database,
    selection: Selection,
    reading: Reading,
    on_rows: OnRows,
    **keys: Path | None,
) -> TablePrint:
    if not reading.meanings and not reading.grows:
        summed = database.summed(selection, reading.key, None)
        if summed is not None:
            on_rows(summed.rows)
            return TablePrint.from_sums(summed, reading.key, selection.names)
    try:
        return _sums(database, selection, reading, on_rows, lenient=False, **keys)
    except UndecodableText:
        return _sums(database, selection, reading, _NO_ROWS, lenient=True, **keys)


def _sums(  # noqa: PLR0913
    database: Database,
    selection: Selection,
    reading: Reading,
    on_rows: OnRows,
    *,
    lenient: bool,
    keep_keys: Path | None = None,
    only_keys: Path | None = None,
) -> TablePrint:
    names = selection.names
    totals = dict.fromkeys(names, ColumnSums())
    known = None if only_keys is None else _kept_keys(only_keys)
    rows = 0
    with contextlib.ExitStack() as open_files:
        kept = open_files.enter_context(_begun(keep_keys)) if keep_keys is not None else None
        for chunk in database.read_selected(selection, lenient=lenient):
            columns = dict(zip(names, zip(*chunk, strict=True), strict=True))
            for name, meaning in reading.meanings.items():
                if name in columns:
                    columns[name] = meant(columns[name], meaning)
            hashed = {name: hash_values(values) for name, values in columns.items()}
            ties = combine_keys([hashed[name][0] for name in reading.key], len(chunk))
            if kept is not None:
                ties.tofile(kept)
            here = None if known is None else _among(ties, known)
            for name, (hashes, present) in hashed.items():
                if here is not None:
                    present = here if present is None else present & here
                totals[name] += sum_column(hashes, present, ties)
            rows += len(chunk) if here is None else int(here.sum())
            on_rows(len(chunk))
    if keep_keys is not None:
        _sort(keep_keys)
    return TablePrint(rows, reading.key, totals)


def _kept_keys(path: Path) -> Hashes:
    try:
        keys: Hashes = np.memmap(path, dtype=np.uint64, mode="r") if path.stat().st_size else np.zeros(0, np.uint64)
    except (OSError, ValueError) as fault:
        text = f"the keys of the rows that were there before cannot be read: {fault}"
        raise AnswerNo(
            Problem("survey-damaged", text, "restore the file, or go back: yl descend", str(path))
        ) from fault
    return keys


def _among(ties: Hashes, known: Hashes) -> Any:
    if not len(known):
        return np.zeros(len(ties), dtype=np.bool_)
    places = np.minimum(np.searchsorted(known, ties), len(known) - 1)
    return known[places] == ties


def _begun(path: Path) -> IO[bytes]:
    private_folder(path.parent)
    return os.fdopen(open_private(path), "wb")


def _sort(path: Path) -> None:
    """Sorted where it lies: eight bytes a row, and a later look-up reads little of it."""
    if path.stat().st_size:
        keys = np.memmap(path, dtype=np.uint64, mode="r+")
        keys.sort()
        keys.flush()
    with path.open("rb") as stream:
        os.fsync(stream.fileno())
    sync_folder(path.parent)
