"""Looks ahead of a climb: survey, route and every check. Nothing of the site is changed."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TypeVar

from yellow_ladder.checks import Circumstances, Finding, Level, Past, run_checks
from yellow_ladder.checks.records import OthersClimb
from yellow_ladder.checks.releases import fetching
from yellow_ladder.climb.planning.recorded import CLIMB_RECORDS
from yellow_ladder.climb.record.catalog import Climb, climbs_of_others, list_climbs, open_climb
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.events import Listener, silent
from yellow_ladder.release.index import bring_here
from yellow_ladder.release.source import Releases
from yellow_ladder.release.versions import Version
from yellow_ladder.route import Machine, Route, Rung, Thing, Wishes, find_route
from yellow_ladder.settings.choices import Choices, read_choices
from yellow_ladder.settings.forecast import Forecast
from yellow_ladder.settings.shipped import Ahead, Installed, forecast_of
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Depth, Survey, take_survey
from yellow_ladder.survey.machine import fitting_runtime, machine_of, surveyed_machine
from yellow_ladder.survey.probes import ask_programs, each_asked_once, packages_of, parts_on_disk, version_on_disk
from yellow_ladder.survey.records import ProbeAnswer
from yellow_ladder.survey.saved import SAVED_RECORDS

T = TypeVar("T")
RECORDS = (CLIMB_RECORDS, SAVED_RECORDS)
USUAL_DEPTH = Depth(records=RECORDS)


@dataclass(frozen=True, slots=True)
class Prospect:
    """What is known before anything is prepared: the site, the way, and every check's answer."""

    site: Site
    survey: Survey
    releases: Releases
    way: Route | None
    findings: tuple[Finding, ...]
    wishes: Wishes
    refusals: tuple[LadderError, ...] = ()
    forecast: Forecast | None = None

    @property
    def settings(self) -> Forecast:
        """What becomes of the settings, where that could be foreseen."""
        if self.forecast is None:
            raise AnswerNo(Problem("settings-unread", "the settings could not be read", "see yl settings"))
        return self.forecast

    @property
    def route(self) -> Route:
        """The way, where one was found."""
        if self.way is None:
            raise AnswerNo(Problem("no-route", "there is no route", "see yl route"))
        return self.way

    @property
    def stops(self) -> list[Finding]:
        """Answers that keep the climb from beginning."""
        return [finding for finding in self.findings if finding.level is Level.STOP]


def with_channel(site: Site, wishes: Wishes | None) -> Wishes:
    """Wishes, with what the site file allows always."""
    wishes = wishes or Wishes()
    return replace(wishes, previews=True) if site.record.releases.channel == "preview" else wishes


@each_asked_once()
def look_ahead(
    site: Site,
    target: Version | None,
    now: datetime,
    wishes: Wishes | None = None,
    depth: Depth = USUAL_DEPTH,
    tell: Listener = silent,
) -> Prospect:
    """Survey, route and checks, all findings together: what cannot be read or found is a finding too.

    Packages of a source on the network are fetched, and `tell` hears how far that is.
    """
    wishes = with_channel(site, wishes)
    refusals: list[LadderError] = []
    releases = _gathered(site.read_releases, refusals) or Releases(site.source, ())
    present = version_on_disk(site)
    installed = releases.of(present) if present else None
    if installed is not None:
        # Without it the survey holds the files against a record, or says that it knows nothing of them.
        with contextlib.suppress(LadderError, OSError):
            bring_here(installed, fetching(installed, tell))
    survey = take_survey(site, releases, depth)
    way = None
    if present is not None and releases.found:
        machine = surveyed_machine(survey)
        way = _gathered(lambda: find_route(present, target, releases.found, wishes, machine), refusals)
    troubles = tuple(problem for refusal in refusals for problem in refusal.problems)
    for rung in way.leg if way is not None else ():
        # What a release ships of the settings is in its package; one that cannot be had is told by a check.
        with contextlib.suppress(LadderError, OSError):
            bring_here(rung.release, fetching(rung.release, tell))
    base = Installed(str(present), installed) if present else None
    runtimes = _Runtimes(surveyed_machine(survey), survey.runtimes)
    forecast, unread = _foreseen(site, base, way, runtimes)
    past = _past(site, survey.version)
    at = Circumstances(site, survey, releases, way, now, past, wishes, troubles, tell, forecast, unread)
    return Prospect(site, survey, releases, way, tuple(run_checks(at)), wishes, tuple(refusals), forecast)


@dataclass(frozen=True, slots=True)
class _Runtimes:
    """What releases will run with: the machine's runtime, or of those that the site file names the one that fits."""

    machine: Machine
    named: Sequence[tuple[str, str]]

    def ahead(self, rung: Rung) -> Ahead:
        """A rung's release with the version of its runtime."""
        version = self.machine.versions.get(Thing("runtime"), "")
        if self.named:
            version = dict(self.named).get(fitting_runtime(rung.release.sheet.needs.runtime, self.named), "")
        return Ahead(str(rung.to_version), rung.release, version)


