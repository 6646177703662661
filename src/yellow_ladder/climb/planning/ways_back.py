"""Ways back for a database: the dump, and a quick clone that makes the same return quicker."""

from __future__ import annotations

import contextlib
import json

from yellow_ladder.climb.record.plan import WayBack
from yellow_ladder.durable import write_memo
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.site.site import Site
from yellow_ladder.survey.records import SurveyedDatabase

# Bytes of the database a second, as seen on a small machine; what this machine does is remembered and taken instead.
_LOAD_RATES = {"sqlite": 400e6, "postgresql": 60e6, "mariadb": 20e6, "mysql": 20e6}
_CLONE_RATES = {"postgresql": 1_500e6, "mariadb": 400e6}
# Making a table takes its time however few rows it has: a server that keeps each in a file of its own syncs it.
_TABLE_S = {"postgresql": 0.005, "mariadb": 0.06, "mysql": 0.06}
# Taken as a file, it is made, thrown out and taken in, and each of these is synced too.
_TAKEN_IN_S = {"mariadb": 0.12, "mysql": 0.12}
_WORTH_S = 5.0  # below that, nobody waits longer for the one than for the other
# Connecting and starting programs takes this long on its own; a load of less says nothing about a rate.
_LEAST_S, _TELLING_BYTES = 1.0, 16 * 1024**2
_MEMORY_NAME = "rates.json"


def way_back(site: Site, facts: SurveyedDatabase, set_aside: str = "") -> WayBack:
    """How a database will go back; `set_aside` is the data folder of its server, where that comes back as a whole.

    Raises AnswerNo where the site file requires a clone and there can be none.
    """
    spec, database = site.database_spec(facts.name), site.databases()[facts.name]
    load_s = facts.size_bytes / _remembered(site).get(facts.kind, _LOAD_RATES.get(facts.kind, 50e6))
    clone_s = facts.size_bytes / _CLONE_RATES.get(facts.kind, 400e6)
    clone_s += len(facts.tables) * _TAKEN_IN_S.get(facts.kind, 0)  # on PostgreSQL, a clone is copied as one
    load_s += len(facts.tables) * _TABLE_S.get(facts.kind, 0)
    if set_aside:  # and a clone in it would go along to where it is made anew
        return WayBack(facts.name, False, load_s, 0.0, set_aside=set_aside)
    why = "the site file switches it off" if spec.clone == "off" else database.why_no_clone()
    if not why and spec.clone == "wanted" and clone_s > max(load_s, _WORTH_S):
        why = "with so many small tables, loading the backup takes no longer"
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
            write_memo(site.state.memory / _MEMORY_NAME, [json.dumps(rates).encode()])
