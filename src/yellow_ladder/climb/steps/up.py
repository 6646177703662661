"""The steps of going up, in order; a pure function of the plan."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.climb.proving.basis import is_held
from yellow_ladder.climb.proving.living import Moment, ask_before, is_asked
from yellow_ladder.climb.proving.price import has_commands
from yellow_ladder.climb.record.commands import remade_at
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Step, Work
from yellow_ladder.climb.steps.shared import (
    command_steps,
    let_in_steps,
    rest_step,
    server_steps,
    start_steps,
    stop_steps,
)
from yellow_ladder.climb.works.alive import ask_opened, look_alive
from yellow_ladder.climb.works.backing_up import back_up, back_up_files, copy_first, read_backup_back, take_inventory
from yellow_ladder.climb.works.building import build
from yellow_ladder.climb.works.by_start import migrate_by_start
from yellow_ladder.climb.works.clones import clone
from yellow_ladder.climb.works.commands import migrate_by_command
from yellow_ladder.climb.works.copies import copy_after, copy_to
from yellow_ladder.climb.works.door import close, open_up
from yellow_ladder.climb.works.holding import hold
from yellow_ladder.climb.works.looking import look_again
from yellow_ladder.climb.works.proofs import keep_as_proven, prove_all
from yellow_ladder.climb.works.remaking import export, make_anew
from yellow_ladder.climb.works.rungs import ask_of_data, check_rung, migrate, place
from yellow_ladder.climb.works.sitefile import follow
from yellow_ladder.climb.works.tidying import tidy
from yellow_ladder.release.commands import Point
from yellow_ladder.release.sheet import Migration


def steps_up(plan: Plan) -> list[Step]:
    """Every step from the serving old version to the serving new one."""
    return [*_steps_before(plan), *_window_begins(plan), *_climbing(plan), *_window_ends(plan)]


def is_touched(plan: Plan, standing: Standing) -> bool:
    """Whether a step that touches the site has begun; until then it serves as if there were no climb."""
    return any(step.touches_site and step.name in standing.begun for step in steps_up(plan))


def _reads(kind: StepKind, title: str, do: Work, of: str = "") -> Step:
    """A step that leaves the site as it is."""
    return Step(StepName(kind, of), title, do, touches_site=False)


def _steps_before(plan: Plan) -> list[Step]:
    """While the site still serves."""
    steps = [
        _reads(StepKind.BUILD, f"make {rung.to_version} in {rung.folder}", build(rung), str(rung.number))
        for rung in plan.rungs
        if rung.folder
    ]
    steps += [step for rung in plan.rungs for step in command_steps(plan, Point.SETTINGS, rung)]
    if any(one.is_asked_after for one in plan.site.record.checks):
        steps.append(_reads(StepKind.ASK_BEFORE, "ask the site's own questions, for comparison", ask_before))
    steps.append(_reads(StepKind.LOOK_AGAIN, "check that nothing changed since the plan", look_again))
    if plan.first_copy:
        steps.append(_reads(StepKind.FIRST_COPY, "copy the files while the site serves", copy_first))
    return steps


def _window_begins(plan: Plan) -> list[Step]:
    """The site closes, comes to rest, and is backed up."""
    databases = [spec.name for spec in plan.site.record.databases]
    cloned = [way.database for way in plan.ways_back if way.clone]
    return [
        *command_steps(plan, Point.BEFORE_CLOSE),
        Step(StepName(StepKind.CLOSE), "close the site to its users", close),
        *stop_steps(plan, StepKind.STOP),
        rest_step(StepKind.AT_REST),
        _reads(StepKind.LOOK_AT_REST, "check that nothing changed before it stopped", look_again),
        _reads(StepKind.BACKUP_FILES, "back up the files", back_up_files),
        *(
            _reads(StepKind.BACKUP_DATABASE, f"back up and fingerprint the database {name}", back_up(name), name)
            for name in databases
        ),
        _reads(StepKind.READ_BACK, "read the backup back", read_backup_back),
        _reads(StepKind.BEFORE, "record all data as it is now", take_inventory),
        *(Step(StepName(StepKind.CLONE, name), f"clone the database {name}", clone(name)) for name in cloned),
        *_copies(plan, "before"),
        *command_steps(plan, Point.CLOSED),
    ]


def _climbing(plan: Plan) -> Iterator[Step]:
    """Rung after rung."""
    for rung in plan.rungs:
        version, of = rung.to_version, str(rung.number)
        if rung.parsed.checks:
            yield _reads(StepKind.ASK_FOR_RELEASE, f"ask of the data what {version} wants", ask_of_data(rung), of)
        for one in remade_at(plan, rung):
            if one.export_by is None and not one.same:
                continue
            title = f"export {one.before}, to be made anew"
            yield Step(StepName(StepKind.EXPORT, one.of), title, export(one))
        yield from server_steps(plan, rung, StepKind.SERVER_STOP)
        title = f"pass through {version}, which is not placed" if rung.is_passage else f"put {version} in place"
        yield Step(StepName(StepKind.PLACE, of), title, place(rung))
        yield from command_steps(plan, Point.PLACED, rung)
        for one in remade_at(plan, rung):
            title = f"go on with a copy of {one.after}" if one.copied else f"make {one.after} anew"
            yield Step(StepName(StepKind.IMPORT, one.of), title, make_anew(one))
        yield from server_steps(plan, rung, StepKind.SERVER_START)
        yield from command_steps(plan, Point.BEFORE_MIGRATIONS, rung)
        yield from _migrating(rung)
        yield from command_steps(plan, Point.AFTER_MIGRATIONS, rung)
        checked = (
            f"check that the data came through {version}" if rung.is_passage else f"check that {version} is in place"
        )
        yield _reads(StepKind.CHECK_RUNG, checked, check_rung(rung), of)
        if is_held(plan, rung):
            yield _reads(StepKind.HOLD, f"compare what {version} has changed in the data", hold(rung), of)


def _migrating(rung: RungPlan) -> Iterator[Step]:
    """Migrations in the order of the sheet; files that follow one another are one step, since each is applied once."""
    version, files = rung.to_version, list[Migration]()
    groups = 0

    def applied() -> Iterator[Step]:
        nonlocal groups
        if files:
            of = str(rung.number) if not groups else f"{rung.number}.{groups + 1}"
            groups += 1
            name = StepName(StepKind.MIGRATE, of)
            yield Step(name, f"migrate the database to {version}", migrate(rung, tuple(files)))
            files.clear()

    for one in rung.migrations:
        if one.file:
            files.append(one)
            continue
        yield from applied()
        of = f"{rung.number}/{one.id}"
        if one.command is not None:
            name = StepName(StepKind.MIGRATE_BY_COMMAND, of)
            twice = one.command.twice
            yield Step(name, f"migrate to {version}: {one.id}", migrate_by_command(rung, one), twice=twice)
        else:
            name = StepName(StepKind.MIGRATE_BY_START, of)
            yield Step(name, f"start {version} so that it migrates: {one.id}", migrate_by_start(rung, one))
    yield from applied()


def _window_ends(plan: Plan) -> list[Step]:
    """The new version is compared with before at rest, where nobody writes; then it starts, and is opened."""
    return [
        *command_steps(plan, Point.BEFORE_START),
        _reads(StepKind.PROVE, "compare all data and files with before", prove_all),
        *_kept_as_left(plan),
        *let_in_steps(plan, StepKind.LET_IN),
        *start_steps(plan, StepKind.START),
        *command_steps(plan, Point.STARTED),
        *([_reads(StepKind.ALIVE, f"ask {plan.to_version} whether it is well", look_alive)] if plan.serves else ()),
        Step(StepName(StepKind.SITE_FILE), "follow moved paths in the site file", follow),
        Step(StepName(StepKind.OPEN), "open the site to its users", open_up),
        *command_steps(plan, Point.OPENED),
        *_asked_when_opened(plan),
        *_copies(plan, "after"),
        Step(StepName(StepKind.TIDY), "remove what is no longer needed", tidy),
    ]


def _asked_when_opened(plan: Plan) -> list[Step]:
    if not any(is_asked(one, Moment.OPENED) for one in plan.site.record.checks):
        return []
    return [_reads(StepKind.ASK_OPENED, "ask what only an open site answers", ask_opened)]


def _kept_as_left(plan: Plan) -> list[Step]:
    """Where commands changed the data, a copy tells later what users have written since."""
    names = [spec.name for spec in plan.site.record.databases] if has_commands(plan) else []
    return [_reads(StepKind.KEEP_LEFT, f"keep the database {one} as it is", keep_as_proven(one), one) for one in names]


def _copies(plan: Plan, when: str) -> list[Step]:
    """Copies of the backup elsewhere: before anything is changed, or when the site is open again."""
    how = {"before": copy_to, "after": copy_after}[when]
    targets = [one for one in plan.site.record.backup.copy_to if one.climb == when]
    return [_reads(StepKind.COPY, f"copy the backup to {one.name}", how(one), one.name) for one in targets]