def _foreseen(
    site: Site, installed: Installed | None, way: Route | None, runtimes: _Runtimes
) -> tuple[Forecast | None, tuple[Problem, ...]]:
    """What becomes of the settings, or why that cannot be told."""
    steps = [runtimes.ahead(rung) for rung in way.leg] if way is not None else []
    try:
        return forecast_of(site, installed, steps, read_choices(site.file.parent)), ()
    except LadderError as fault:
        return None, tuple(fault.problems)
    except OSError as fault:
        return None, (_settings_gone(fault),)


def _settings_gone(fault: OSError) -> Problem:
    text = f"the settings file {fault.filename} cannot be read: {fault.strerror}"
    return Problem("settings-gone", text, "correct keep.settings in the site file", str(fault.filename))


@each_asked_once()
def look_at_route(site: Site, target: Version | None, wishes: Wishes | None = None) -> tuple[Route, Releases]:
    """The route alone, without looking at files or rows. Raises BadInput or AnswerNo where there is no way."""
    releases = site.read_releases()
    present = version_on_disk(site)
    if present is None:
        raise no_version(site)
    machine = _machine_alone(site, ask_programs(site))
    return find_route(present, target, releases.found, with_channel(site, wishes), machine), releases


@each_asked_once()
def look_at_settings(site: Site, target: Version | None, wishes: Wishes, choices: Choices) -> tuple[Route, Forecast]:
    """What becomes of the settings on the way up to the first landing. Raises BadInput or AnswerNo."""
    releases = site.read_releases()
    present = version_on_disk(site)
    if present is None:
        raise no_version(site)
    programs = ask_programs(site)
    machine = _machine_alone(site, programs)
    route = find_route(present, target, releases.found, with_channel(site, wishes), machine)
    installed = releases.of(route.present)
    for one in (installed, *(rung.release for rung in route.leg)):
        if one is not None:
            bring_here(one)
    base = Installed(str(route.present), installed)
    runtimes = _Runtimes(machine, [(one.part, one.says) for one in programs if one.of == "runtimes"])
    try:
        return route, forecast_of(site, base, [runtimes.ahead(rung) for rung in route.leg], choices)
    except OSError as fault:
        raise AnswerNo(_settings_gone(fault)) from fault


def _machine_alone(site: Site, programs: Sequence[ProbeAnswer]) -> Machine:
    """What the machine has, as far as a route asks for it."""
    packages = {}
    with contextlib.suppress(LadderError):
        packages = dict(packages_of(site))
    kinds = []
    for database in site.databases().values():
        with contextlib.suppress(LadderError):
            traits = database.traits()
            kinds.append((traits.engine, traits.version))
    return machine_of(programs, parts_on_disk(site), packages, kinds)


def no_version(site: Site) -> AnswerNo:
    """The error of a site whose version nobody can tell."""
    text = "the version on disk cannot be read: no probe of the files gives a version that it is valid for"
    return AnswerNo(Problem("no-version", text, "see `yl survey`, and correct [[versions]]", str(site.file)))


def refuse_if_stopped(prospect: Prospect) -> None:
    """Raise what keeps a climb from beginning: what could not be read or found, or AnswerNo with every check."""
    if prospect.refusals:
        raise prospect.refusals[0]
    if prospect.survey.version is None:
        raise no_version(prospect.site)
    if prospect.stops:
        raise AnswerNo([Problem("check-stops", f"{f.check}: {f.saw}", f.remedy) for f in prospect.stops])


def _gathered(ask: Callable[[], T], refusals: list[LadderError]) -> T | None:
    try:
        return ask()
    except (BadInput, AnswerNo) as fault:
        refusals.append(fault)
        return None


def _past(site: Site, version: Version | None) -> Past:
    """What earlier climbs left; where that cannot be read, a finding says so."""
    try:
        unfinished, climbs, others = open_climb(site), list_climbs(site), climbs_of_others(site)
    except LadderError as fault:
        return Past(trouble=fault.problems[0].message)
    except OSError as fault:
        return Past(trouble=f"{fault.strerror}: {fault.filename}")
    came_here = None
    for climb in climbs:
        if climb.standing.state in (ClimbState.CLIMBED, ClimbState.SETTLED) and str(version) == climb.plan.to_version:
            came_here = climb.standing.ended_at
    return Past(unfinished.name if unfinished else "", came_here, others=tuple(map(_of_another_site, others)))


def _of_another_site(climb: Climb) -> OthersClimb:
    theirs = climb.plan.site
    return OthersClimb(
        climb.name, theirs.root, climb.plan.site_file, theirs.state.path, is_open=climb.standing.state.is_open
    )
