"""What a release would have to declare for a proof to pass, as narrowly as it was seen: for people to judge."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from textwrap import wrap

import tomlkit
from tomlkit.items import Array, InlineTable, Table

from yellow_ladder.climb.proving.basis import Basis
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.durable import write_whole
from yellow_ladder.fingerprints.definitions import judge_definitions, tables_by_another_name
from yellow_ladder.fingerprints.lineage import Lineage, TableLine, compose
from yellow_ladder.fingerprints.records import ColumnSums, DatabasePrint, TablePrint
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.release.contract import Contract, TableChange

DECLARED_IN = "where this is what the release is meant to do, it can be declared: see {}"
_MOST_IN_LINE = 3
PROPOSAL_NAME = "seen-contract.toml"
_HEAD = """\
What this climb saw change in the data and no release had declared. Nobody has said that it is right: hold each line
against what the release says of itself, and put those that are meant into its sheet. What is declared too loosely is
not compared any more.
"""
_OF_SEVERAL = """\
It stands for the whole way from {first} to {last}; climbing one release at a time, with --to, tells which does what.
"""
_OF_FILES = (
    "Files, not to stand here but under `writes` of what writes them ([[commands]], [migrations.command] or"
    " [migrations.by_start]), or `generated` of [files]:"
)


def propose(
    plan: Plan,
    before: Basis,
    after: Mapping[str, DatabasePrint],
    tables: Mapping[str, Sequence[TableVerdict]],
    faults: Sequence[str],
) -> Path | None:
    """Write the declarations that are missing since the basis into the climb's folder; None where none would help."""
    contracts = tomlkit.aot()
    for name, verdicts in tables.items():
        differing = {one.table: one for one in verdicts if one.verdict is Verdict.DIFFERS}
        contract = _contract(name, before, differing, after[name])
        _add_definitions(contract, before, after[name])
        if len(contract) > 1:
            contracts.append(contract)
    files = [one.removeprefix("file ").partition(": ")[0] for one in faults if one.startswith("file ")]
    if not contracts and not files:
        return None
    document = tomlkit.document()
    head = _HEAD
    if len(before.since) > 1:
        head += _OF_SEVERAL.format(first=before.since[0].from_version, last=before.since[-1].to_version)
    for line in head.splitlines():
        document.add(tomlkit.comment(line))
    if files:
        for line in wrap(_OF_FILES, 110):
            document.add(tomlkit.comment(line))
        document.add("writes", files)
        many = [folder for folder, count in Counter(map(os.path.dirname, files)).items() if folder and count > 1]
        if many:
            whole = "[" + ", ".join(tomlkit.string(one).as_string() for one in sorted(many)) + "]"
            document.add(
                tomlkit.comment("where all there come and go by themselves, like a queue, others will next time:")
            )
            document.add(tomlkit.comment(f"writes = {whole}"))
    if contracts:
        document.add("contract", contracts)
    path = plan.folder / PROPOSAL_NAME
    write_whole(path, tomlkit.dumps(document).encode())
    return path


def _add_definitions(contract: Table, before: Basis, after: DatabasePrint) -> None:
    """What is defined otherwise even when all else is declared: of a table whose columns differ that was not told."""
    name = str(contract["database"])
    seen = Contract.model_validate(contract.unwrap())
    line = compose(before.databases[name], [*before.contracts(name), ("seen", seen)])
    left = {one.table: _has_come(one) for one in judge_definitions(before.databases[name], after, line)}
    came = [one for one, is_new in left.items() if is_new]
    known = [one for one, is_new in left.items() if one in after.objects and not is_new]
    if came:
        contract["objects_added"] = _listed(sorted(came))
    if known:
        contract["definition_changed"] = _listed(sorted({*seen.definition_changed, *known}))


def _listed(names: Sequence[str]) -> Array:
    """Names in a line, or a line each where they are many: they are to be read one by one."""
    listed = tomlkit.array()
    listed.extend(names)
    return listed.multiline(len(names) > _MOST_IN_LINE)


def _has_come(seen: TableVerdict) -> bool:
    return any(remark.startswith("appeared") for remark in seen.remarks)


