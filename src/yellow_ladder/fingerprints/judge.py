"""Holds the data after against the data before and what was declared: a verdict for each table."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from yellow_ladder.database.port import COUNTER_OF
from yellow_ladder.fingerprints.apart import judge_apart
from yellow_ladder.fingerprints.definitions import judge_definitions
from yellow_ladder.fingerprints.lineage import ColumnLine, Lineage, TableLine
from yellow_ladder.fingerprints.records import TWO_WAYS, DatabasePrint, TablePrint
from yellow_ladder.fingerprints.verdicts import IN_OTHER_ROWS, REWRITTEN_WHERE, TableVerdict, Verdict
from yellow_ladder.release.contract import TableChange

_LONGEST_CONDITION = 60


@dataclass(frozen=True, slots=True)
class Held:
    """What releases told of tables' content, read before (`expected`), and the same of the tables as they are now."""

    expected: Mapping[str, TablePrint] = field(default_factory=dict)
    matched: Mapping[str, TablePrint] = field(default_factory=dict)


def judge(
    before: DatabasePrint,
    after: DatabasePrint,
    lineage: Lineage,
    volatile: Collection[str] = (),
    held: Held | None = None,
) -> list[TableVerdict]:
    """A verdict for every table, declared or not, before or after, in name order; lost objects come last."""
    held = held or Held()
    verdicts = [
        _judge_told(name, line, before, after.tables[name], held)
        if name in held.expected and name in after.tables and name not in volatile
        else _judge_table(name, line, before, after.tables.get(name), is_volatile=name in volatile)
        for name, line in lineage.tables.items()
    ]
    for name, table in after.tables.items():
        if name not in lineage.tables:
            remark = "appeared, and no release declares it"
            verdicts.append(TableVerdict(name, Verdict.DIFFERS, None, table.rows, 0, (remark,)))
    for name in lineage.dropped_tables:
        if name in after.tables:
            remark = "is still there, and a release declares that it is dropped"
            verdicts.append(TableVerdict(name, Verdict.DIFFERS, None, after.tables[name].rows, 0, (remark,)))
        elif name in before.tables:
            rows = before.tables[name].rows
            verdicts.append(TableVerdict(name, Verdict.AS_DECLARED, rows, None, 0, ("dropped",)))
    differing = {one.table for one in verdicts if one.verdict is Verdict.DIFFERS}
    apart = judge_apart(before, after, lineage, volatile)
    defined = [*judge_definitions(before, after, lineage), *_judge_positions(before, after), *apart]
    objects = [one for one in defined if one.table.removeprefix("table ") not in differing]
    return sorted(verdicts, key=lambda one: one.table) + objects


def _judge_positions(before: DatabasePrint, after: DatabasePrint) -> list[TableVerdict]:
    """A sequence that steps back gives out numbers that are taken; a table's own counter never does."""
    found = []
    for name, stood in before.positions.items():
        if name.startswith(COUNTER_OF):
            continue  # where a migration builds a table anew, it goes on behind the rows that are there
        stands = after.positions.get(name, "")
        if stood.isdigit() and (stands == "unused" or (stands.isdigit() and int(stands) < int(stood))):
            remark = f"stood at {stood} and now is {'unused' if stands == 'unused' else f'at {stands}'}: it went back"
            found.append(TableVerdict(f"sequence {name}", Verdict.DIFFERS, None, None, 0, (remark,)))
    return found


