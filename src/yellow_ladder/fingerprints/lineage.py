"""Where each column of the new database comes from, composed from the contracts of all rungs.

A pure function of what was there and what the sheets declare. Whatever no sheet speaks of must stay as it was.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

from yellow_ladder.fingerprints.records import DatabasePrint, Ties
from yellow_ladder.release.contract import ColumnMove, Contract, TableChange

RowsRule = Literal["same", "grow", "any"]
_LOOSER: tuple[RowsRule, ...] = ("same", "grow", "any")


@dataclass(slots=True)
class ColumnLine:
    """One column of the new database: its (table, column) before, None for a new one."""

    origin: tuple[str, str] | None
    is_changed: bool = False
    by: str = ""  # the column that holds the old table's key, for values that came from another table


@dataclass(slots=True)
class TableLine:
    """One table of the new database; `origin` is its name before, None for a new one, whose columns may be any."""

    origin: str | None
    rows: RowsRule = "same"
    is_cut: bool = False  # whether columns were dropped from it
    columns: dict[str, ColumnLine] = field(default_factory=dict)
    told: TableChange | None = None  # what its content is to be, for whoever can read it before

    def key_after(self, before: DatabasePrint) -> tuple[str, ...]:
        """The columns that rows are found by, under their new names; none where one of them is not what it was."""
        if self.origin is None:
            ways = {column.by for column in self.columns.values() if column.by}
            return (ways.pop(),) if len(ways) == 1 else ()
        now = {column.origin: (new, column) for new, column in self.columns.items()}
        key = []
        for old in before.tables[self.origin].key:
            new, column = now.get((self.origin, old), ("", None))
            if column is None or column.is_changed or column.by:
                return ()
            key.append(new)
        return tuple(key)

    def is_plain(self, name: str) -> bool:
        """Whether nobody spoke of the table: it is what it was, under the same name."""
        as_they_were = all(one == ColumnLine((name, column)) for column, one in self.columns.items())
        return self.origin == name and self.rows == "same" and self.told is None and as_they_were and not self.is_cut


@dataclass(slots=True)
class Lineage:
    """The new database as declared, what was dropped on purpose, and what a sheet said that cannot be."""

    tables: dict[str, TableLine]
    dropped_tables: list[str] = field(default_factory=list)
    dropped_columns: list[str] = field(default_factory=list)
    added_objects: list[str] = field(default_factory=list)
    dropped_objects: list[str] = field(default_factory=list)
    changed_definitions: list[str] = field(default_factory=list)
    contradictions: list[str] = field(default_factory=list)

    def ties(self, before: DatabasePrint) -> Ties:
        """To which columns each new table's values must be tied, so that its sums can be held against the old ones."""
        wanted = {name: line.key_after(before) for name, line in self.tables.items()}
        keys = {name: key for name, key in wanted.items() if key}
        origins = {name: self.tables[name].origin for name in keys}
        edges = {name: before.tables[one].edges for name, one in origins.items() if one is not None}
        return Ties(keys, edges, self.apart(before))

    def apart(self, before: DatabasePrint) -> dict[str, str]:
        """What was kept apart from rows, under the names that tables have now; without that of dropped tables."""
        new_names = {line.origin: name for name, line in self.tables.items() if line.origin is not None}
        found = {}
        for key, words in before.apart.items():
            kind, _, name = key.partition(" ")
            if name not in self.dropped_tables:
                found[f"{kind} {new_names.get(name, name)}"] = words
        return found

    def gives_up_apart(self, key: str) -> bool:
        """Whether a release declares that this, or the view whose contents it is, is another afterwards."""
        view = f"view {key.partition(' ')[2]}"
        return key in self.changed_definitions or view in (*self.changed_definitions, *self.dropped_objects)


def compose(before: DatabasePrint, contracts: Sequence[tuple[str, Contract]]) -> Lineage:
    """Apply the contracts of all rungs in order; each comes with the version that declares it."""
    tables = {
        name: TableLine(name, columns={column: ColumnLine((name, column)) for column in table.names})
        for name, table in before.tables.items()
    }
    lineage = Lineage(tables)
    for version, contract in contracts:
        _apply(lineage, version, contract)
        for change in contract.tables:
            _see_that_old_rows_are_found(lineage, version, change, before)
    return lineage


