"""Ways back for a database: the dump, and a quick clone that makes the same return quicker."""

from __future__ import annotations

import contextlib
import json
import time

from yellow_ladder.backup.catalog import Backup
from yellow_ladder.climb.record.plan import Plan, WayBack
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.database import Database
from yellow_ladder.durable import write_memo
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.site.site import Site
from yellow_ladder.survey.records import DatabaseFacts

# Bytes of the database a second, as seen on a small machine; what this machine does is remembered and taken instead.
_LOAD_RATES = {"sqlite": 400e6, "postgresql": 60e6, "mariadb": 20e6, "mysql": 20e6}
_CLONE_RATES = {"postgresql": 1_500e6, "mariadb": 400e6}
_LEAST_S, _TELLING_BYTES = 1.0, 16 * 1024**2
_MEMORY_NAME = "rates.json"


def way_back(site: Site, facts: DatabaseFacts) -> WayBack:
    """How a database will go back. Raises AnswerNo where the site file requires a clone and there can be none."""
    spec, database = site.database_spec(facts.name), site.databases()[facts.name]
    load_s = facts.size_bytes / _remembered(site).get(facts.kind, _LOAD_RATES.get(facts.kind, 50e6))
    clone_s = facts.size_bytes / _CLONE_RATES.get(facts.kind, 400e6)
    why = "the site file switches it off" if spec.clone == "off" else database.why_no_clone()
    if why and spec.clone == "required":
        text = f"there can be no quick clone of the database `{facts.name}`: {why}"
        raise AnswerNo(Problem("no-clone", text, f'mend that, or write clone = "wanted" for `{facts.name}`'))
    return WayBack(facts.name, not why, max(_LEAST_S, load_s), max(_LEAST_S, clone_s), why)


def _remembered(site: Site) -> dict[str, float]:
    with contextlib.suppress(OSError, ValueError):
        return {kind: float(rate) for kind, rate in json.loads((site.state.memory / _MEMORY_NAME).read_bytes()).items()}
    return {}


def remember_rate(site: Site, kind: str, size_bytes: int, took_s: float) -> None:
    """Remember how fast this machine loads a dump; small databases tell nothing."""
    if size_bytes > _TELLING_BYTES and took_s > 0:
        with contextlib.suppress(OSError):
            rates = {**_remembered(site), kind: size_bytes / took_s}
            write_memo(site.state.memory / _MEMORY_NAME, json.dumps(rates).encode())


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
        return {"cloned": False, "summary": f"none ({why}); the dump is there"}


def put_back(run: Run, backup: Backup, name: str) -> Facts:
    """Make one database what it was: by its clone where there is one, from the backup otherwise."""
    copy, database = backup.database(name), run.site.databases()[name]
    if was_cloned(run.standing(), name):
        with contextlib.suppress(LadderError, OSError):
            if database.has_clone(run.plan.clone_place(name)):
                database.return_to_clone(run.plan.clone_place(name), copy.details)
                return {"way": "clone", "summary": "from the quick clone"}
    started = time.monotonic()
    load(backup, name, database)
    remember_rate(run.site, copy.engine, database.size_bytes(), time.monotonic() - started)
    return {"way": "backup", "bytes": copy.size_bytes}


def load(backup: Backup, name: str, database: Database) -> None:
    """Make one database what the backup holds."""
    copy = backup.database(name)
    database.restore_from(backup.path / copy.file, copy.details)


def was_cloned(standing: Standing, name: str) -> bool:
    """Whether the journal says that a clone of a database is whole."""
    return bool(standing.up.get(f"clone:{name}", {}).get("cloned"))


def clone_bytes(standing: Standing) -> int:
    """What clones take."""
    return sum(
        int(facts["bytes"]) for step, facts in standing.up.items() if step.startswith("clone:") and "bytes" in facts
    )


def drop_clones(plan: Plan) -> None:
    """Remove every clone of a climb; one of a server that cannot be reached stays."""
    for way in plan.ways_back:
        if way.clone:
            with contextlib.suppress(LadderError):
                plan.site.databases()[way.database].drop_clone(plan.clone_place(way.database))
