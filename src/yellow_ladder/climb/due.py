"""Climbs that are settled without being asked: days have passed, the proof was whole, and all is still well."""

from __future__ import annotations

from datetime import datetime, timedelta

from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.proving.inventory import ask_probes
from yellow_ladder.climb.proving.living import Moment, ask_again
from yellow_ladder.climb.proving.proof import load_proof, version_faults
from yellow_ladder.climb.record.catalog import Climb, list_climbs
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import LadderError
from yellow_ladder.services import ServiceState, services_of
from yellow_ladder.site.site import Site


def due_climbs(site: Site, now: datetime) -> list[Climb]:
    """Climbs that are due to be settled, by the site file; none where it names no days."""
    days = site.record.settle.after_days
    if not days:
        return []
    standing = [one for one in list_climbs(site) if one.standing.state is ClimbState.CLIMBED and one.standing.ended_at]
    return [one for one in standing if now - (one.standing.ended_at or now) >= timedelta(days=days)]


def what_speaks_against(plan: Plan) -> list[str]:
    """Why a climb should not be settled without being asked: proof, versions, services, databases, own questions.

    What users have written since is no reason, so that rows are not compared again.
    """
    site = site_after(plan)
    found = []
    try:
        if not load_proof(plan).is_whole:
            found.append("its proof was not whole")
        running = {one.name: one.state() for one in services_of(site)}
        found += [
            f"the service {name} does not run" for name in plan.running if running.get(name) is not ServiceState.RUNNING
        ]
        for name, database in site.databases().items():
            try:
                database.probe()
            except LadderError as fault:
                found.append(f"the database {name}: {fault.problems[0].message}")
        served = plan.serves
        found += version_faults(plan, ask_probes(site, served=served))
        found += ask_again(plan, served=served, moment=Moment.LATER).faults
    except LadderError as fault:
        found.append(fault.problems[0].message)
    return found
