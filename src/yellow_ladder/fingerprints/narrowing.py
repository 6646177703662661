"""How the rows of a table are read on both sides of a change, and the rows that differ found and written down."""

from __future__ import annotations

import contextlib
import os
import re
from bisect import bisect_right
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TextIO

from yellow_ladder import nolinks
from yellow_ladder.database import Database
from yellow_ladder.database.port import UndecodableText
from yellow_ladder.database.row_changes import DELETED, csv_line
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.durable import open_private
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.records import MODULUS, DatabasePrint, TablePrint
from yellow_ladder.fingerprints.rows import Findings, InWords, Sides, compare_rows, header, lines_for_file
from yellow_ladder.fingerprints.told import Reading
from yellow_ladder.fingerprints.verdicts import IN_OTHER_ROWS, TableVerdict

_MOST_RANGES = 200
PART = ".part"
"""How a list ends that does not have all rows: looking was broken off, or the disk was full."""
_REFERENCE = re.compile(r"(?i)FOREIGN KEY\s*\(([^)]*)\)|[\"`\[]?(\w+)[\"`\]]?[^,(]*?\bREFERENCES\b")


@dataclass(frozen=True, slots=True)
class Pair:
    """How one table's rows are read on both sides."""

    old: Selection
    new: Selection
    sides: Sides
    ranges: tuple[tuple[int | None, int | None], ...] = ()
    """Where, in the order of a key of one whole number, both sides differ; nothing where that is not known."""


def pairs_of(base: DatabasePrint, prints: DatabasePrint, lineage: Lineage, told: Sequence[Reading]) -> dict[str, Pair]:
    """How the rows of each table are read before and now."""
    pairs = {}
    for table, line in lineage.tables.items():
        if table not in prints.tables:
            continue
        now = prints.tables[table]
        pair = (
            _plain_pair(table, line, base.tables[line.origin], now)
            if line.origin
            else _moved_pair(table, line, base, now)
        )
        if pair is not None:
            pairs[table] = pair
    for reading in told:
        if reading.table in prints.tables:
            pairs[reading.table] = _told_pair(reading, prints.tables[reading.table])
    return pairs


def _plain_pair(table: str, line: TableLine, old: TablePrint, now: TablePrint) -> Pair | None:
    """Columns that nobody said would change, found by the key of before; by the whole row where it has none."""
    same = {
        column: its.origin[1]
        for column, its in line.columns.items()
        if its.origin is not None and its.origin[0] == line.origin and not its.is_changed and column in now.names
    }
    back = {origin: column for column, origin in same.items()}
    key = tuple(back.get(one, "") for one in old.key)
    if not same:
        return None
    if not key or not set(key) <= same.keys():
        key = tuple(same)
    elif now.key == key and old.way == now.way and old.rows == now.rows and _are_alike(old, now, same):
        return None
    columns = (*key, *(one for one in same if one not in key))
    return Pair(
        Selection(tuple(Field(one, same[one]) for one in columns), str(line.origin)),
        Selection(tuple(Field(one) for one in columns), table),
        Sides(columns, key),
        _ranges(old, now, same) if len(key) == 1 and now.key == key else (),
    )


def _are_alike(old: TablePrint, now: TablePrint, same: Mapping[str, str]) -> bool:
    """Whether all that both sides have is equal: what differs is a column, and no row."""
    return all(old.columns.get(origin) == now.columns.get(new) for new, origin in same.items())


