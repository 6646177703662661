"""Starts and stops services, on the way up and on the way back."""

from __future__ import annotations

import contextlib

from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.patience import WhileItStarts
from yellow_ladder.database.clusters import server_processes
from yellow_ladder.errors import LadderError
from yellow_ladder.services import services_of
from yellow_ladder.services.rest import wait_for_rest
from yellow_ladder.site.service_records import CronRecord
from yellow_ladder.words import some_of


def stop_service(name: str) -> Work:
    """The work of stopping one service."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).stop()
        return {}

    return do


_REST_WITHIN_S = 5.0


def come_to_rest(run: Run) -> Facts:
    """See that nothing of the site is at work, whatever stop commands said; and keep others out of its databases."""
    site = run.site
    held = [spec.name for spec in site.record.services if spec.holds]
    apart = [pid for one in services_of(site) if one.name in held for pid in one.about().pids]
    apart += [pid for spec in site.record.servers for pid in server_processes(site.root / spec.data_folder)]
    # What a timetable has started is stopped by nobody: it comes to its own end.
    jobs_s = [spec.stop_within_s for spec in site.record.services if isinstance(spec, CronRecord)]
    wait_for_rest(site, max([_REST_WITHIN_S, *jobs_s]), apart)
    others = []
    for name, database in site.databases().items():
        with contextlib.suppress(LadderError):  # what it needs of the database, the next step will say
            others += [f"{one.who} on {name}" for one in database.sessions()]
            database.keep_others_out()
    return {"summary": f"others are connected: {some_of(others, 3)}", "connected": others} if others else {}


def let_in(run: Run) -> Facts:
    """Let others into the databases again; may be repeated."""
    for database in run.site.databases().values():
        database.let_others_in()
    return {}


def start_service(name: str) -> Work:
    """The work of starting one service and waiting until it is ready."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).start(WhileItStarts(run))
        return {}

    return do