def _contract(name: str, basis: Basis, differing: Mapping[str, TableVerdict], after: DatabasePrint) -> Table:
    """`differing`: what differs, by name."""
    before, seen = basis.databases[name], set(differing)
    line = compose(before, basis.contracts(name))
    defined = seen - before.tables.keys() - after.tables.keys()
    renamed = _renamed_tables(line, seen, before, after)
    if renamed:
        again = Contract(tables=[TableChange(name=new, renamed_from=old) for old, new in renamed.items()])
        line = compose(before, [*basis.contracts(name), ("seen", again)])
        # What follows such a table need not be declared.
        defined &= {one.table for one in judge_definitions(before, after, line)}
        seen = (seen - renamed.keys()) | {*renamed.values()}
    contract, tables, there = tomlkit.table(), tomlkit.aot(), after.objects.keys() | after.apart.keys()
    contract.add("database", name)
    came = [one for one in after.tables if one in seen and one not in before.tables and one not in line.tables]
    for key, names in (
        ("tables_added", came),
        ("tables_dropped", [one for one in before.tables if one in seen and one not in after.tables]),
        ("objects_dropped", [one for one in defined if one not in there]),
        # What came with a table is declared with it: the rest is seen when all else is declared.
        ("definition_changed", [one for one in defined if one in there and not _has_come(differing[one])]),
    ):
        if names:
            contract.add(key, _listed(sorted(names)))
    for table in sorted(seen & line.tables.keys() & after.tables.keys()):
        old_name = line.tables[table].origin if table in renamed.values() else None
        change = _change(table, line.tables[table], before, after.tables[table], differing.get(table), old_name)
        if len(change) > 1:
            tables.append(change)
    if tables:
        contract.add("tables", tables)
    return contract


def _renamed_tables(line: Lineage, seen: set[str], before: DatabasePrint, after: DatabasePrint) -> dict[str, str]:
    """Tables that are gone whose rows stand in one that appeared, every value of every column, and in no other; of
    several that hold the same, like empty ones, those whose indexes and keys went over to it.
    """
    gone = [one for one, its in line.tables.items() if its.origin is not None and its.is_plain(one) and one in seen]
    gone = [one for one in gone if one not in after.tables]
    came = [one for one in after.tables if one in seen and one not in line.tables]
    found = {old: [new for new in came if _holds(after.tables[new], before.tables[old])] for old in gone}
    for old, names in found.items():
        if len(names) > 1:
            found[old] = [one for one in names if one in tables_by_another_name(before, after, old)]
    taken = [one for names in found.values() for one in names]
    return {old: names[0] for old, names in found.items() if len(names) == 1 and taken.count(names[0]) == 1}


def _holds(new: TablePrint, old: TablePrint) -> bool:
    """Whether a table has the rows of another, with the same columns, and maybe more of them."""
    if new.rows != old.rows or old.unread or not old.columns:
        return False
    return all(
        one in new.columns and not _differs(was, new.columns[one], same_key=False) for one, was in old.columns.items()
    )


def _change(
    name: str, line: TableLine, before: DatabasePrint, new: TablePrint, found: TableVerdict | None, old_name: str | None
) -> Table:
    """What is missing of one table, beyond what was declared of it; `old_name` where that is to be declared.

    Where rows came, sums tell nothing of the old ones: what was seen of them row by row does.
    """
    change = tomlkit.table()
    change.add("name", name)
    if old_name:
        change.add("renamed_from", old_name)
    renamed = _renamed(line, before, new)
    if renamed:
        change.add("columns_renamed", _inline(renamed))
    for key, columns in (
        ("columns_added", [one for one in new.names if one not in line.columns and one not in renamed.values()]),
        ("columns_dropped", [one for one in line.columns if one not in new.names and one not in renamed]),
    ):
        if columns:
            change.add(key, columns)
    if line.origin is None:
        return change
    old = before.tables[line.origin]
    if old.rows != new.rows or (found is not None and found.gone):
        _add_rows(change, line, old, new, found)
        return change
    changed = _rewritten(line, before, new)
    if changed:
        _add_rewritten(change, line, changed, old.rows, found)
    return change


_NAMED = re.compile(r"(?P<column>\w+) = '(?P<value>(?P<begin>[^A-Za-z0-9']*[A-Za-z0-9]+[^A-Za-z0-9'])(?:[^']|'')*)'")


def any_of(rows: Sequence[str]) -> str:
    """What finds any of some rows, each found by a condition of its own."""
    parts = [one.partition(" = ") for one in rows]
    is_one_column = len({column for column, _, _ in parts}) == 1 and not any(" AND " in one for one in rows)
    if len(rows) > 1 and is_one_column:
        return f"{parts[0][0]} IN ({', '.join(value for _, _, value in parts)})"
    return " OR ".join(rows)