def _ranges(old: TablePrint, now: TablePrint, same: Mapping[str, str]) -> tuple[tuple[int | None, int | None], ...]:
    """The ranges of the key whose pieces differ, neighbours together."""
    shared = sorted(set(old.edges) & set(now.edges))
    if not shared or old.way != now.way:
        return ()
    columns = [(place, list(now.columns).index(new)) for new, place in _places(old, now, same)]
    sides = []
    for one, which in ((old, 0), (now, 1)):
        sums = [[0] * (len(columns) + 1) for _ in range(len(shared) + 1)]
        for piece in one.pieces:
            held = sums[bisect_right(shared, piece.begin)]
            held[0] += piece.rows
            for number, places in enumerate(columns, 1):
                held[number] = (held[number] + piece.keyed[places[which]]) % MODULUS
        sides.append(sums)
    unlike = [number for number, both in enumerate(zip(*sides, strict=True)) if both[0] != both[1]]
    found: list[tuple[int | None, int | None]] = []
    for number in unlike:
        low = shared[number - 1] if number else None
        high = shared[number] - 1 if number < len(shared) else None
        if found and found[-1][1] is not None and low == found[-1][1] + 1:
            found[-1] = (found[-1][0], high)
        else:
            found.append((low, high))
    return () if (None, None) in found or len(found) > _MOST_RANGES else tuple(found)


def _places(old: TablePrint, now: TablePrint, same: Mapping[str, str]) -> list[tuple[str, int]]:
    """Columns that are summed on both sides, with their places in the old one."""
    names = list(old.columns)
    return [(new, names.index(origin)) for new, origin in same.items() if new in now.columns and origin in old.columns]


def within(selection: Selection, ranges: Collection[tuple[int | None, int | None]], database: Database) -> Selection:
    """The same selection of rows whose first column is in one of the ranges; of all rows where there are none."""
    if not ranges:
        return selection
    column = database.quoted(selection.fields[0].column or selection.fields[0].name)
    parts = []
    for low, high in ranges:
        ends = [f"{column} >= {low}"] if low is not None else []
        ends += [f"{column} <= {high}"] if high is not None else []
        parts.append(f"({' AND '.join(ends)})")
    return replace(selection, where=" OR ".join(parts))


def _moved_pair(table: str, line: TableLine, base: DatabasePrint, now: TablePrint) -> Pair | None:
    """Values that came from another table, found by the column that holds its key."""
    moved = {c: its.origin for c, its in line.columns.items() if its.by and its.origin and c in now.names}
    sources, ways = {origin[0] for origin in moved.values()}, {line.columns[one].by for one in moved}
    if len(sources) != 1 or len(ways) != 1:
        return None
    source, way = sources.pop(), ways.pop()
    if len(base.tables[source].key) != 1 or way not in now.names:
        return None
    columns = (way, *moved)
    return Pair(
        Selection((Field(way, base.tables[source].key[0]), *(Field(c, o[1]) for c, o in moved.items())), source),
        Selection(tuple(Field(one) for one in columns), table),
        Sides(columns, (way,), is_sparse=True),
    )


def _told_pair(reading: Reading, now: TablePrint) -> Pair:
    fields = {one.name: one for one in reading.selection.fields if one.name in now.names}
    key = tuple(one for one in reading.key if one in fields)
    columns = (*key, *(one for one in fields if one not in key))
    old = replace(reading.selection, fields=tuple(fields[one] for one in columns))
    new = Selection(tuple(Field(one, unless=fields[one].unless) for one in columns), reading.table)
    is_told = bool(reading.selection.query) or any(one.sql for one in reading.selection.fields)
    return Pair(old, new, Sides(columns, key, reading.meanings, may_come=reading.grows, is_told=is_told))


@dataclass(frozen=True, slots=True)
class Look:
    """One table to be looked through: both databases, how it is read, and where what differs is written."""

    then: Database
    now: Database
    pair: Pair
    path: Path
    masked: Collection[str]
    until: float
    known_by: str = ""


def find_rows(look: Look, look_on: Callable[[], None]) -> Findings:
    """Every row of a table that differs, written to the file; `look_on` is where it can be stopped.

    Raises TimeoutError where it takes too long.
    """
    try:
        return _compared(look, look_on, lenient=False)
    except UndecodableText:
        return _compared(look, look_on, lenient=True)


