"""Holds all data and files against before, at the top and after going back."""

from __future__ import annotations

from collections.abc import Sequence

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.proving.inventory import (
    BEFORE_NAME,
    ask_probes,
    fingerprint_all,
    read_inventory,
)
from yellow_ladder.climb.proving.proof import prove
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.climb.works.clones import load
from yellow_ladder.climb.works.services import start_service, stop_service
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.survey.versions import judge_versions


def prove_all(run: Run) -> Facts:
    """Compare everything with before; raises AnswerNo with every difference."""
    proof = prove(run, served=bool(run.plan.running))
    if not proof.is_whole:
        remedy = f"the whole list is in {run.plan.folder / 'proof.json'}"
        raise AnswerNo([Problem("not-the-same", fault, remedy) for fault in proof.faults])
    return {"rows": proof.rows_after, "values": proof.values_compared, "files": proof.files_compared}


def prove_back(run: Run) -> Facts:
    """See that every version and, where it was changed, all data are as before; raises AnswerNo otherwise."""
    standing = run.standing()
    served = bool(run.plan.running)
    for one in judge_versions(ask_probes(run.site, served=served), run.plan.from_version):
        if not one.is_right:
            raise AnswerNo(Problem("not-as-before", one.fault, "see `yl survey`", one.answer.where))
    if not standing.has_backup or StepName(StepKind.BEFORE) not in standing.up:
        return {"summary": "nothing had been changed"}
    before = read_inventory(run.plan, BEFORE_NAME)
    # An earlier attempt may have stopped the services to load what a clone did not hold.
    if any(_by_clone(standing, name) for name in before.databases):
        _start_all(run)  # an earlier attempt may have been killed while it loaded what a clone did not hold
    now = {name: _print_now(run, name, standing) for name in run.site.databases()}
    differing = {name: _differing(run, name, before.databases[name], found) for name, found in now.items()}
    doubtful = [name for name, what in differing.items() if what and _by_clone(standing, name)]
    if doubtful:
        _load_after_all(run, doubtful)
        again = fingerprint_all(run, {name: run.site.databases()[name] for name in doubtful})
        differing |= {name: _differing(run, name, before.databases[name], found) for name, found in again.items()}
    for name, what in differing.items():
        if what:
            more = f" and {len(what) - 1:,} more" if len(what) > 1 else ""
            text = f"{what[0]}{more} of the database {name} is not as it was before the climb"
            raise AnswerNo(Problem("not-as-before", text, "see that nothing else writes to it, then go on", name))
    return {"rows": before.rows, "files": before.files}


def _print_now(run: Run, name: str, standing: Standing) -> DatabasePrint:
    """The fingerprint of a database; of one that came from a clone and cannot be read, that of nothing."""
    try:
        return fingerprint_all(run, {name: run.site.databases()[name]})[name]
    except LadderError:
        if not _by_clone(standing, name):
            raise
        return DatabasePrint()


def _differing(run: Run, name: str, before: DatabasePrint, now: DatabasePrint) -> list[str]:
    """What is not as it was, but for what the application rewrites by itself."""
    volatile = run.site.database_spec(name).volatile
    return before.without(volatile).differences(now.without(volatile))


def _by_clone(standing: Standing, name: str) -> bool:
    return standing.down.get(StepName(StepKind.BACK_DATABASE, name), {}).get("way") == "clone"


def _load_after_all(run: Run, names: Sequence[str]) -> None:
    """A clone that does not hold what was there is no way back: the backup is."""
    for service in reversed(_running(run)):
        stop_service(service)(run)
    for name in names:
        load(read_backup(run.site.state.backups / run.plan.backup_name), name, run.site.databases()[name])
    _start_all(run)


def _running(run: Run) -> list[str]:
    return [spec.name for spec in run.site.record.services if spec.name in run.plan.running]


def _start_all(run: Run) -> None:
    for service in _running(run):
        start_service(service)(run)
