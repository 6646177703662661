"""What each stretch of the way is held against: the data before the climb, or as they were between two rungs.

Where a release gives something up, or tells what its tables will hold, the data are read when its rung is done, so that
what is given up ends there. What a rung will make of the data is read before it (`told-N.json`), what stood after it is
kept (`between-N.json`). The sums of whatever nobody spoke of are carried on, and nothing is read twice.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yellow_ladder.climb.proving.inventory import BEFORE_NAME, read_inventory, telling_rows
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.database import Database
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.durable import write_json
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.fingerprints.judge import Held, judge
from yellow_ladder.fingerprints.lineage import Lineage, compose
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint
from yellow_ladder.fingerprints.told import (
    Expected,
    QueryColumns,
    Reading,
    read_answers,
    read_expected,
    read_matched,
    readings,
)
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict, together
from yellow_ladder.release.contract import Contract, for_engine


@dataclass(frozen=True, slots=True)
class Basis:
    """The data at one point of the way, the rungs since then, and what was found of the rungs before it.

    `rung` is the number of the rung after which they were read, 0 for before the climb.
    """

    rung: int
    databases: Mapping[str, DatabasePrint]
    since: tuple[RungPlan, ...]
    earlier: Mapping[str, tuple[TableVerdict, ...]] = field(default_factory=dict)

    def contracts(self, database: str) -> list[tuple[str, Contract]]:
        """What the rungs since then declare of a database, with the version that declares it."""
        return [(r.to_version, c) for r in self.since for c in r.contracts if c.database == database]

    def lineages(self) -> dict[str, Lineage]:
        """Where every column of every database comes from, since then."""
        return {name: compose(one, self.contracts(name)) for name, one in self.databases.items()}


def last_basis(plan: Plan) -> Basis:
    """The latest point at which the data were read, and the rungs from there to the end."""
    return _basis(plan, plan.rungs[-1].number)


def basis_before(plan: Plan, rung: RungPlan) -> Basis:
    """The latest such point before a rung, and the rungs from there to the end of that one."""
    return _basis(plan, rung.number)


def _basis(plan: Plan, last: int) -> Basis:
    """Raises AnswerNo where the climb did not get as far as reading anything."""
    for rung in reversed(plan.rungs):
        path = _between_file(plan, rung)
        if rung.number < last and path.exists():
            record = _read(path)
            prints = {name: DatabasePrint.from_record(one) for name, one in record["databases"].items()}
            verdicts = {n: tuple(map(TableVerdict.from_record, found)) for n, found in record["verdicts"].items()}
            since = tuple(one for one in plan.rungs if rung.number < one.number <= last)
            return Basis(rung.number, prints, since, verdicts)
    return _from_the_start(plan, last)


def whole_way(plan: Plan, rung: RungPlan) -> Basis:
    """The data before the climb, and the rungs from there to the end of one."""
    return _from_the_start(plan, rung.number)


def _from_the_start(plan: Plan, last: int) -> Basis:
    since = tuple(one for one in plan.rungs if one.number <= last)
    return Basis(0, read_inventory(plan, BEFORE_NAME).databases, since)


def _between_file(plan: Plan, rung: RungPlan) -> Path:
    return plan.folder / f"between-{rung.number}.json"


def keep_between(
    plan: Plan,
    rung: RungPlan,
    prints: Mapping[str, DatabasePrint],
    verdicts: Mapping[str, Sequence[TableVerdict]],
) -> None:
    """Keep what stood after a rung, and what was found up to there."""
    record = {
        "databases": {name: one.as_record() for name, one in prints.items()},
        "verdicts": {name: [one.as_record() for one in found] for name, found in verdicts.items()},
    }
    write_json(_between_file(plan, rung), record)


def _told_file(plan: Plan, rung: RungPlan) -> Path:
    return plan.folder / f"told-{rung.number}.json"


def _keys_folder(plan: Plan, rung: RungPlan) -> Path:
    return plan.folder / f"told-{rung.number}"


def _read(path: Path) -> dict[str, Any]:
    try:
        return dict(json.loads(path.read_bytes()))
    except (OSError, ValueError) as fault:
        text = f"{path} cannot be read: {fault}"
        raise AnswerNo(
            Problem("survey-damaged", text, "restore the file, or go back: yl descend", str(path))
        ) from fault


def is_held(plan: Plan, rung: RungPlan) -> bool:
    """Whether the data are read when this rung is done: what it gives up ends here, or what comes next is told."""
    following = [one for one in plan.rungs if one.number > rung.number]
    if not following:
        return False
    ours = any(one.is_loose or one.needs_reading or _is_asked(one) for one in rung.contracts)
    return ours or any(one.needs_reading for one in following[0].contracts)


def _is_asked(contract: Contract) -> bool:
    return bool(contract.rules) or any(one.filled or one.must_change for one in contract.tables)


def told_of(
    rung: RungPlan, basis: Basis, databases: Mapping[str, Database], known: Mapping[str, Expected] | None = None
) -> dict[str, list[Reading]]:
    """The readings that one rung's contracts ask for, by database; none where the rungs before it were not read.

    `known` is what they gave, where the rung has been taken: the tables that queries read from may be gone by then.
    """
    if [one.number for one in basis.since] != [rung.number]:
        return {}
    found = {}
    for name, line in basis.lineages().items():
        if any(one.database == name and one.needs_reading for one in rung.contracts):
            columns = _asked_of(databases[name]) if known is None else _known_from(known[name])
            found[name] = readings(line, basis.databases[name], databases[name].address.engine, columns)
    return found


def exact_tables(plan: Plan, name: str, rung: RungPlan) -> dict[str, str]:
    """Tables of a database of which no release on the whole way gives anything up, by their names after a rung, with
    those before the climb: to hold them against before the climb at the end holds them against every rung.
    """
    now = {table: table for table in read_inventory(plan, BEFORE_NAME).databases[name].tables}
    found, inexact = dict(now), set[str]()
    for one in plan.rungs:
        for contract in one.contracts:
            if contract.database == name:
                inexact |= _step_on(now, contract)
        if one.number == rung.number:
            found = dict(now)
    return {table: origin for table, origin in found.items() if origin and origin not in inexact}


def _step_on(now: dict[str, str], contract: Contract) -> set[str]:
    """Follow a contract's names from `now`; those, of before the climb, of which it gives something up."""
    now.update(dict.fromkeys(contract.tables_added, ""))
    inexact = set()
    for change in contract.tables:
        origin = now.pop(change.renamed_from or change.name, "")
        inexact |= set() if change.is_exact else {origin}
        now[change.name] = origin
    for move in contract.moved:
        inexact |= {now.get(one.partition(".")[0], "") for one in (move.from_, move.to)}
    return inexact | {now.pop(one, "") for one in contract.tables_dropped}


