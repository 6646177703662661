"""`yl survey`."""

from __future__ import annotations

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.climb.planning.prospect import RECORDS
from yellow_ladder.climb.record.catalog import list_climbs, open_climb
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import BadInput, LadderError
from yellow_ladder.release.source import Releases
from yellow_ladder.report.surveys import changes_page, saved_line, survey_page
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Depth, Survey, take_survey
from yellow_ladder.survey.drift.edits import Edit, read_edits
from yellow_ladder.survey.saved import Snapshot, compare, keep_snapshot, load_snapshot, snapshot_of


@click.command("survey", cls=LadderCommand)
@click.option("--detail", is_flag=True, help="The paths behind the counts, and edits line by line.")
@click.option("--thorough", is_flag=True, help="Read every file again, and check every constraint.")
@click.option("--save", "save_as", metavar="NAME", help="Keep what is seen under a name.")
@click.option("--against", metavar="NAME|CLIMB", help="Show what changed since a kept survey, or since before a climb.")
@click.pass_obj
def command(choices: Choices, /, detail: bool, thorough: bool, save_as: str | None, against: str | None) -> None:
    """Show what is installed and what differs from its release. Reads, and changes nothing."""
    site = choices.site()
    before = _snapshot(site, against) if against else None
    releases, trouble = _releases(site)
    survey = take_survey(site, releases, Depth(read_files=thorough, check_constraints=thorough, records=RECORDS))
    detail = detail or choices.verbose
    now = snapshot_of(site, survey, save_as or "now", utc_now()) if save_as or before else None
    if save_as and now:
        keep_snapshot(site, now)
    if before and now:
        changes = compare(before, now)
        emit("survey", choices, {"changes": changes.as_record()}, changes_page(changes, detail=detail))
        return
    edits = _edits(site, survey, releases) if detail else []
    result = {**survey.as_record(), "edits": [{"path": e.path, "lines": e.lines, "trouble": e.trouble} for e in edits]}
    busy = site.state.is_busy()
    if busy:
        trouble = [f"{busy} is at work on this site: what is seen here may change", *trouble]
    unfinished = ""
    try:
        unfinished = "" if busy else _unfinished(site)
    except LadderError as fault:  # there is no going on with what cannot be read
        trouble = [f"what earlier climbs left cannot be read: {fault.problems[0].message}", *trouble]
    result |= {"findings": [*trouble, *result["findings"]], "unfinished": unfinished}
    page = survey_page(survey, trouble, edits, detail=detail, unfinished=unfinished)
    if save_as:
        page.add(saved_line(save_as))
    emit("survey", choices, result, page)


def _unfinished(site: Site) -> str:
    """What is to be said first where a climb was cut off."""
    climb = open_climb(site)
    return f"the climb {climb.name} is not finished ({climb.standing.outcome})" if climb is not None else ""


def _snapshot(site: Site, name: str) -> Snapshot:
    climb = next((one for one in list_climbs(site) if one.name == name), None)
    if climb is None:
        return load_snapshot(site, name)
    from yellow_ladder.climb.proving.snapshots import snapshot_before  # numerics that only this needs

    return snapshot_before(climb)


def _edits(site: Site, survey: Survey, releases: Releases | None) -> list[Edit]:
    release = releases.of(survey.version) if releases and survey.version else None
    if release is None or not survey.files.release_known:
        return []
    try:
        return read_edits(site.root, release, survey.files.edited, site.release_path)
    except LadderError as fault:
        return [Edit(release.archive.name, trouble=fault.problems[0].message)]


def _releases(site: Site) -> tuple[Releases | None, list[str]]:
    """The release source, where it can be read: a survey does without, and says so."""
    try:
        releases = site.read_releases()
        return releases, [problem.placed for problem in releases.problems]
    except BadInput as fault:
        return None, [problem.placed for problem in fault.problems]
