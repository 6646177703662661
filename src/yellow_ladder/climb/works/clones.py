"""Quick clones of databases: made before anything is changed, used when going back, dropped."""

from __future__ import annotations

import contextlib
import time

from yellow_ladder.backup.catalog import Backup
from yellow_ladder.climb.planning.ways_back import remember_rate
from yellow_ladder.climb.proving.written import keep_whole, keep_written
from yellow_ladder.climb.record.commands import is_set_aside
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.servers import is_as_before
from yellow_ladder.errors import LadderError


def clone(name: str) -> Work:
    """The work of cloning one database for a quick way back."""
    return lambda run: make_clone(run, name)


def make_clone(run: Run, name: str) -> Facts:
    """Clone one database; where that fails, the dump is there, unless the site file requires a clone."""
    database = run.site.databases()[name]
    place = run.plan.clone_place(name)
    try:
        return {"cloned": True, "bytes": database.make_clone(place)}
    except (LadderError, OSError) as fault:
        with contextlib.suppress(LadderError, OSError):
            database.drop_clone(place)
        if run.site.database_spec(name).clone == "required":
            raise
        why = fault.problems[0].message if isinstance(fault, LadderError) else fault.strerror
        return {"cloned": False, "summary": f"no clone ({why}); the dump is there"}


def put_back(run: Run, backup: Backup, name: str) -> Facts:
    """Make one database what it was: by its clone where there is one, from the backup otherwise."""
    copy, database = backup.database(name), run.site.databases()[name]
    if is_set_aside(run.plan, name) and is_as_before(run, name):
        return {"way": "set aside", "summary": "as it was, with its server's data folder"}
    if was_cloned(run.standing(), name):
        _keep_before(run, name)
        with contextlib.suppress(LadderError, OSError):
            if database.has_clone(run.plan.clone_place(name)):
                database.return_to_clone(run.plan.clone_place(name), copy.details)
                database.keep_others_out()
                return {"way": "clone", "summary": "from the quick clone"}
    started = time.monotonic()
    load(run, backup, name)
    database.keep_others_out()  # it is another one by now
    remember_rate(run.site, copy.engine, database.size_bytes(), time.monotonic() - started)
    return {"way": "backup", "bytes": copy.size_bytes}


def _keep_before(run: Run, name: str) -> None:
    """Look at what an earlier attempt has set aside, which the next one drops; and keep a copy where none will be."""
    written = keep_written(run.plan, name)
    database = run.site.databases()[name]
    if (written is not None and not written.is_kept) or not database.sets_aside():
        keep_whole(run.plan, name)


def load(run: Run, backup: Backup, name: str) -> None:
    """Make one database what the backup holds; what lies aside already is kept before it is dropped."""
    _keep_before(run, name)
    copy = backup.database(name)
    run.site.databases()[name].restore_from(backup.path / copy.file, copy.details)


def was_cloned(standing: Standing, name: str) -> bool:
    """Whether the journal says that a clone of a database is whole."""
    return bool(standing.up.get(StepName(StepKind.CLONE, name), {}).get("cloned"))


def clone_bytes(standing: Standing) -> int:
    """What clones take."""
    return sum(
        int(facts["bytes"]) for step, facts in standing.up.items() if step.kind is StepKind.CLONE and "bytes" in facts
    )


def drop_clones(plan: Plan) -> None:
    """Remove every clone of a climb; one of a server that cannot be reached stays."""
    for way in plan.ways_back:
        if way.clone:
            with contextlib.suppress(LadderError):
                plan.site.databases()[way.database].drop_clone(plan.clone_place(way.database))
