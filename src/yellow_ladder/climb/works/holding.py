"""Holds the data against what stood before, between one rung and the next."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

from yellow_ladder.climb.proving.basis import (
    Basis,
    basis_before,
    exact_tables,
    faults_in,
    keep_between,
    read_what_will_be,
    verdicts_of,
)
from yellow_ladder.climb.proving.differences import Differences
from yellow_ladder.climb.proving.inventory import telling_rows
from yellow_ladder.climb.proving.locating import FOLDER_NAME, locate, where_listed
from yellow_ladder.climb.proving.proposal import DECLARED_IN, propose
from yellow_ladder.climb.record.plan import RungPlan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.database import Database
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint
from yellow_ladder.fingerprints.scan import OnRows, take_fingerprint
from yellow_ladder.fingerprints.verdicts import ACCEPTED, TableVerdict, Verdict


@dataclass(frozen=True, slots=True)
class _Compared:
    """The data after a rung, held against those before: sums, verdicts, questions not answered right, rows read."""

    basis: Basis
    prints: Mapping[str, DatabasePrint]
    verdicts: Mapping[str, tuple[TableVerdict, ...]]
    unmet: Sequence[str]
    read: int

    @property
    def faults(self) -> list[str]:
        """Everything that is wrong."""
        return [*faults_in(self.verdicts), *self.unmet]


def hold(rung: RungPlan) -> Work:
    """The work of holding the data after a rung against those before, and of reading what the next will make of them.

    Raises AnswerNo with every difference.
    """

    def do(run: Run) -> Facts:
        plan = run.plan
        if _is_past(run, rung):
            return {"summary": "not compared here: the next release is in place already"}
        seen = _compared(run, rung)
        if seen.faults:
            seen = _to_the_row(run, seen)
            faults = seen.faults
            proposal = propose(plan, seen.basis, seen.prints, seen.verdicts, faults)
            remedy = DECLARED_IN.format(proposal) if proposal else "report it to the release's publisher"
            remedy = "; ".join(filter(None, (where_listed(plan), remedy)))
            raise AnswerNo([Problem("not-the-same", f"after {rung.to_version}: {one}", remedy) for one in faults])
        return _kept(run, rung, seen)

    return do


def differences_after(run: Run, rung: RungPlan) -> Differences:
    """What `hold` finds after a rung, for somebody who has to decide; rows are listed, each line counts once."""
    faults = _to_the_row(run, _compared(run, rung)).faults
    return Differences({}, tuple(faults), str(run.plan.folder / FOLDER_NAME))


def hold_as_accepted(run: Run, rung: RungPlan) -> None:
    """Take the data after a rung as they are, since somebody has agreed: what follows is held against them."""
    seen = _to_the_row(run, _compared(run, rung))
    agreed = {name: tuple(map(_accepted, found)) for name, found in seen.verdicts.items()}
    _kept(run, rung, replace(seen, verdicts=agreed))


def _accepted(one: TableVerdict) -> TableVerdict:
    if one.verdict is not Verdict.DIFFERS:
        return one
    return replace(one, verdict=Verdict.NOT_COMPARED, remarks=tuple(f"{ACCEPTED}{text}" for text in one.remarks))


def _compared(run: Run, rung: RungPlan) -> _Compared:
    plan, basis = run.plan, basis_before(run.plan, rung)
    following = plan.rungs[plan.rungs.index(rung) + 1]
    lines, prints, read = basis.lineages(), {}, 0
    for name, database in plan.site_at(rung).databases().items():
        base, volatile = basis.databases[name], run.site.database_spec(name).volatile
        wanted = _to_read(name, lines[name], following).difference(volatile)
        exact = exact_tables(plan, name, rung).keys() & wanted
        stretch = _Stretch(database, base, lines[name], telling_rows(run, name))
        there = {table.name: table.columns for table in database.tables()}
        found, rows = stretch.read(there, wanted - exact, exact)
        apart = _apart(database, base, lines[name])
        prints[name] = replace(_carried(base, found, lines[name], there), apart=apart)
        read += rows
    return _Compared(basis, prints, *verdicts_of(run, basis, prints), read)


@dataclass(frozen=True, slots=True)
class _Stretch:
    """A database after some rungs, what it held before them, and what they declare."""

    database: Database
    base: DatabasePrint
    lineage: Lineage
    tell: OnRows

    def read(
        self, there: Mapping[str, Collection[str]], wanted: Collection[str], exact: Collection[str]
    ) -> tuple[DatabasePrint, int]:
        """What the `wanted` tables hold, and how many rows were read; `there` are all tables, with their columns.

        Of those that are `exact`, which the end of the way is held against whole, only the columns that are new are
        read: what they had is taken as it was before.
        """
        lines = self.lineage.tables
        # What is not as declared is read, so that it is told here.
        fit = [one for one in exact if set(there.get(one, ())) == set(lines[one].columns)]
        new = {one: [column for column, its in lines[one].columns.items() if its.origin is None] for one in fit}
        some = {one: columns for one, columns in new.items() if columns}
        found = self._taken({*wanted, *exact}.difference(fit) | some.keys(), some)
        known = {one: self._as_before(lines[one], new[one], found.tables.get(one)) for one in fit}
        unlike = {one for one, its in known.items() if its is None}
        again = self._taken(unlike, {}) if unlike else DatabasePrint()
        tables = {**found.tables, **again.tables, **{one: its for one, its in known.items() if its is not None}}
        return replace(found, tables=tables), found.rows + again.rows

    def _taken(self, tables: Collection[str], some: Mapping[str, Collection[str]]) -> DatabasePrint:
        ties = self.lineage.ties(self.base)
        return take_fingerprint(self.database, ties, self.tell, only=tables, columns=some)

    def _as_before(self, line: TableLine, new: Collection[str], read: TablePrint | None) -> TablePrint | None:
        """The sums of before under the names that columns have now, with those of new columns; None where they do not
        go together.
        """
        old, key = self.base.tables[str(line.origin)], line.key_after(self.base)
        names = {its.origin[1]: name for name, its in line.columns.items() if its.origin is not None}
        columns = {names[one]: sums for one, sums in old.columns.items()}
        if new:
            if read is None or (read.rows, read.way, read.key) != (old.rows, old.way, key):
                return None
            columns |= {one: read.columns[one] for one in new}
        return replace(old, columns=columns, key=key)


def _to_the_row(run: Run, seen: _Compared) -> _Compared:
    return replace(seen, verdicts=locate(run, seen.basis, seen.prints, seen.verdicts))


def _kept(run: Run, rung: RungPlan, seen: _Compared) -> Facts:
    """Keep what stood after a rung for what follows, and read what the next will make of it."""
    plan = run.plan
    keep_between(plan, rung, seen.prints, seen.verdicts)
    read_what_will_be(run, plan.rungs[plan.rungs.index(rung) + 1])
    return {"rows": seen.read}


def _is_past(run: Run, rung: RungPlan) -> bool:
    """Whether the next release has been begun: by a build that did not compare between rungs."""
    begun = run.standing().begun
    return any(StepName(StepKind.PLACE, str(one.number)) in begun for one in run.plan.rungs if one.number > rung.number)


def _to_read(name: str, lineage: Lineage, following: RungPlan) -> set[str]:
    """Tables of which something was declared, and those of which the next rung tells what they will hold."""
    spoken_of = {table for table, line in lineage.tables.items() if not line.is_plain(table)}
    told = [one for contract in following.contracts if contract.database == name for one in contract.tables]
    return spoken_of | {one.renamed_from or one.name for one in told if one.needs_reading}


def _carried(base: DatabasePrint, found: DatabasePrint, lineage: Lineage, there: Collection[str]) -> DatabasePrint:
    """What was read, and for every other table that is there what it held before, under the names that it has now."""
    tables = dict(found.tables)
    for name, line in lineage.tables.items():
        if name in there and name not in tables and line.origin is not None:
            tables[name] = base.tables[line.origin] if line.is_plain(name) else _only_counted(base, line)
    return DatabasePrint(tables, found.objects, found.positions)


def _apart(database: Database, base: DatabasePrint, lineage: Lineage) -> dict[str, str]:
    """What is kept apart from rows: it is held at the end, against what it was before the climb, but for what was
    declared since. That is read here, and what follows is held against it.
    """
    before = lineage.apart(base)
    declared = {key for key in before if lineage.gives_up_apart(key)}
    now = database.kept_apart({}) if declared else {}
    return {key: now.get(key, words) for key, words in before.items() if key not in declared or key in now}


def _only_counted(base: DatabasePrint, line: TableLine) -> TablePrint:
    """A table that the application rewrites by itself, changed by a release: nothing but its rows is known."""
    return TablePrint(base.tables[str(line.origin)].rows, (), {}, tuple(line.columns))
