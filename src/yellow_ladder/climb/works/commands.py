"""Runs commands of releases and of the site, and migrations by command."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Collection, Iterator, Mapping
from pathlib import Path

from yellow_ladder.climb.placing.kinds import release_folder
from yellow_ladder.climb.planning.sources import lent_settings
from yellow_ladder.climb.record.commands import PlannedCommand, mark_of
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.patience import Patience
from yellow_ladder.commands.watched import Call, run_watched
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import LadderError
from yellow_ladder.events import Listener, Said
from yellow_ladder.release.commands import CommandKeys, Point
from yellow_ladder.release.sheet import Migration
from yellow_ladder.site.scratch import hand_over
from yellow_ladder.site.surroundings import started
from yellow_ladder.words import count_of

OUTPUT_NAME = "output"


def command(planned: PlannedCommand, *, at_rest: bool) -> Work:
    """The work of running one command. `at_rest`: others are kept out of the databases, and for once let in."""

    def do(run: Run) -> Facts:
        call = call_of(run.plan, planned.rung, planned.name, planned.keys, planned.as_user)
        return _run(run, call, at_rest=at_rest)

    def look_at_settings(run: Run) -> Facts:
        with lent_settings(run.plan, planned.rung) as lent:
            values = {"settings": str(lent), "release": str(_made_ready(run.plan, planned.rung))}
            call = call_of(run.plan, planned.rung, planned.name, planned.keys, planned.as_user, values)
            hand_over(lent, call.how.account)
            return _run(run, call, at_rest=False)

    return look_at_settings if planned.at is Point.SETTINGS else do


def _made_ready(plan: Plan, rung: RungPlan) -> Path:
    """Where a rung's release lies before it is the site's: its own folder, or the tree that was staged."""
    return release_folder(plan, rung) if rung.folder else Path(rung.staged)


def migrate_by_command(rung: RungPlan, migration: Migration) -> Work:
    """The work of a vendor's own migration; whether it has done its work, the schema's probe says afterwards."""

    def do(run: Run) -> Facts:
        keys = migration.command or CommandKeys(run=[""])
        call = call_of(run.plan, rung, migration.id, keys, run.site.record.run_as)
        return _run(run, call, at_rest=True)

    return do


def call_of(
    plan: Plan, rung: RungPlan, name: str, keys: CommandKeys, as_user: str, more_values: Mapping[str, str] | None = None
) -> Call:
    """A command with everything put in; raises BadInput where its account or an environment file is no good."""
    site = plan.site
    values = {**values_of(plan, rung), **(more_values or {})}

    def fill(text: str) -> str:
        return site.filled(text, values)

    folder = site.resolve(fill(keys.folder)) if keys.folder else release_folder(plan, rung)
    argv = tuple(map(fill, keys.run))
    more = {name: fill(value) for name, value in keys.environment.items()}
    how = started(site, as_user, argv, folder, folder_counts=True, more=more).in_groups(keys.given_groups)
    return Call(name, argv, folder, how, keys, _output_of(plan, rung, name), mark_of(plan))


def values_of(plan: Plan, rung: RungPlan) -> Mapping[str, str]:
    """What stands for the braces in a command."""
    return {
        "release": str(release_folder(plan, rung)),
        "version": rung.to_version,
        "from_version": rung.from_version,
        "settings": str(plan.site.root),
    }


def _output_of(plan: Plan, rung: RungPlan, name: str) -> Path:
    plain = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.") or "command"
    return private_folder(plan.folder / OUTPUT_NAME) / f"{rung.number}-{plain}.txt"


def run_at_rest(run: Run, call: Call, apart: Collection[str] = ()) -> Facts:
    """Run a command while the application is at rest: its own programs are let into the databases for as long, but for
    those named by `apart`.
    """
    return _run(run, call, at_rest=True, apart=apart)


def _run(run: Run, call: Call, *, at_rest: bool, apart: Collection[str] = ()) -> Facts:
    patience = Patience(run, call)
    with _let_in(run, apart) if at_rest else contextlib.nullcontext():
        ended = run_watched(call, patience.hear, patience.look_on)
    words = [count_of(ended.lines, "line")] if ended.lines else []
    words += [count_of(ended.warnings, "warning")] if ended.warnings else []
    words += [ended.last] if ended.last else []
    output = str(call.output.relative_to(run.plan.folder))
    digest = {"digest": ended.digest} if call.answers else {}
    return {"summary": "; ".join(words), "output": output, "warnings": ended.warnings, **digest}


def saying(name: str, listen: Listener) -> Callable[[str], None]:
    """Tells what a command says, line by line."""
    return lambda line: listen(Said(name, line))


@contextlib.contextmanager
def _let_in(run: Run, apart: Collection[str]) -> Iterator[None]:
    """Let the application's own programs into the databases, and keep others out again whatever comes."""
    databases = [one for name, one in run.site.databases().items() if name not in apart]
    for database in databases:
        database.let_others_in()
    try:
        yield
    finally:
        for database in databases:
            with contextlib.suppress(LadderError):  # what it needs of the database, the next step will say
                database.keep_others_out()