def _compared(look: Look, look_on: Callable[[], None], *, lenient: bool) -> Findings:
    sides, ranges = look.pair.sides, look.pair.ranges
    then, now = within(look.pair.old, ranges, look.then), within(look.pair.new, ranges, look.now)
    findings, width = Findings(sides, known_by=look.known_by), len(sides.key)
    unfinished = look.path.with_name(f"{look.path.name}{PART}")
    with (
        contextlib.closing(look.then.sorted_selected(then, width, lenient=lenient)) as old,
        contextlib.closing(look.now.sorted_selected(now, width, lenient=lenient)) as new,
        _private_text(unfinished) as stream,
    ):
        stream.write(csv_line(header(sides)))
        for one in compare_rows(old, new, sides, until=look.until):
            findings.add(one)
            for line in lines_for_file(findings, one, look.masked):
                stream.write(csv_line(line))
            look_on()
    nolinks.rename(unfinished, look.path)
    return findings


def _private_text(path: Path) -> TextIO:
    """A text file that nobody else may read."""
    return os.fdopen(open_private(path), "w", encoding="utf-8", errors="backslashreplace", newline="")


def references_of(objects: Mapping[str, str]) -> dict[str, tuple[str, ...]]:
    """Columns of each table that point to other tables, as its definition tells."""
    found = {}
    for name, text in objects.items():
        if name.startswith("table "):
            columns = [
                column.strip().strip('"`[]')
                for listed, single in _REFERENCE.findall(text)
                for column in (listed.split(",") if listed else [single])
            ]
            found[name.removeprefix("table ")] = tuple(columns)
    return found


def known_by(objects: Mapping[str, str], table: str, columns: Collection[str], key: Sequence[str]) -> str:
    """The column by which people know a row of a table whose key says little: the only one of a unique index; empty
    where there is none.
    """
    if len(key) != 1:
        return ""
    name = rf"[\"`\[]?{re.escape(table)}[\"`\]]?"
    column = r"\(\s*[\"`\[]?(\w+)[\"`\]]?\s*\)"
    found: list[str] = []
    for called, text in objects.items():
        if called.startswith("index ") and called.endswith(f" on {table}"):
            found += re.findall(r"^unique (\w+)$", text)
        elif called.startswith("index "):
            found += re.findall(rf"(?i)^CREATE UNIQUE INDEX .*? ON (?:\w+\.)?{name}\s*(?:USING btree )?{column}", text)
        elif called == f"table {table}":
            found += re.findall(rf"(?i)\bUNIQUE\s*{column}", text)
            found += re.findall(r"(?i)[(,]\s*[\"`\[]?(\w+)[\"`\]]?\s[^(),]*(?:\(\d+\)[^(),]*)?\bUNIQUE\b", text)
    return next((one for one in found if one in columns and one not in key), "")


def told_in(verdict: TableVerdict, found: InWords | None) -> TableVerdict:
    """Each remark about a column or about rows, replaced by what was found of it."""
    if found is None or found.is_nothing:
        return verdict
    kept = [one for one in verdict.remarks if not _tells_the_same(one, found)]
    columns = [f"{name}: {text}" for name, text in found.columns.items()]
    remarks = (*found.rows.values(), *columns, *kept)
    is_gone = DELETED in found.rows
    return replace(
        verdict,
        remarks=remarks,
        differing=tuple(found.columns),
        rows_gone=is_gone,
        gone=found.gone,
        changed=found.changed,
    )


def _tells_the_same(remark: str, found: InWords) -> bool:
    if re.match(r"[\d,]+ rows? (fewer|more) than", remark):
        return bool(found.rows)
    column, colon, what = remark.partition(": ")
    # Of a table without a key, one changed value makes all of its row look like another one; by now it is known which.
    by_row = bool(found.rows) and " values " in remark
    return bool(colon) and (column in found.columns or by_row or what.startswith(IN_OTHER_ROWS))
