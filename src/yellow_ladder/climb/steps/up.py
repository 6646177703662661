"""The steps of going up, in order; a pure function of the plan."""

from __future__ import annotations

from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.climb.running.run import Step
from yellow_ladder.climb.works.backing_up import back_up, back_up_files, copy_first, read_backup_back, survey_before
from yellow_ladder.climb.works.clones import clone
from yellow_ladder.climb.works.copies import copy_after, copy_to
from yellow_ladder.climb.works.door import close_site, open_site
from yellow_ladder.climb.works.looking import look_again
from yellow_ladder.climb.works.proofs import prove_all
from yellow_ladder.climb.works.rungs import check_rung, migrate, place
from yellow_ladder.climb.works.services import start_service, stop_service
from yellow_ladder.climb.works.sitefile import follow_moves
from yellow_ladder.climb.works.tidying import tidy


def steps_up(plan: Plan) -> list[Step]:
    """Every step from the serving old version to the serving new one."""
    names = [spec.name for spec in plan.site.record.services]
    databases = [spec.name for spec in plan.site.record.databases]
    cloned = [way.database for way in plan.ways_back if way.clone]
    steps = [
        Step("look-again", "see that nothing changed since the plan", look_again),
        *([Step("first-copy", "copy the files while the site serves", copy_first)] if plan.first_copy else []),
        Step("close", "close the site to its users", lambda run: {"summary": close_site(run.site)}),
        *(Step(f"stop:{name}", f"stop {name}", stop_service(name)) for name in reversed(names)),
        Step("look-at-rest", "see that nothing changed until it stopped", look_again),
        Step("backup-files", "back up the files", back_up_files),
        *(
            Step(f"backup-database:{name}", f"back up and fingerprint the database {name}", back_up(name))
            for name in databases
        ),
        Step("backup-read-back", "read the backup back", read_backup_back),
        Step("before", "write down all data as it is now", survey_before),
        *(Step(f"clone:{name}", f"clone the database {name}", clone(name)) for name in cloned),
        *_copy_steps(plan, "before"),
    ]
    for rung in plan.rungs:
        steps += _rung_steps(rung)
    return [
        *steps,
        *(Step(f"start:{name}", f"start {name}", start_service(name)) for name in names if name in plan.running),
        Step("prove", "compare all data and files with before", prove_all),
        Step("site-file", "follow moved paths in the site file", lambda run: follow_moves(run.plan)),
        Step("open", "open the site to its users", lambda run: {"summary": open_site(run.site)}),
        *_copy_steps(plan, "after"),
        Step("tidy", "remove what is needed no more", tidy),
    ]


def _copy_steps(plan: Plan, when: str) -> list[Step]:
    """Copies of the backup elsewhere: before anything is changed, or when the site is open again."""
    how = {"before": copy_to, "after": copy_after}[when]
    targets = [one for one in plan.site.record.backup.copy_to if one.climb == when]
    return [Step(f"copy:{one.name}", f"copy the backup to {one.name}", how(one)) for one in targets]


def _rung_steps(rung: RungPlan) -> list[Step]:
    name = f"rung-{rung.number}"
    steps = [Step(f"{name}-place", f"put {rung.to_version} in place", place(rung))]
    if rung.migrations:
        steps.append(Step(f"{name}-migrate", f"migrate the database to {rung.to_version}", migrate(rung)))
    return [*steps, Step(f"{name}-check", f"see that {rung.to_version} is in place", check_rung(rung))]
