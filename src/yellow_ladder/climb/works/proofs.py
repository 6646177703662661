"""Holds all data and files against before, at the top and after going back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.proving.basis import last_basis
from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.proving.inventory import (
    AFTER_NAME,
    BEFORE_NAME,
    ask_probes,
    fingerprint_all,
    read_inventory,
)
from yellow_ladder.climb.proving.locating import where_listed
from yellow_ladder.climb.proving.price import drop_scratch, keep_as_left
from yellow_ladder.climb.proving.proof import PROOF_NAME, prove
from yellow_ladder.climb.proving.proposal import DECLARED_IN, propose
from yellow_ladder.climb.proving.written import only_added, writers_to
from yellow_ladder.climb.record.commands import is_set_aside
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.clones import load
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.events import Note
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import bytes_in_words, count_of, some_of

# Below this a copy takes seconds. Users wait for it, and all that it serves is a better answer when going back.
LARGEST_LEFT_BYTES = 2 * 1024**3
NOTHING_CHANGED = "nothing had been changed"
DATA_DIFFER = "data-not-as-before"


def prove_all(run: Run) -> Facts:
    """Compare everything with before; raises AnswerNo with every difference."""
    proof = prove(run, served=False)
    if not proof.is_whole:
        who = writers_to(run.site)
        remedy = "; ".join(
            filter(None, (f"the whole list is in {run.plan.folder / PROOF_NAME}", where_listed(run.plan)))
        )
        after = read_inventory(run.plan, AFTER_NAME).databases
        proposal = propose(run.plan, last_basis(run.plan), after, proof.tables, proof.faults)
        if proposal is not None:
            remedy += f"; {DECLARED_IN.format(proposal)}"
        remedy += f"; {some_of(who, 3)} may be writing meanwhile" if who else ""
        raise AnswerNo([Problem("not-the-same", fault, remedy) for fault in proof.in_short])
    return {"rows": proof.rows_after, "values": proof.values_compared, "files": proof.files_compared}


def keep_as_proven(name: str) -> Work:
    """The work of keeping a copy of one database as it was compared: what commands did cannot be done once more.

    Without one, what users write can only be counted later; that is no reason to take the site back.
    """

    def do(run: Run) -> Facts:
        try:
            size = site_after(run.plan).databases()[name].size_bytes()
            if size > LARGEST_LEFT_BYTES:
                text = f"{bytes_in_words(size)} would keep users out for longer; what they write can be counted later"
                return {"summary": f"not kept: {text}"}
            return {"bytes": keep_as_left(run.plan, name)}
        except (LadderError, OSError) as fault:
            why = fault.problems[0].message if isinstance(fault, LadderError) else str(fault.strerror)
            text = f"no copy of {name} was kept ({why}): what is written to it from now on can be counted, not compared"
            run.listen(Note(text, is_warning=True))
            return {"summary": "not kept", "failed": text}

    return do


def prove_back(run: Run) -> Facts:
    """See that every version and, where it was changed, all data are as before; raises AnswerNo otherwise."""
    standing = run.standing()
    for one in judge_versions(ask_probes(run.site, served=False), run.plan.from_version):
        if not one.is_right:
            raise AnswerNo(Problem("not-as-before", one.fault, "see `yl survey`", one.answer.where))
    if not standing.has_backup or StepName(StepKind.BEFORE) not in standing.up:
        return {"summary": NOTHING_CHANGED}
    before = read_inventory(run.plan, BEFORE_NAME)
    now = {name: _print_now(run, name, standing) for name in run.site.databases()}
    differing = {name: _differing(run, name, before.databases[name], found) for name, found in now.items()}
    come = {
        name: _rows_that_came(run, name, what, before.databases[name], now[name])
        for name, what in differing.items()
        if what
    }
    doubtful = [name for name, count in come.items() if count is None and _by_clone(standing, name)]
    if doubtful:
        # A clone that does not hold what was there is no way back: the backup is.
        for name in doubtful:
            load(run, read_backup(run.site.state.backups / run.plan.backup_name), name)
        again = fingerprint_all(run, {name: run.site.databases()[name] for name in doubtful})
        now |= again
        differing |= {name: _differing(run, name, before.databases[name], found) for name, found in again.items()}
        for name in doubtful:
            what = differing[name]
            come[name] = _rows_that_came(run, name, what, before.databases[name], now[name]) if what else 0
    added = {name: count for name, count in come.items() if count}
    for name, count in come.items():
        if count is None:
            what = differing[name]
            others = f" and {len(what) - 1:,} more" if len(what) > 1 else ""
            text = f"{what[0]}{others} of the database {name} is not as it was before the climb"
            raise AnswerNo(Problem(DATA_DIFFER, text, "see that nothing else writes to it, then go on", name))
    facts: dict[str, Any] = {"rows": before.rows, "files": before.files}
    if added:
        rows = count_of(sum(added.values()), "row")
        facts |= {"added": added, "summary": f"all is as before; {rows} that others wrote since stay in the site"}
    return facts


def _rows_that_came(run: Run, name: str, what: Sequence[str], before: DatabasePrint, now: DatabasePrint) -> int | None:
    """How many rows others wrote since the database was put back, where nothing else differs; None otherwise.

    They are in the site, and all that was there before is there too: nothing is lost.
    """
    forward = {f"the sequence {one}" for one, at in now.positions.items() if _went_on(before.positions.get(one), at)}
    tables = {f"the table {one}" for one in before.tables}
    if set(what) <= forward:
        return 0
    if not set(what) <= forward | tables:
        return None
    try:
        changes = only_added(run.plan, name, run.site.databases()[name])
    finally:
        drop_scratch(run.plan)
    return None if changes is None else sum(one.added for one in changes)


def _went_on(before: str | None, now: str) -> bool:
    try:
        return before is not None and int(now.split()[0]) >= int(before.split()[0])
    except (ValueError, IndexError):
        return False


def _print_now(run: Run, name: str, standing: Standing) -> DatabasePrint:
    """The fingerprint of a database; of one that came from a clone and cannot be read, that of nothing."""
    try:
        return fingerprint_all(run, {name: run.site.databases()[name]})[name]
    except LadderError:
        if not _by_clone(standing, name):
            raise
        return DatabasePrint()


def _differing(run: Run, name: str, before: DatabasePrint, now: DatabasePrint) -> list[str]:
    """What is not as it was, but for what the application rewrites by itself; and, where a server came back with its
    data folder, for counters that its start has moved: that folder is the one that was there.
    """
    volatile = run.site.database_spec(name).volatile
    if is_set_aside(run.plan, name):
        before, now = replace(before, positions={}), replace(now, positions={})
    return before.without(volatile).differences(now.without(volatile))


def _by_clone(standing: Standing, name: str) -> bool:
    return standing.down.get(StepName(StepKind.BACK_DATABASE, name), {}).get("way") == "clone"