def _judge_table(
    name: str, line: TableLine, before: DatabasePrint, now: TablePrint | None, *, is_volatile: bool
) -> TableVerdict:
    old = before.tables[line.origin] if line.origin is not None else None
    rows_before = old.rows if old else None
    if now is None:
        return TableVerdict(name, Verdict.DIFFERS, rows_before, None, 0, ("is gone, and no release declares it",))
    if is_volatile:
        return _judge_volatile(name, line, rows_before, now)
    faults = _row_faults(line, rows_before, now.rows)
    declared = [f"renamed from {line.origin}"] if line.origin not in (None, name) else []
    if line.rows != "same" and rows_before is not None and now.rows != rows_before:
        declared.append(f"rows: {line.rows}")
    compared = values = 0
    # With rows come or gone, every column differs too: the count says it all.
    if rows_before is None or now.rows == rows_before:
        compared, values, column_faults, column_remarks = _judge_columns(line, before, now)
        faults += column_faults
        declared += column_remarks
    if old is None:
        declared.insert(0, "added")
    if faults:
        return TableVerdict(
            name, Verdict.DIFFERS, rows_before, now.rows, compared, tuple(faults), values_compared=values
        )
    verdict = Verdict.AS_DECLARED if declared else Verdict.SAME
    return TableVerdict(name, verdict, rows_before, now.rows, compared, tuple(declared), values_compared=values)


def _judge_told(name: str, line: TableLine, before: DatabasePrint, now: TablePrint, held: Held) -> TableVerdict:
    """A table whose content the release tells: its rows and values are held against what was worked out before."""
    expected, matched = held.expected[name], held.matched.get(name)
    rows_before = before.tables[line.origin].rows if line.origin is not None else None
    found_by = line.told.matched_by if line.told is not None else []
    # Where rows are found by other columns, their old key is what the application numbers anew.
    others = {
        column: its
        for column, its in line.columns.items()
        if column not in expected.columns and not (found_by and its.origin is not None and not its.is_changed)
    }
    compared, values, faults, declared = 0, 0, [], []
    if matched is None:
        gone = ", ".join(one for one in expected.key if one not in now.names)
        faults.append(f"the column {gone} is gone" if gone else "cannot be held against what was told of it")
    else:
        grows = line.told is not None and line.told.rows == "grow"
        faults += _told_rows(expected.rows, matched.rows, now.rows, grows=grows)
        if not faults:
            told = (_told_column(column, expected, matched) for column in expected.columns)
            faults += [fault for fault in told if fault]
            compared, values = len(expected.columns), sum(one.values for one in expected.columns.values())
        declared += _told_words(line, rows_before, expected, now.rows - matched.rows)
    # Values that came from another table are held against it only where no row came or went.
    same_rows = rows_before is None or now.rows == rows_before
    plain = {c: its for c, its in others.items() if same_rows or its.origin is None or c not in now.names}
    declared += [f"{c} rewritten" for c, its in others.items() if c not in plain and its.is_changed]
    more, more_values, wrong, words = _judge_columns(TableLine(line.origin, line.rows, columns=plain), before, now)
    known = {f"the column {column} appeared" for column in (*line.columns, *expected.columns)}
    faults += [one for one in wrong if one not in known]
    verdict = Verdict.DIFFERS if faults else Verdict.AS_DECLARED
    remarks = tuple(faults or [*declared, *words] or ["as the release tells"])
    counts = (rows_before, now.rows, compared + more)
    return TableVerdict(name, verdict, *counts, remarks, old_rows_compared=True, values_compared=values + more_values)


def _told_rows(expected: int, matched: int, now: int, *, grows: bool) -> list[str]:
    """What is wrong with the number of rows."""
    if matched < expected:
        return [f"{_rows(expected - matched)} fewer than there should be"]
    if matched > expected or (now > expected and not grows):
        return [f"{_rows(max(matched, now) - expected)} more than there should be"]
    return []


def _told_column(column: str, expected: TablePrint, matched: TablePrint) -> str:
    old, new = expected.columns[column], matched.columns.get(column)
    if new is None:
        return f"the column {column} is gone"
    if old.values != new.values:
        return f"{column}: {old.values:,} values should be there, {new.values:,} are"
    if old.loose != new.loose:
        return f"{column}: values are not what they should be"
    return f"{column}: {IN_OTHER_ROWS} than they should" if old.keyed != new.keyed else ""


