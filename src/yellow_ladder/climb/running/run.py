"""The runner: begin on disk, do, done on disk; a step that was not done is done again."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from yellow_ladder.climb.record.journal import Journal, JournalRecord, What
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing, fold
from yellow_ladder.climb.record.step_names import StepName
from yellow_ladder.errors import LadderError, Problem, StoppedPartWay
from yellow_ladder.events import Event, Listener, Progress, StepDone, StepFailed, StepStarted
from yellow_ladder.site.site import Site


def utc_now() -> datetime:
    """The time now."""
    return datetime.now(UTC)


def never() -> int:
    """Nobody asks to stop."""
    return 0


Facts = Mapping[str, Any]


@dataclass(slots=True)
class Run:
    """All that steps work with. `is_interrupted` tells how often somebody pressed Ctrl-C; time is passed in."""

    plan: Plan
    journal: Journal
    listen: Listener
    is_interrupted: Callable[[], int] = never
    now: Callable[[], datetime] = utc_now
    site: Site = field(init=False)

    def __post_init__(self) -> None:
        """Take the site as it was frozen."""
        self.site = self.plan.site

    def tell(self, event: Event) -> None:
        """Pass an event on; progress is also where a long step can be stopped, since steps may be repeated."""
        self.listen(event)
        if isinstance(event, Progress):
            self.look_on()

    def look_on(self) -> None:
        """Raise StoppedPartWay where somebody asked to stop: for long work that tells no progress."""
        if self.is_interrupted():
            raise stopped(self)

    def take_as_heard(self, times: int) -> None:
        """What has been asked so far is done; only what is asked after that counts."""
        asked = self.is_interrupted
        self.is_interrupted = lambda: max(0, asked() - times)

    def standing(self) -> Standing:
        """How far the climb is."""
        return fold(self.journal.records)

    def note(self, what: What, step: str, facts: Facts | None = None) -> JournalRecord:
        """Write a record and return it.

        Raises StoppedPartWay when the journal cannot be written: nothing goes on without it.
        """
        try:
            return self.journal.append(what, step, self.stamp(), facts)
        except OSError as fault:
            text = f"the journal {self.journal.path} cannot be written: {fault.strerror}"
            remedy = "free space there; then go on with `yl climb --continue`, or go back with `yl descend`"
            raise StoppedPartWay(Problem("journal-not-writable", text, remedy, str(self.journal.path))) from fault

    def stamp(self) -> str:
        """The time now, as the journal writes it."""
        return f"{self.now():%Y-%m-%dT%H:%M:%S.%f}Z"


@dataclass(frozen=True, slots=True)
class Step:
    """One repeatable piece of work. `do` returns facts for the journal; `summary` in them is shown to people.

    A step that does not touch the site reads it, or writes into the state folder only: as long as no other has begun,
    there is nothing to go back from. One that may not be done `twice` and was under way at a kill has failed: whether
    it had done its work is not guessed.
    """

    name: StepName
    title: str
    do: Callable[[Run], Facts]
    touches_site: bool = True
    twice: bool = True


Work = Callable[[Run], Facts]


class StepTrouble(Exception):
    """A step failed; the journal says so."""

    def __init__(self, step: Step, problems: Sequence[Problem]) -> None:
        """Take the step and what was wrong."""
        super().__init__(problems[0].message)
        self.step, self.problems = step, tuple(problems)


def run_steps(run: Run, steps: Sequence[Step]) -> None:
    """Do what is left of `steps`, in order.

    Raises StepTrouble when a step fails and StoppedPartWay when somebody asked to stop; both leave the journal whole.
    """
    standing = run.standing()
    done, begun = standing.done, standing.begun
    for number, step in enumerate(steps, start=1):
        if step.name in done:
            continue
        if run.is_interrupted():
            raise stopped(run)
        name = str(step.name)
        if not step.twice and step.name in begun:
            raise _not_again(run, step)
        run.note(What.BEGIN, name)
        run.listen(StepStarted(name, step.title, number, len(steps)))
        started = time.monotonic()
        try:
            facts = step.do(run)
        # Not a failure of the step: somebody asked to stop, and it will be done again from its beginning.
        except StoppedPartWay:
            raise
        except (LadderError, OSError) as fault:
            problems = fault.problems if isinstance(fault, LadderError) else (_from_system(fault),)
            reason = problems[0].message
            run.note(What.FAILED, name, {"reason": reason, "code": problems[0].code})
            run.listen(StepFailed(name, step.title, reason))
            raise StepTrouble(step, problems) from fault
        took_s = time.monotonic() - started
        run.note(What.DONE, name, {**facts, "took_s": round(took_s, 3)})
        run.listen(StepDone(name, step.title, took_s, facts))


def _not_again(run: Run, step: Step) -> StepTrouble:
    """A step that was begun, did not end, and may not be begun again."""
    text = f"`{step.title}` was begun before and did not end, and may not be run twice"
    remedy = "see in the climb's folder `output` how far it came; where it may be run again, say twice = true"
    problem = Problem("command-under-way", text, remedy, str(step.name))
    run.note(What.FAILED, str(step.name), {"reason": text, "code": problem.code})
    run.listen(StepFailed(str(step.name), step.title, text))
    return StepTrouble(step, [problem])


def _from_system(fault: OSError) -> Problem:
    where = str(fault.filename or "")
    text = f"the system refused: {fault.strerror}" + (f" ({where})" if where else "")
    return Problem("system", text, "correct that, then go on", where)


def stopped(run: Run) -> StoppedPartWay:
    """The error that tells how to go on after somebody asked to stop."""
    text = f"stopped on request; the climb {run.plan.climb} is part-way, and its journal says how far"
    remedy = "go on with `yl climb --continue`, or go back with `yl descend`"
    return StoppedPartWay(Problem("stopped", text, remedy, str(run.plan.folder)))