def _asked_of(database: Database) -> QueryColumns:
    return lambda _table, query: database.query_columns(query)


def _known_from(expected: Expected) -> QueryColumns:
    return lambda table, _query: tuple(expected.tables[table].columns)


def expected_of(plan: Plan, rung: RungPlan) -> dict[str, Expected]:
    """What a rung was told to make of the data, by database; nothing where it was not read before."""
    path = _told_file(plan, rung)
    return {name: Expected.from_record(one) for name, one in _read(path).items()} if path.exists() else {}


def read_what_will_be(run: Run, rung: RungPlan) -> None:
    """Read what a rung will make of the data, as its release tells it, before it does; raises AnswerNo."""
    plan = run.plan
    if not any(one.needs_reading for one in rung.contracts):
        return
    position = plan.rungs.index(rung)
    site = plan.site_at(plan.rungs[position - 1]) if position else plan.site
    databases, basis = site.databases(), basis_before(plan, rung)
    found = {}
    for name, told in told_of(rung, basis, databases).items():
        contracts = [one for one in rung.contracts if one.database == name]
        try:
            expected = read_expected(
                databases[name], told, contracts, _keys_folder(plan, rung), telling_rows(run, name)
            )
        except LadderError as fault:
            raise _wrong_sql(rung, name, fault) from fault
        found[name] = expected.as_record()
    write_json(_told_file(plan, rung), found)


def _wrong_sql(rung: RungPlan, name: str, fault: LadderError) -> AnswerNo:
    said = fault.problems[0].message
    text = f"what {rung.to_version} tells of the data of {name} could not be read: {said}"
    return AnswerNo(Problem("contract-not-readable", text, "correct the contract in its release sheet", name))


def held_by(run: Run, basis: Basis, prints: Mapping[str, DatabasePrint]) -> dict[str, Held]:
    """What was told of the tables and what they hold now, by database; nothing where it was not read before."""
    plan = run.plan
    known = expected_of(plan, basis.since[0]) if len(basis.since) == 1 else {}
    if not known:
        return {}
    rung = basis.since[0]
    databases = plan.site_at(rung).databases()
    held = {}
    for name, told in told_of(rung, basis, databases, known).items():
        columns = {table: one.names for table, one in prints[name].tables.items()}
        matched = read_matched(databases[name], told, columns, _keys_folder(plan, rung), telling_rows(run, name))
        held[name] = Held(known[name].tables, matched)
    return held


