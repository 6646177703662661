"""Holds the data after against the data before and what was declared: a verdict for each table."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass
from enum import StrEnum
from typing import Any

from yellow_ladder.database.port import COUNTER_OF
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint


class Verdict(StrEnum):
    """How a table came through."""

    SAME = "same"
    AS_DECLARED = "as declared"
    NOT_COMPARED = "not compared"
    DIFFERS = "differs"


@dataclass(frozen=True, slots=True)
class TableVerdict:
    """One table: rows before and after (None where there was no such table), columns compared, and what was found."""

    table: str
    verdict: Verdict
    rows_before: int | None
    rows_after: int | None
    columns_compared: int
    remarks: tuple[str, ...] = ()
    old_rows_compared: bool = False

    @property
    def is_uncompared(self) -> bool:
        """Whether rows that were there before were held against nothing, beyond their number."""
        if not self.rows_before or self.rows_after is None:
            return False
        lost_sight = self.verdict is Verdict.AS_DECLARED and self.rows_before != self.rows_after
        return self.verdict is Verdict.NOT_COMPARED or (lost_sight and not self.old_rows_compared)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


def judge(
    before: DatabasePrint, after: DatabasePrint, lineage: Lineage, volatile: Collection[str] = ()
) -> list[TableVerdict]:
    """A verdict for every table, declared or not, before or after, in name order; lost objects come last."""
    verdicts = [
        _judge_table(name, line, before, after.tables.get(name), is_volatile=name in volatile)
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
    objects = [
        one for one in _judge_objects(before, after, lineage) if one.table.removeprefix("table ") not in differing
    ]
    return sorted(verdicts, key=lambda one: one.table) + objects


def _judge_objects(before: DatabasePrint, after: DatabasePrint, lineage: Lineage) -> list[TableVerdict]:
    lost = before.objects.keys() - after.objects.keys() - set(lineage.dropped_objects)
    # Tables are judged separately, and a release cannot declare what belongs to the server.
    lost = {name for name in lost if not name.startswith(("table ", "sequence ", "default rights "))}
    remark = "is gone, and no release declares it"
    found = [TableVerdict(name, Verdict.DIFFERS, None, None, 0, (remark,)) for name in sorted(lost)]
    return found + _judge_definitions(before, after, lineage) + _judge_positions(before, after)


def _judge_definitions(before: DatabasePrint, after: DatabasePrint, lineage: Lineage) -> list[TableVerdict]:
    """What is defined is data too: an index that is no longer unique, a default that is gone. Only what is defined on
    tables that a release declares to change may be written otherwise without being declared itself.
    """
    found = []
    for name in sorted(before.objects.keys() & after.objects.keys()):
        old, new = before.objects[name], after.objects[name]
        if old == new or name in lineage.changed_definitions or name.startswith(("sequence ", "default rights ")):
            continue
        if lineage.touched_tables.isdisjoint(re.findall(r"\w+", f"{name} {old}")):
            remark = f"is defined otherwise, and no release declares it: {_first_change(old, new)}"
            found.append(TableVerdict(name, Verdict.DIFFERS, None, None, 0, (remark,)))
    return found


def _first_change(old: str, new: str) -> str:
    """The first piece that is not the same, as it was and as it is."""
    was, now = (re.findall(r"\S+", text) for text in (old, new))
    start = next((place for place, (a, b) in enumerate(zip(was, now, strict=False)) if a != b), min(len(was), len(now)))
    shown = [" ".join(words[max(0, start - 2) : start + 4]) or "nothing" for words in (was, now)]
    return f"{shown[0]} → {shown[1]}"


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
    compared = 0
    # With rows come or gone, every column differs too: the count says it all.
    if rows_before is None or now.rows == rows_before:
        compared, column_faults, column_remarks = _judge_columns(line, before, now)
        faults += column_faults
        declared += column_remarks
    if old is None:
        declared.insert(0, "added")
    if faults:
        return TableVerdict(name, Verdict.DIFFERS, rows_before, now.rows, compared, tuple(faults))
    verdict = Verdict.AS_DECLARED if declared else Verdict.SAME
    return TableVerdict(name, verdict, rows_before, now.rows, compared, tuple(declared))


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


def _judge_columns(line: TableLine, before: DatabasePrint, now: TablePrint) -> tuple[int, list[str], list[str]]:
    """Columns compared, what is wrong, and what is as declared."""
    faults, declared, compared = [], [], 0
    for name, column in line.columns.items():
        if name not in now.names:
            faults.append(f"the column {name} is gone")
        elif column.origin is None:
            declared.append(f"{name} added")
        elif column.is_changed:
            declared.append(f"{name} rewritten")
        else:
            compared += 1
            fault = _compare(name, column.origin, column.by, before, now)
            faults += [fault] if fault else []
            if column.by or column.origin[1] != name:
                declared.append(f"{name} from {'.'.join(column.origin) if column.by else column.origin[1]}")
    if line.origin is not None:
        faults += [f"the column {name} appeared" for name in now.names if name not in line.columns]
    return compared, faults, declared


def _compare(name: str, origin: tuple[str, str], by: str, before: DatabasePrint, now: TablePrint) -> str:
    table = before.tables[origin[0]]
    old, new = table.columns[origin[1]], now.columns[name]
    if old.values != new.values:
        return f"{name}: {old.values:,} values before, {new.values:,} now"
    if old.loose != new.loose:
        return f"{name}: values have changed"
    # Tied to another column than before, only the values themselves can be compared, not which row they stand in.
    same_tie = now.key == (by,) if by else len(now.key) == len(table.key)
    if same_tie and old.keyed != new.keyed:
        return f"{name}: values stand in other rows than before"
    return ""


def is_whole(verdicts: Sequence[TableVerdict]) -> bool:
    """Whether nothing was lost or changed beyond what was declared."""
    return all(verdict.verdict is not Verdict.DIFFERS for verdict in verdicts)
