"""Every difference that keeps a proof from being whole, to the row: for somebody who has to decide about them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, ask_probes, fingerprint_all, read_inventory
from yellow_ladder.climb.proving.price import as_left, drop_scratch, see_room
from yellow_ladder.climb.proving.proof import prove
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import Run
from yellow_ladder.database import Database
from yellow_ladder.database.port import TableChanges
from yellow_ladder.durable import private_folder, write_json
from yellow_ladder.errors import LadderError
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import count_of

FOLDER_NAME = "differences"


@dataclass(frozen=True, slots=True)
class Differences:
    """Rows by database and table, and everything else in words; `folder` has the rows as CSV."""

    rows: dict[str, tuple[TableChanges, ...]]
    others: tuple[str, ...]
    folder: str

    @property
    def count(self) -> int:
        """How many there are: every row, and everything else by itself."""
        return sum(_rows(one) for changes in self.rows.values() for one in changes) + len(self.others)

    def lines(self) -> list[str]:
        """For people, one each."""
        found = [
            f"{name}.{one.table}: {count_of(_rows(one), 'row')} ({one.added:,} came, {one.changed:,} changed,"
            f" {one.deleted:,} went)"
            for name, changes in self.rows.items()
            for one in changes
        ]
        return [*found, *self.others]

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {**asdict(self), "count": self.count}


def _rows(one: TableChanges) -> int:
    return one.added + one.changed + one.deleted


def find_differences(run: Run, state: ClimbState) -> Differences:
    """What differs from before (going back), or from what the climb should have made of it (going up).

    Rows are written down in the climb's folder; where they cannot be compared one by one, their table counts once.
    """
    plan = run.plan
    folder = private_folder(plan.folder / FOLDER_NAME)
    try:
        if state is ClimbState.DESCENDING:
            rows, others = _back(run)
        else:
            rows, others = _up(run)
    finally:
        drop_scratch(plan)
    found = Differences(rows, tuple(others), str(folder))
    write_json(folder / "differences.json", found.as_record())
    return found


def _back(run: Run) -> tuple[dict[str, tuple[TableChanges, ...]], list[str]]:
    plan = run.plan
    versions = judge_versions(ask_probes(run.site, served=False), plan.from_version)
    others = [one.fault for one in versions if not one.is_right]
    rows: dict[str, tuple[TableChanges, ...]] = {}
    before = read_inventory(plan, BEFORE_NAME)
    for name, database in run.site.databases().items():
        volatile = run.site.database_spec(name).volatile
        try:
            now = fingerprint_all(run, {name: database})[name]
        except LadderError as fault:
            others.append(f"{name}: {fault.problems[0].message}")
            continue
        unlike = before.databases[name].without(volatile).differences(now.without(volatile))
        if unlike:
            rows[name], more = _by_row(plan, name, database, set(), unlike)
            others += more
    return rows, others


def _up(run: Run) -> tuple[dict[str, tuple[TableChanges, ...]], list[str]]:
    plan = run.plan
    proof = prove(run, served=False, to_the_row=False)
    rows: dict[str, tuple[TableChanges, ...]] = {}
    others: list[str] = []
    names = list(site_after(plan).databases())
    of_tables = [one for one in proof.faults if one.startswith(tuple(f"{name}." for name in names))]
    for name, database in site_after(plan).databases().items():
        unlike = [one for one in of_tables if one.startswith(f"{name}.")]
        if unlike:
            rows[name], more = _by_row(plan, name, database, None, unlike)
            others += more
    return rows, [*others, *(one for one in proof.faults if one not in of_tables)]


def _by_row(
    plan: Plan, name: str, database: Database, done: set[str] | None, unlike: Sequence[str]
) -> tuple[tuple[TableChanges, ...], list[str]]:
    """Rows that differ, and what of `unlike` they do not tell of."""
    try:
        see_room(plan, database)
        then = as_left(plan, name, done)
        changes = tuple(database.changes_since(then, plan.site.database_spec(name).volatile))
        if changes:
            database.write_changes_since(then, changes, private_folder(plan.folder / FOLDER_NAME))
    except (LadderError, OSError) as fault:
        why = fault.problems[0].message if isinstance(fault, LadderError) else str(fault)
        return (), [f"{one} (not compared by row: {why})" for one in unlike]
    tables = {one.table for one in changes}
    return changes, [one for one in unlike if not any(_tells_of(one, name, table) for table in tables)]


def _tells_of(text: str, name: str, table: str) -> bool:
    return text == f"the table {table}" or text.startswith(f"{name}.{table}:")
