"""Climbs as they lie in the state folder."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.climb.record.adjusting import adjusted
from yellow_ladder.climb.record.journal import JOURNAL_NAME, Journal, JournalRecord
from yellow_ladder.climb.record.plan import PLAN_NAME, Plan, read_plan
from yellow_ladder.climb.record.standing import ClimbState, Standing, fold
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.site.site import Site


@dataclass(frozen=True, slots=True)
class Climb:
    """A climb on disk: its plan and how far it is."""

    plan: Plan
    standing: Standing

    @property
    def name(self) -> str:
        """Its id."""
        return self.plan.climb


def list_climbs(site: Site) -> list[Climb]:
    """All climbs of a site with a frozen plan, oldest first. Raises BadInput when a journal was altered.

    What a plan says holds for the folders that it names. In a copy of a site lie plans of the one that was copied, and
    they would be carried out there: these are no climbs of the copy.
    """
    return [one for one in _all_climbs(site) if _is_of(site, one.plan)]


def climbs_of_others(site: Site) -> list[Climb]:
    """Climbs in the state folder that are another site's: they were copied or moved here, or it shares the folder."""
    return [one for one in _all_climbs(site) if not _is_of(site, one.plan)]


def _all_climbs(site: Site) -> list[Climb]:
    folder = site.state.climbs
    if not folder.is_dir():
        return []
    return [load_climb(path) for path in sorted(folder.iterdir()) if (path / PLAN_NAME).is_file()]


def _is_of(site: Site, plan: Plan) -> bool:
    there, here = plan.site.root, site.root
    try:
        return there == here or there.samefile(here)
    except OSError:  # one of them is not there, or not just now
        return False


def load_climb(folder: Path) -> Climb:
    """Read one climb."""
    plan = read_plan(folder)
    records = Journal(folder / JOURNAL_NAME, plan.digest()).records
    return Climb(adjusted(plan, records), fold(records))


def find_climb(site: Site, name: str | None, states: Collection[ClimbState] = (ClimbState.CLIMBED,)) -> Climb:
    """The climb of a name; without one the newest in one of `states`, or the newest of all where none is.

    Raises BadInput where there is none.
    """
    climbs = list_climbs(site)
    if name is not None:
        climbs = [climb for climb in climbs if climb.name == name]
    if not climbs:
        for other in climbs_of_others(site):
            if name in (None, other.name):
                text = f"the climb {other.name} is of {other.plan.site.root}, and this site is {site.root}"
                remedy = f"name that one's site file: --site {other.plan.site_file}"
                if not Path(other.plan.site_file).exists():
                    remedy = (
                        f"it can only be carried out there: move the folder back, if {site.root} was moved from there"
                    )
                raise BadInput(Problem("climb-of-another-site", text, remedy, other.name))
        text = f"there is no climb {name}" if name else "no climb was made on this site"
        raise BadInput(Problem("no-climb", text, "see which there are with: yl history"))
    wanted = [climb for climb in climbs if climb.standing.state in states]
    return (wanted or climbs)[-1]


def records_of(plan: Plan) -> list[JournalRecord]:
    """The journal of a climb."""
    return Journal(plan.folder / JOURNAL_NAME, plan.digest()).records


def refuse_if_built_upon(site: Site, climb: Climb) -> None:
    """Raise AnswerNo when a later climb started from where this one ended: going back goes one climb at a time."""
    climbs = list_climbs(site)
    later = climbs[[one.name for one in climbs].index(climb.name) + 1 :]
    standing = [one for one in later if one.standing.state in (ClimbState.CLIMBED, ClimbState.SETTLED)]
    if standing and climb.standing.state is ClimbState.CLIMBED:
        newest = standing[-1]
        text = f"the climb {newest.name} came after {climb.name}"
        remedy = f"go back from that one first: yl descend {newest.name}"
        if newest.standing.state is ClimbState.SETTLED:
            remedy = "it is settled: only a backup can bring the site back to before it (yl backup list)"
        raise AnswerNo(Problem("built-upon", text, remedy))


def open_climb(site: Site) -> Climb | None:
    """The climb that is under way, if there is one."""
    return next((climb for climb in list_climbs(site) if climb.standing.state.is_open), None)


def resting_climb(site: Site) -> Climb | None:
    """The climb that brought the site to the landing where it rests now, if there is one."""
    standing = [one for one in list_climbs(site) if one.standing.state in (ClimbState.CLIMBED, ClimbState.SETTLED)]
    return standing[-1] if standing and standing[-1].plan.beyond else None


def refuse_if_open(site: Site) -> None:
    """Raise AnswerNo when a climb is under way."""
    climb = open_climb(site)
    if climb is not None:
        text = f"the climb {climb.name} is not finished ({climb.standing.outcome})"
        remedy = "go on with `yl climb --continue`, or go back with `yl descend`"
        raise AnswerNo(Problem("climb-unfinished", text, remedy))


def needed_backups(site: Site) -> set[str]:
    """Names of backups that a climb still needs for going back, whosever it is: it is under way, or not settled yet."""
    climbs = [
        one for one in _all_climbs(site) if one.standing.state.is_open or one.standing.state is ClimbState.CLIMBED
    ]
    return {one.plan.backup_name for one in climbs}


def sweep_unfrozen(site: Site) -> None:
    """Remove what a kill left of a preparation that never became a plan."""
    for path in site.state.climbs.iterdir() if site.state.climbs.is_dir() else []:
        if path.is_dir() and not (path / PLAN_NAME).is_file():
            remove_entry(site.root.with_name(f".{site.root.name}.{path.name}"))
            remove_entry(path)
