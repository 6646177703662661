"""Database servers that belong to the site: stopped before a release takes its place, started from the new one.

While such a server changes, its databases can be asked nothing; once it is up again, others are kept out of them first.
"""

from __future__ import annotations

import contextlib

from yellow_ladder.climb.proving.inventory import BEFORE_NAME, fingerprint_all, read_inventory
from yellow_ladder.climb.proving.price import drop_scratch
from yellow_ladder.climb.proving.written import keep_whole
from yellow_ladder.climb.record.commands import is_set_aside
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.patience import WhileItStarts
from yellow_ladder.database import Database
from yellow_ladder.database.clusters import server_processes
from yellow_ladder.errors import LadderError
from yellow_ladder.events import Note
from yellow_ladder.services import services_of
from yellow_ladder.services.port import ServiceState
from yellow_ladder.services.rest import wait_for_rest
from yellow_ladder.site.service_records import AnyService
from yellow_ladder.site.site import Site
from yellow_ladder.words import some_of

_GONE_WITHIN_S = 20.0


def stop_server(name: str) -> Work:
    """The work of stopping a server of the site; nothing of the site may be at work any more then."""

    def do(run: Run) -> Facts:
        drop_scratch(run.plan)  # it must not go along, nor be looked for in a folder that it is not in
        next(one for one in services_of(run.site) if one.name == name).stop()
        # The servers of the site are stopped one after the other: the last one leaves nobody.
        others = [pid for one in services_of(run.site) if one.name != name for pid in one.about().pids]
        for spec in run.site.record.servers:
            others += server_processes(run.site.root / spec.data_folder) if spec.name != name else []
        wait_for_rest(run.site, _GONE_WITHIN_S, others)
        return {}

    return do


def stop_newer_server(name: str) -> Work:
    """The work of stopping a server when going back: whatever others have written to it is kept before."""
    stop = stop_server(name)

    def do(run: Run) -> Facts:
        kept = [one for one in held_by(run, name) if is_set_aside(run.plan, one) and _keep(run, one)]
        return {**stop(run), **({"summary": f"what {some_of(kept)} held is kept whole"} if kept else {})}

    return do


def _keep(run: Run, name: str) -> bool:
    """Keep a whole copy of a database, unless it is kept already or holds what it held before the climb."""
    standing = run.standing()
    if StepName(StepKind.BACK_KEEP_NEWER) in standing.down or StepName(StepKind.BEFORE) not in standing.up:
        return False
    try:
        run.site.databases()[name].traits()
    except LadderError:  # it does not run: nobody has written to it since it was looked at
        return False
    if is_as_before(run, name):
        return False
    keep_whole(run.plan, name)
    return True


def is_as_before(run: Run, name: str) -> bool:
    """Whether a database holds what was recorded before the climb; a start may have moved counters of numbers that
    were never used.
    """
    volatile = run.site.database_spec(name).volatile
    with contextlib.suppress(LadderError):
        before = read_inventory(run.plan, BEFORE_NAME).databases[name]
        there = fingerprint_all(run, {name: run.site.databases()[name]})[name]
        known, now = before.without(volatile), there.without(volatile)
        return (known.tables, known.objects) == (now.tables, now.objects)
    return False


def start_server(name: str) -> Work:
    """The work of starting a server of the site from the release in use, and of keeping others out of it."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).start(WhileItStarts(run))
        said = []
        for database in held_by(run, name).values():
            database.keep_others_out()
            said.append(f"{database.traits().engine} {database.traits().version}")
        return {"summary": said[0] if said else ""}

    return do


def held_by(run: Run, name: str) -> dict[str, Database]:
    """The databases of one server of the site, by name."""
    (spec,) = [one for one in run.site.record.servers if one.name == name]
    return {one: run.site.databases()[one] for one in spec.holds}


def start_what_should_run(run: Run) -> None:
    """Start the servers of the site that a power cut has ended, unless the climb is just changing them.

    Which that is, the journal says: between stopping a server and having started it, its step does what is needed.
    """
    standing = run.standing()
    for spec in run.site.record.servers:
        back_stop = StepName(StepKind.BACK_SERVER_STOP, spec.name)
        if back_stop in standing.down:
            changing = StepName(StepKind.BACK_SERVER_START, spec.name) not in standing.down
        else:
            stops = [one for one in standing.begun if (one.kind, _server_of(one)) == (StepKind.SERVER_STOP, spec.name)]
            starts = [one for one in standing.up if (one.kind, _server_of(one)) == (StepKind.SERVER_START, spec.name)]
            changing = len(stops) > len(starts)
        if changing:
            continue
        service = next(one for one in services_of(run.site) if one.name == spec.name)
        with contextlib.suppress(LadderError):  # what it needs of the server, the next step will say
            if service.state() is not ServiceState.RUNNING:
                run.listen(Note(f"the server `{spec.name}` does not run; it is started", is_warning=True))
                service.start(WhileItStarts(run))


def server_at(site: Site, folder: str) -> AnyService | None:
    """The server of the site that has a data folder, if one has."""
    return next((one for one in site.record.servers if one.data_folder == folder), None)


def step_of(server: str, rung: int) -> str:
    """What the step of a server at a rung is about."""
    return f"{rung}/{server}"


def _server_of(step: StepName) -> str:
    return step.of.partition("/")[2]
