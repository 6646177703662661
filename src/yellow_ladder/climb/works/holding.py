"""Holds the data against what stood before, between one rung and the next."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from yellow_ladder.climb.proving.basis import (
    Basis,
    basis_before,
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
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
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
            faults = _to_the_row(run, seen).faults
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
        found = take_fingerprint(database, lines[name].ties(base), telling_rows(run, name), only=wanted)
        prints[name] = _carried(base, found, lines[name])
        read += found.rows
    return _Compared(basis, prints, *verdicts_of(run, basis, prints), read)


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


def _carried(base: DatabasePrint, found: DatabasePrint, lineage: Lineage) -> DatabasePrint:
    """What was read, and for every other table what it held before, under the names that it has now."""
    tables = dict(found.tables)
    for name, line in lineage.tables.items():
        if name not in tables and line.origin is not None:
            tables[name] = base.tables[line.origin] if line.is_plain(name) else _only_counted(base, line)
    return DatabasePrint(tables, found.objects, found.positions)


def _only_counted(base: DatabasePrint, line: TableLine) -> TablePrint:
    """A table that the application rewrites by itself, changed by a release: nothing but its rows is known."""
    return TablePrint(base.tables[str(line.origin)].rows, (), {}, tuple(line.columns))
