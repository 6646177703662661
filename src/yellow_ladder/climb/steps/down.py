"""The steps of going back, in order: restore the backup, the quick way where the old tree still lies aside."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.climb.record.commands import all_remade
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.steps.shared import (
    command_steps,
    let_in_steps,
    rest_step,
    servers_back,
    start_steps,
    stop_steps,
)
from yellow_ladder.climb.steps.up import is_touched
from yellow_ladder.climb.works.alive import look_alive_again
from yellow_ladder.climb.works.door import close_part_way, open_up
from yellow_ladder.climb.works.going_back import (
    keep_what_is_newer,
    keep_what_was_written,
    put_tree_back,
    restore_all_files,
    restore_database,
)
from yellow_ladder.climb.works.proofs import prove_back
from yellow_ladder.climb.works.remaking import put_folders_back
from yellow_ladder.climb.works.sitefile import follow_back
from yellow_ladder.climb.works.tidying import tidy_back
from yellow_ladder.release.commands import Point


def steps_down(plan: Plan, standing: Standing) -> list[Step]:
    """Every step back to the serving old version. Where nothing was changed yet, the site is only opened again; where
    nothing was touched, it goes on serving, and what has ended since (with its machine) is started.

    A pure function of the plan and of what the journal says of the way up.
    """
    tidying = Step(StepName(StepKind.BACK_TIDY), "remove what is no longer needed", tidy_back)
    if not is_touched(plan, standing):
        return [*start_steps(plan, StepKind.BACK_START), tidying]
    return [
        Step(StepName(StepKind.BACK_CLOSE), "close the site to its users", close_part_way),
        *stop_steps(plan, StepKind.BACK_STOP),
        *(_restoring(plan, standing) if standing.has_backup else ()),
        Step(StepName(StepKind.BACK_PROVE), "compare all data and files with before", prove_back),
        *let_in_steps(plan, StepKind.BACK_LET_IN),
        *start_steps(plan, StepKind.BACK_START),
        *_alive_again(plan),
        Step(StepName(StepKind.BACK_OPEN), "open the site to its users", open_up),
        *(_keeping(plan) if standing.has_backup else ()),
        tidying,
    ]


def _alive_again(plan: Plan) -> list[Step]:
    name = StepName(StepKind.BACK_ALIVE)
    return [Step(name, f"ask {plan.from_version} whether it is well", look_alive_again)] if plan.serves else []


def _keeping(plan: Plan) -> Iterator[Step]:
    """Nobody waits for this: what putting back has set aside does not change any more."""
    for spec in plan.site.record.databases:
        name = StepName(StepKind.BACK_KEEP_WRITTEN, spec.name)
        yield Step(name, f"keep what others wrote to {spec.name}", keep_what_was_written(spec.name))


def _restoring(plan: Plan, standing: Standing) -> Iterator[Step]:
    """Give back what the backup holds; what users have written since is kept first."""
    yield rest_step(StepKind.BACK_AT_REST)
    if standing.was_open_to_users:
        yield Step(StepName(StepKind.BACK_KEEP_NEWER), "keep what was written since", keep_what_is_newer)
    yield from servers_back(plan, StepKind.BACK_SERVER_STOP)
    yield Step(StepName(StepKind.BACK_TREE), "put the old tree back", put_tree_back)
    if all_remade(plan):
        yield Step(StepName(StepKind.BACK_REMADE), "put the data folders of before back", put_folders_back)
    yield Step(StepName(StepKind.BACK_FILES), "restore every file from the backup that differs", restore_all_files)
    yield from servers_back(plan, StepKind.BACK_SERVER_START)
    for spec in plan.site.record.databases:
        name = StepName(StepKind.BACK_DATABASE, spec.name)
        yield Step(name, f"restore the database {spec.name}", restore_database(spec.name))
    yield from command_steps(plan, Point.GOING_BACK)
    yield Step(StepName(StepKind.BACK_SITE_FILE), "give the site file its old paths", follow_back)