def all_that_begin_so(rows: Sequence[str]) -> str:
    """A wider condition for rows that are found by names of which several begin alike, like entries of a cache; empty
    where none do.
    """
    named = [match for one in rows if (match := _NAMED.fullmatch(one))]
    begin = Counter((match["column"], match["begin"]) for match in named)
    if len(named) < len(rows) or not begin or max(begin.values()) < 2:
        return ""
    parts = []
    for (column, start), count in begin.items():
        alone = next(match["value"] for match in named if match["begin"] == start)
        text = re.sub(r"([%_!])", r"!\1", start)
        parts.append(f"{column} LIKE '{text}%' ESCAPE '!'" if count > 1 else f"{column} = '{alone}'")
    return " OR ".join(parts)


def _add_rewritten(change: Table, line: TableLine, columns: list[str], left: int, found: TableVerdict | None) -> None:
    """Columns that are rewritten; of a few of the `left` rows alone, where their keys tell them and no column has
    another name.
    """
    change.add("columns_changed", columns)
    rows = found.changed if found is not None and set(found.differing) == set(columns) else ()
    as_they_were = all(its.origin == (line.origin, one) for one, its in line.columns.items() if its.origin is not None)
    if 0 < len(rows) < left and as_they_were and "columns_renamed" not in change:
        change.add("changed_where", any_of(rows))


def _add_rows(change: Table, line: TableLine, old: TablePrint, new: TablePrint, found: TableVerdict | None) -> None:
    """What is to be said of a table that rows came to, or went from."""
    gone = found.gone if found is not None else ()
    differing = found.differing if found is not None else ()
    left = old.rows - len(gone)
    # Old rows are known by their key: where many are gone, or have another one, nothing narrower would hold.
    known = (
        new.rows >= left
        and not (found is not None and found.rows_gone and not gone)
        and not set(differing) & set(new.key)
    )
    if gone and known:
        change.add("gone_where", any_of(gone))
        wider = all_that_begin_so(gone)
        if wider:
            change.add(tomlkit.comment("where all that begin so come and go by themselves, others will the next time:"))
            change.add(tomlkit.comment(f"gone_where = {tomlkit.string(wider).as_string()}"))
    if new.rows > left or not known:
        change.add("rows", "grow" if known else "any")
    rewritten = [one for one in differing if one in line.columns and not line.columns[one].is_changed]
    if rewritten and known:
        _add_rewritten(change, line, rewritten, left, found)


def _rewritten(line: TableLine, before: DatabasePrint, new: TablePrint) -> list[str]:
    """Columns whose sums are others, where no row came or went."""
    same_key, changed = new.key == line.key_after(before), []
    for one, column in line.columns.items():
        if column.origin is not None and not column.is_changed and one in new.columns:
            was = before.tables[column.origin[0]].columns[column.origin[1]]
            if _differs(was, new.columns[one], same_key=same_key and not column.by):
                changed.append(one)
    return changed


def _renamed(line: TableLine, before: DatabasePrint, new: TablePrint) -> dict[str, str]:
    """Columns that are gone whose values stand in one that appeared, and in no other: by another name they are held."""
    if line.origin is None or before.tables[line.origin].rows != new.rows:
        return {}
    same_key = new.key == line.key_after(before)
    came = [one for one in new.columns if one not in line.columns]
    found: dict[str, list[str]] = {}
    for gone, column in line.columns.items():
        if gone in new.names or column.origin is None or column.is_changed or column.by:
            continue
        was = before.tables[column.origin[0]].columns.get(column.origin[1])
        if was is not None and was.values:
            found[gone] = [one for one in came if not _differs(was, new.columns[one], same_key=same_key)]
    taken = [one for names in found.values() for one in names]
    return {gone: names[0] for gone, names in found.items() if len(names) == 1 and taken.count(names[0]) == 1}


def _inline(names: Mapping[str, str]) -> InlineTable:
    table = tomlkit.inline_table()
    for old, new in names.items():
        table.append(old, new)
    return table


def _differs(old: ColumnSums, new: ColumnSums, *, same_key: bool) -> bool:
    return old != new if same_key else (old.values, old.loose) != (new.values, new.loose)
