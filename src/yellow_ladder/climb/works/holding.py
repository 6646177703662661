"""Holds the data against what stood before, between one rung and the next."""

from __future__ import annotations

from yellow_ladder.climb.proving.grounds import (
    faults_in,
    ground_before,
    keep_between,
    read_what_will_be,
    telling_rows,
    verdicts_of,
)
from yellow_ladder.climb.proving.locating import locate, where_listed
from yellow_ladder.climb.proving.proposal import DECLARED_IN, propose
from yellow_ladder.climb.record.plan import RungPlan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.fingerprints.lineage import Lineage, TableLine
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint
from yellow_ladder.fingerprints.scan import take_fingerprint


def hold(rung: RungPlan) -> Work:
    """The work of holding the data after a rung against those before, and of reading what the next will make of them.

    Raises AnswerNo with every difference.
    """

    def do(run: Run) -> Facts:
        plan, ground = run.plan, ground_before(run.plan, rung)
        if _is_past(run, rung):
            return {"summary": "not compared here: the next release is in place already"}
        following = plan.rungs[plan.rungs.index(rung) + 1]
        lines, prints, rows = ground.lineages(), {}, 0
        for name, database in plan.site_at(rung).databases().items():
            base, volatile = ground.databases[name], run.site.database_spec(name).volatile
            wanted = _to_read(name, lines[name], following).difference(volatile)
            found = take_fingerprint(database, lines[name].keys(base), telling_rows(run, name), only=wanted)
            rows += found.rows
            prints[name] = _carried(base, found, lines[name])
        verdicts, unmet = verdicts_of(run, ground, prints)
        if unmet or faults_in(verdicts):
            faults = [*faults_in(locate(run, ground, prints, verdicts)), *unmet]
            proposal = propose(plan, ground, prints, verdicts, faults)
            remedy = DECLARED_IN.format(proposal) if proposal else "report it to the release's publisher"
            remedy = "; ".join(filter(None, (where_listed(plan), remedy)))
            raise AnswerNo([Problem("not-the-same", f"after {rung.to_version}: {one}", remedy) for one in faults])
        keep_between(plan, rung, prints, verdicts)
        read_what_will_be(run, following)
        return {"rows": rows}

    return do


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