def _told_words(line: TableLine, rows_before: int | None, expected: TablePrint, come: int) -> list[str]:
    """What was as declared, for people."""
    words = [f"renamed from {line.told.renamed_from}"] if line.told is not None and line.told.renamed_from else []
    if rows_before is not None and expected.rows < rows_before:
        words.append(f"{_rows(rows_before - expected.rows)} gone as declared, the others compared")
    if come > 0:
        old = "old one" if expected.rows == 1 else f"{expected.rows:,} old ones"
        words.append(f"{_rows(come)} came, the {old} compared by key")
    if line.told is not None:
        words += [f"{column} held against what it should be" for column in line.told.values]
        words += [f"{column} compared as {meaning}" for column, meaning in line.told.same_as.items()]
        words += [_where_changed(line.told)] if line.told.changed_where else []
        words += ["held against a query of before"] if line.told.query else []
        words += [f"rows found by {', '.join(line.told.matched_by)}"] if line.told.matched_by else []
    return words


def _where_changed(told: TableChange) -> str:
    condition = told.changed_where if isinstance(told.changed_where, str) else next(iter(told.changed_where.values()))
    short = condition if len(condition) <= _LONGEST_CONDITION else f"{condition[: _LONGEST_CONDITION - 1]}…"
    return f"{', '.join(told.columns_changed)}{REWRITTEN_WHERE}{short}, and held in all other rows"


def _judge_volatile(name: str, line: TableLine, rows_before: int | None, now: TablePrint) -> TableVerdict:
    """Its rows are the application's own to rewrite; its columns are not."""
    faults = [f"the column {column} is gone" for column in line.columns if column not in now.names]
    if line.origin is not None:
        faults += [f"the column {column} appeared" for column in now.names if column not in line.columns]
    verdict = Verdict.DIFFERS if faults else Verdict.NOT_COMPARED
    remarks = faults or ["volatile: rewritten by the application itself"]
    return TableVerdict(name, verdict, rows_before, now.rows, 0, tuple(remarks))


def _row_faults(line: TableLine, rows_before: int | None, rows_after: int) -> list[str]:
    if rows_before is None or line.rows == "any" or rows_after == rows_before:
        return []
    if rows_after < rows_before:
        return [f"{_rows(rows_before - rows_after)} fewer than before"]
    return [] if line.rows == "grow" else [f"{_rows(rows_after - rows_before)} more than before"]


def _rows(count: int) -> str:
    return "1 row" if count == 1 else f"{count:,} rows"


def _judge_columns(line: TableLine, before: DatabasePrint, now: TablePrint) -> tuple[int, int, list[str], list[str]]:
    """Columns compared and their values, what is wrong, and what is as declared."""
    faults, declared, compared, values = [], [], 0, 0
    for name, column in line.columns.items():
        if name not in now.names:
            faults.append(f"the column {name} is gone")
        elif column.origin is None:
            declared.append(f"{name} added")
        elif column.is_changed:
            declared.append(f"{name} rewritten")
        else:
            compared += 1
            values += before.tables[column.origin[0]].columns[column.origin[1]].values
            fault = _compare(name, column, before, now, line.key_after(before))
            faults += [fault] if fault else []
            if column.by or column.origin[1] != name:
                declared.append(f"{name} from {'.'.join(column.origin) if column.by else column.origin[1]}")
    if line.origin is not None:
        faults += [f"the column {name} appeared" for name in now.names if name not in line.columns]
    return compared, values, faults, declared


def _compare(name: str, column: ColumnLine, before: DatabasePrint, now: TablePrint, key: tuple[str, ...]) -> str:
    origin = column.origin or ("", "")
    old, new = before.tables[origin[0]].columns[origin[1]], now.columns[name]
    if before.tables[origin[0]].way != now.way:
        return f"{name}: {TWO_WAYS}"
    if old.values != new.values:
        return f"{name}: {old.values:,} values before, {new.values:,} now"
    if old.loose != new.loose:
        return f"{name}: values have changed"
    # Tied to another column than before, only the values themselves can be compared, not which row they stand in.
    same_tie = now.key == ((column.by,) if column.by else key)
    if same_tie and old.keyed != new.keyed:
        return f"{name}: {IN_OTHER_ROWS} than before"
    return ""