def faults_of_questions(run: Run, basis: Basis, prints: Mapping[str, DatabasePrint]) -> Iterator[str]:
    """What the last rung's contracts ask of the data after it, and do not find."""
    if not basis.since:
        return
    rung = basis.since[-1]
    databases = run.plan.site_at(rung).databases()
    known = expected_of(run.plan, rung) if len(basis.since) == 1 else {}
    for contract in rung.contracts:
        name = contract.database
        if name not in databases:
            continue
        answers = known[name].answers if name in known else {}
        try:
            yield from _answered_otherwise(run, contract, databases[name], answers)
            yield from _broken_rules(contract, databases[name])
            yield from _unfilled(contract, databases[name], prints[name])
        except LadderError as fault:
            yield f"{name}: what {rung.to_version} asks of the data could not be asked: {fault.problems[0].message}"
        if len(basis.since) == 1:
            yield from _unchanged(contract, basis.lineages()[name], basis.databases[name], prints[name])


def _answered_otherwise(
    run: Run, contract: Contract, database: Database, answers: Mapping[str, TablePrint]
) -> Iterator[str]:
    name = contract.database
    ours = {one.name for one in contract.same_answers} & answers.keys()
    found = read_answers(database, [contract], telling_rows(run, name)) if ours else {}
    for question in sorted(ours & found.keys()):
        before, after = answers[question], found[question]
        if before != after:
            yield f"{name}: {question}: {_unlike(before.rows, after.rows)}"


def _broken_rules(contract: Contract, database: Database) -> Iterator[str]:
    for rule in contract.rules:
        query = for_engine(rule.query, database.address.engine)
        if query and not database.scalar(query):
            yield f"{contract.database}: {rule.name}: does not hold"


def _unlike(before: int, after: int) -> str:
    return f"{before:,} rows answered before, {after:,} now" if before != after else "is answered otherwise than before"


def _unfilled(contract: Contract, database: Database, prints: DatabasePrint) -> Iterator[str]:
    for change in contract.tables:
        for column, wanted in change.filled.items():
            text = for_engine(wanted, database.address.engine)
            if not text or change.name not in prints.tables or column not in prints.tables[change.name].names:
                continue  # no SQL for this engine; or a table that is gone, which is told elsewhere
            unlike = database.unlike(database.quoted(column), text)
            counting = Selection((Field("wrong", sql="count(*)"),), change.name, where=unlike)
            wrong = sum(int(row[0]) for rows in database.read_selected(counting) for row in rows)
            if wrong:
                yield f"{contract.database}.{change.name}: {column}: {wrong:,} values are not `{text}`"


def _unchanged(contract: Contract, line: Lineage, before: DatabasePrint, after: DatabasePrint) -> Iterator[str]:
    """Columns that must have changed and did not: the migration has not done its work."""
    for change in contract.tables:
        its = line.tables.get(change.name)
        for column in change.must_change:
            origin = its.columns[column].origin if its is not None and column in its.columns else None
            now = after.tables.get(change.name)
            if origin is None or now is None or column not in now.columns:
                continue
            was = before.tables[origin[0]].columns[origin[1]]
            if was.values and (was.values, was.loose) == (now.columns[column].values, now.columns[column].loose):
                yield f"{contract.database}.{change.name}: {column}: must have changed, and is as before"


def faults_in(verdicts: Mapping[str, Sequence[TableVerdict]]) -> list[str]:
    """Everything that is wrong with tables and what is defined, with its place."""
    return [
        f"{name}.{one.table}: {remark}"
        for name, found in verdicts.items()
        for one in found
        if one.verdict is Verdict.DIFFERS
        for remark in one.remarks
    ]


def verdicts_of(
    run: Run, basis: Basis, prints: Mapping[str, DatabasePrint]
) -> tuple[dict[str, tuple[TableVerdict, ...]], list[str]]:
    """A verdict for each table since the basis, together with what was found before it; and all that is wrong."""
    lines, held = basis.lineages(), held_by(run, basis, prints)
    verdicts = {}
    for name, line in lines.items():
        volatile = run.site.database_spec(name).volatile
        judged = judge(basis.databases[name], prints[name], line, volatile, held.get(name))
        verdicts[name] = together(basis.earlier.get(name, ()), judged, line)
    return verdicts, list(faults_of_questions(run, basis, prints))