def _see_that_old_rows_are_found(lineage: Lineage, version: str, change: TableChange, before: DatabasePrint) -> None:
    """Where rows may come, old ones are found by their key: a key that is rewritten finds none, or others."""
    line = lineage.tables.get(change.name)
    if change.rows != "grow" or change.matched_by or change.query or line is None or line.origin is None:
        return
    key = {(line.origin, one) for one in before.tables[line.origin].key}
    rewritten = [one for one in change.columns_changed if one in line.columns and line.columns[one].origin in key]
    if rewritten:
        found_by = f'{change.name} has rows = "grow" and rewrites {", ".join(rewritten)}, by which old rows are found'
        lineage.contradictions.append(
            f'{version}: {found_by}: name other columns under matched_by, or say rows = "any"'
        )


def _apply(lineage: Lineage, version: str, contract: Contract) -> None:
    for name in contract.tables_added:
        if name in lineage.tables:
            lineage.contradictions.append(f"{version} adds the table {name}, which is there already")
        else:
            lineage.tables[name] = TableLine(None, rows="any")
    for change in contract.tables:
        _change_table(lineage, version, change)
    for move in contract.moved:
        _move_column(lineage, version, move)
    for name in contract.tables_dropped:
        if lineage.tables.pop(name, None) is None:
            lineage.contradictions.append(f"{version} drops the table {name}, which is not there")
        lineage.dropped_tables.append(name)
    lineage.added_objects += contract.objects_added
    lineage.dropped_objects += contract.objects_dropped
    lineage.changed_definitions += contract.definition_changed


def _change_table(lineage: Lineage, version: str, change: TableChange) -> None:
    line = lineage.tables.pop(change.renamed_from or change.name, None)
    if line is None:
        name = change.renamed_from or change.name
        lineage.contradictions.append(f"{version} changes the table {name}, which is not there")
        return
    lineage.tables[change.name] = line
    rows: RowsRule = "any" if change.kept_where or change.gone_where or change.query else change.rows
    line.rows = max(line.rows, rows, key=_LOOSER.index)
    if change.needs_reading:
        line.told = change
    for name in change.columns_dropped:
        if _take(lineage, version, line, change.name, name):
            lineage.dropped_columns.append(f"{change.name}.{name}")
    renamed = {new: _take(lineage, version, line, change.name, old) for old, new in change.columns_renamed.items()}
    line.columns.update({new: column for new, column in renamed.items() if column})
    for name in [*change.columns_changed, *(one for one in (*change.values, *change.same_as) if one in line.columns)]:
        if name in line.columns:
            line.columns[name].is_changed = True
        elif line.origin is not None:
            lineage.contradictions.append(f"{version} changes the column {change.name}.{name}, which is not there")
    line.columns.update({name: ColumnLine(None) for name in (*change.columns_added, *change.filled)})
    line.columns.update({name: ColumnLine(None) for name in change.values if name not in line.columns})


def _take(lineage: Lineage, version: str, line: TableLine, table: str, column: str) -> ColumnLine | None:
    taken = line.columns.pop(column, None)
    line.is_cut = True
    if taken is None and line.origin is not None:
        lineage.contradictions.append(f"{version} speaks of the column {table}.{column}, which is not there")
    return taken


def _move_column(lineage: Lineage, version: str, move: ColumnMove) -> None:
    old_table, old_column = move.from_.split(".")
    new_table, new_column = move.to.split(".")
    source, target = lineage.tables.get(old_table), lineage.tables.get(new_table)
    if source is None or target is None:
        missing = old_table if source is None else new_table
        lineage.contradictions.append(f"{version} moves {move.from_} to {move.to}, but there is no table {missing}")
        return
    taken = _take(lineage, version, source, old_table, old_column)
    if taken is not None:
        target.columns[new_column] = ColumnLine(taken.origin, taken.is_changed, by=move.by)
