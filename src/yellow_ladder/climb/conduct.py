"""Begins climbs, goes on with them, goes back, and settles them. The only place where a direction is decided."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from yellow_ladder.backup.catalog import UNFINISHED, read_backup, remove_backup
from yellow_ladder.backup.make import check_backup
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.proving.differences import Differences, find_differences
from yellow_ladder.climb.proving.price import drop_left, drop_scratch, logs_kept
from yellow_ladder.climb.proving.written import keep_whole, writers_to
from yellow_ladder.climb.record.adjusting import Change, adjusted
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.climb.record.commands import mark_of
from yellow_ladder.climb.record.journal import JOURNAL_NAME, Journal, OnAppend, What, ignore
from yellow_ladder.climb.record.plan import Plan, RungPlan, freeze
from yellow_ladder.climb.record.standing import ClimbState, Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Run, StepTrouble, never, run_steps, utc_now
from yellow_ladder.climb.steps.down import steps_down
from yellow_ladder.climb.steps.up import is_touched, steps_up
from yellow_ladder.climb.works.clones import clone_bytes, drop_clones
from yellow_ladder.climb.works.holding import differences_after, hold_as_accepted
from yellow_ladder.climb.works.proofs import DATA_DIFFER
from yellow_ladder.climb.works.servers import start_what_should_run
from yellow_ladder.commands.watched import end_what_is_left
from yellow_ladder.errors import AnswerNo, LadderError, Problem, StoppedPartWay
from yellow_ladder.events import Listener, Note, silent
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.words import count_of, some_of


@dataclass(frozen=True, slots=True)
class Conditions:
    """What a run is given from outside: who listens, who may stop it, what time it is, who watches the journal."""

    listen: Listener = silent
    is_interrupted: Callable[[], int] = never
    now: Callable[[], datetime] = utc_now
    on_append: OnAppend = field(default=ignore)


def begin(plan: Plan, conditions: Conditions) -> ClimbState:
    """Freeze a plan that was agreed to, and climb."""
    freeze(plan)
    return go_on(plan, conditions)


def go_on(plan: Plan, conditions: Conditions) -> ClimbState:
    """Do what is left, in the direction that the journal says; returns the state at the end.

    Raises AnswerNo when a step failed and the site went back to what it was, StoppedPartWay when it could not or
    should not, BadInput when the journal was altered.
    """
    run = _run_of(plan, conditions)
    _end_left_commands(run)
    standing = run.standing()
    if standing.state.is_open:
        start_what_should_run(run)
    if standing.state is ClimbState.DESCENDING:
        return _down(run)
    if not standing.state.is_open:
        text = f"the climb {plan.climb} has ended ({standing.state})"
        raise AnswerNo(Problem("climb-ended", text, "there is nothing to continue"))
    try:
        run_steps(run, steps_up(plan))
    except StepTrouble as trouble:
        return _after_trouble(run, trouble)
    run.note(What.END, ClimbState.CLIMBED)
    return ClimbState.CLIMBED


def look_only(plan: Plan, conditions: Conditions) -> Run:
    """A run that is given to nobody who writes: for comparing."""
    return _run_of(plan, conditions)


def _run_of(plan: Plan, conditions: Conditions) -> Run:
    journal = Journal(plan.folder / JOURNAL_NAME, plan.digest(), conditions.on_append)
    return Run(plan, journal, conditions.listen, conditions.is_interrupted, conditions.now)


def _after_trouble(run: Run, trouble: StepTrouble) -> ClimbState:
    plan, standing = run.plan, run.standing()
    if not is_touched(plan, standing):
        _clear_away(plan)
        run.note(What.END, ClimbState.GIVEN_UP, {"reason": trouble.problems[0].message})
        raise AnswerNo(trouble.problems)
    if standing.was_open_to_users or run.site.record.on_failure == "stop":
        remedy = "correct it and go on with `yl climb --continue`, or go back with `yl descend`"
        if trouble.step.name.kind in _COMPARING:
            remedy += "; to see every difference, and decide: `yl climb --continue --accept-differences`"
        elif trouble.step.name.kind in (StepKind.START, StepKind.STOP, StepKind.ALIVE):
            remedy += "; what the site file says of services: `yl adjust`"
        elif trouble.step.name.kind is StepKind.COMMAND:
            remedy += "; what the site file says of its own commands: `yl adjust`"
        text = f"the step `{trouble.step.title}` failed: {trouble.problems[0].message}"
        raise StoppedPartWay([Problem("step-failed", text, remedy), *trouble.problems])
    reason = trouble.problems[0].message
    run.listen(Note(f"going back to {plan.from_version}", is_warning=True))
    # Before the first step back: after a kill in between, going on must not mean going up again.
    run.note(What.TURN, str(trouble.step.name), {"reason": reason})
    _down(run)
    text = (
        f"the climb to {plan.to_version} failed at `{trouble.step.title}`; the site is at {plan.from_version} as before"
    )
    remedy = f"correct the cause and climb again; the journal is in {plan.folder}"
    if trouble.step.name.kind in (StepKind.START, StepKind.MIGRATE_BY_START, StepKind.ALIVE):
        logs = logs_kept(plan)
        remedy += f"; what its services logged by then is in {some_of(map(str, logs), 3)}" if logs else ""
    raise AnswerNo([Problem("climb-failed", text, remedy), *trouble.problems])


def _end_left_commands(run: Run) -> None:
    """End what a command has left at work that was killed with this program: whatever comes next, it must not write."""
    for one in end_what_is_left(mark_of(run.plan)):
        run.listen(Note(f"a command of this climb was still at work, and was ended: process {one}", is_warning=True))


def descend(plan: Plan, conditions: Conditions) -> ClimbState:
    """Go back from wherever the climb is; raises AnswerNo when it was settled or has gone back already."""
    run = _run_of(plan, conditions)
    _end_left_commands(run)
    standing = run.standing()
    if standing.state in (ClimbState.SETTLED, ClimbState.DESCENDED, ClimbState.GIVEN_UP):
        text = f"there is no going back from the climb {plan.climb}: it is {standing.state}"
        remedy = {
            ClimbState.SETTLED: "what was kept for going back is removed; see `yl backup list` for backups",
        }.get(standing.state, "the site is as it was before it")
        raise AnswerNo(Problem("cannot-descend", text, remedy))
    if standing.state is ClimbState.PLANNED:
        _clear_away(plan)
        run.note(What.END, ClimbState.GIVEN_UP, {"reason": "given up before it began"})
        return ClimbState.GIVEN_UP
    if standing.has_backup and standing.state is not ClimbState.DESCENDING:
        _read_backup_through(run)  # while the site still serves: no backup, no descent
    start_what_should_run(run)
    if standing.state is not ClimbState.DESCENDING:
        run.note(What.TURN, "descend", {"reason": "going back was asked for"})
    return _down(run)


def _read_backup_through(run: Run) -> None:
    try:
        check_backup(run.site.state.backups / run.plan.backup_name, run.tell)
    except StoppedPartWay as fault:
        text = "stopped on request while the backup was read through; nothing of the site has changed"
        raise StoppedPartWay(Problem("stopped", text, "go back with `yl descend`", str(run.plan.folder))) from fault


def _down(run: Run) -> ClimbState:
    if run.standing().failed_code == DATA_DIFFER:  # an earlier call ended there: what it had put back no longer held
        _put_back_again(run)
    for attempt in range(_ATTEMPTS):
        try:
            run_steps(run, steps_down(run.plan, run.standing()))
        except StepTrouble as trouble:
            if trouble.problems[0].code == DATA_DIFFER and attempt + 1 < _ATTEMPTS:
                run.listen(Note(f"{trouble.problems[0].message}; it is put back once more", is_warning=True))
                _put_back_again(run)
                continue
            raise _descent_stopped(run, trouble) from trouble
        break
    run.note(What.END, ClimbState.DESCENDED)
    return ClimbState.DESCENDED


_ATTEMPTS = 3
_DONE_ONCE = (StepKind.BACK_CLOSE, StepKind.BACK_KEEP_NEWER, StepKind.BACK_TREE)


def _put_back_again(run: Run) -> None:
    """A step that is done is done again where it no longer holds: somebody wrote to what was put back."""
    steps = [str(step) for step in run.standing().down if step.kind not in _DONE_ONCE]
    run.note(What.AGAIN, str(StepKind.BACK_PROVE), {"steps": steps, "writers": writers_to(run.site)})


def _descent_stopped(run: Run, trouble: StepTrouble) -> StoppedPartWay:
    text = f"going back stopped at `{trouble.step.title}`: {trouble.problems[0].message}"
    remedy = "correct it and go on with `yl descend`"
    if trouble.step.name.kind is StepKind.BACK_PROVE:
        who = writers_to(run.site)
        text += f"; {some_of(who, 3)} may be writing to it" if who else ""
        remedy = (
            "end what writes there and go on with `yl descend`; or see every difference, and decide, with"
            " `yl descend --accept-differences`"
        )
    elif trouble.step.name.kind in (StepKind.BACK_START, StepKind.BACK_STOP):
        remedy = "correct it and go on with `yl descend`; what the site file says of services: `yl adjust`"
    return StoppedPartWay([Problem("descent-stopped", text, remedy), *trouble.problems])


def differences_of(climb: Climb, conditions: Conditions) -> Differences:
    """What keeps a climb from its end, to the row; raises AnswerNo where no proof has said no."""
    standing = climb.standing
    step = _comparison(standing)
    if step is None:
        text = f"the climb {climb.name} is {standing.outcome}: no comparison keeps it from going on"
        raise AnswerNo(Problem("nothing-to-accept", text, "go on with `yl climb --continue` or `yl descend`"))
    run = _run_of(climb.plan, conditions)
    if step.kind is StepKind.HOLD:
        return differences_after(run, _rung_of(climb.plan, step))
    return find_differences(run, standing.state)


_COMPARING = (StepKind.PROVE, StepKind.HOLD)


def _comparison(standing: Standing) -> StepName | None:
    """The comparison that said no, and keeps a climb from its end."""
    if not standing.state.is_open or not standing.failed_step:
        return None
    step = StepName.parse(standing.failed_step)
    wanted = (StepKind.BACK_PROVE,) if standing.state is ClimbState.DESCENDING else _COMPARING
    return step if step.kind in wanted else None


def _rung_of(plan: Plan, step: StepName) -> RungPlan:
    return next(one for one in plan.rungs if str(one.number) == step.of)


def adjust(climb: Climb, text: str, changes: Sequence[Change], conditions: Conditions) -> Plan:
    """Journal a corrected site file; returns the plan that has it. What was decided of the data stays as it was."""
    run = _run_of(climb.plan, conditions)
    facts = {"keys": [one.key for one in changes], "text": text}
    record = run.note(What.ADJUST, "site-file", facts)
    return adjusted(climb.plan, [record])


def accept(climb: Climb, found: Differences, conditions: Conditions) -> ClimbState:
    """Go on with differences that somebody has seen and agreed to; the journal never calls the end whole."""
    run = _run_of(climb.plan, conditions)
    step = _comparison(run.standing()) or StepName(StepKind.PROVE)
    if step.kind is StepKind.HOLD:
        hold_as_accepted(run, _rung_of(climb.plan, step))
    if step.kind is StepKind.BACK_PROVE:
        for name in climb.plan.site.databases():
            with contextlib.suppress(LadderError):  # it stays in the site: a copy that cannot be had loses nothing
                keep_whole(climb.plan, name)
    facts = {"count": found.count, "kept": found.folder, "summary": f"{count_of(found.count, 'difference')} accepted"}
    run.note(What.ACCEPT, str(step), facts)
    return go_on(climb.plan, conditions)


def _clear_away(plan: Plan) -> None:
    """Remove what was made ready for a climb that will not be."""
    remove_entry(plan.site.state.backups / (plan.backup_name + UNFINISHED))
    placement_of(plan.site).drop_staged(plan)


@dataclass(frozen=True, slots=True)
class SettledClimb:
    """What settling a climb has removed."""

    climb: str
    freed_bytes: int
    backup: str
    backup_dropped: bool

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {
            "climb": self.climb, "freed_bytes": self.freed_bytes,
            "backup": self.backup, "backup_dropped": self.backup_dropped,
        }  # fmt: skip


def settle(climb: Climb, conditions: Conditions, *, drop_backup: bool) -> SettledClimb:
    """Settle a climb: what was kept for going back is removed; the backup stays unless it is to go too.

    May be repeated: a kill may have left some of it, or the backup may be removed later. Raises AnswerNo unless the
    climb has ended well.
    """
    plan = climb.plan
    if climb.standing.state not in (ClimbState.CLIMBED, ClimbState.SETTLED):
        text = f"the climb {climb.name} is {climb.standing.state}, not climbed"
        raise AnswerNo(Problem("cannot-settle", text, "only a climb that ended well can be settled"))
    freed = what_settling_frees(climb, drop_backup=drop_backup)
    run = _run_of(plan, conditions)
    if climb.standing.state is ClimbState.CLIMBED:
        run.note(What.END, ClimbState.SETTLED, {"backup_dropped": drop_backup})
    drop_scratch(plan)
    drop_left(plan)
    drop_clones(plan)
    placement_of(plan.site).drop_older(plan)
    backup = run.site.state.backups / plan.backup_name
    if drop_backup and backup.is_dir():
        remove_backup(read_backup(backup))
    return SettledClimb(plan.climb, freed, plan.backup_name, drop_backup)


def what_settling_frees(climb: Climb, *, drop_backup: bool) -> int:
    """Bytes of the old tree, of clones, and of the backup where it goes too."""
    plan = climb.plan
    freed = placement_of(plan.site).kept_bytes(plan)
    if climb.standing.state is ClimbState.CLIMBED:
        freed += clone_bytes(climb.standing)
    backup = plan.site.state.backups / plan.backup_name
    return freed + (read_backup(backup).size_bytes() if drop_backup and backup.is_dir() else 0)
