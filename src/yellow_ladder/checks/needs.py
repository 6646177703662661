"""Checks of what releases on the route need: runtime, server, tools, parts, packages, licences, add-ons, people."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from datetime import timedelta

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import LadderError
from yellow_ladder.route import Landing, Route, Rung, Thing
from yellow_ladder.route.needs import needs_of
from yellow_ladder.survey.machine import surveyed_machine
from yellow_ladder.words import day_in_words

_PROBES = {
    "runtime": "add [runtime] with its version command to the site file",
    "tool": "add it to [[tools]] in the site file",
    "part": "add a [[versions]] with its `part` to the site file",
    "package": "add runtime.packages to the site file",
    "database": "see to the database",
}


def machine_meets(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Does what is installed meet what every rung up to the first landing needs?"""
    have = surveyed_machine(at.survey)
    before = route.before_begin
    for change in before.changes if before else ():
        seen = f"{change.label or change.thing} is at {change.have}"
        remedy = f"bring it to {change.wanted}"
        if not change.serves_both:
            remedy = f"stop the services, {remedy}: no version serves {route.present} and the next release"
        else:
            remedy += f", which {route.present} runs on as well; then check again"
        yield stop("machine", seen, remedy, f"{change.wanted} on the way to {route.target}")
    changed = {change.thing for change in before.changes} if before else set()
    own_runtimes = bool(at.site.record.runtimes)  # every release is built with the one that it needs
    for thing, wants in _asked(route.rungs).items():
        if thing.kind == "runtime" and own_runtimes:
            continue
        version = have.versions.get(thing, "")
        if not version and thing.kind == "package" and at.survey.packages:
            yield stop("machine", f"{thing} is not installed", "install it", "; ".join(wants))
        elif not version and not (thing.kind == "database" and _other_engines(at, thing)):
            yield stop("machine", f"nothing tells the version of {thing}", _PROBES[thing.kind], "; ".join(wants))
    for thing, wants in _asked(route.leg).items():
        version = have.versions.get(thing, "")
        if version and thing not in changed:
            yield ok("machine", f"{thing} is at {version}; {'; '.join(wants)}")


def _asked(rungs: Sequence[Rung]) -> dict[Thing, list[str]]:
    """What is asked for on the way, and by which releases."""
    asked: dict[Thing, list[str]] = {}
    for rung in rungs:
        for thing, wanted in needs_of(rung.release.sheet).items():
            asked.setdefault(thing, []).append(f"{rung.to_version} needs {wanted}")
    return asked


def _other_engines(at: Circumstances, thing: Thing) -> bool:
    """Whether the site runs on other engines only, so that a need of this one does not concern it."""
    return all(surveyed.kind not in ("", thing.name) for surveyed in at.survey.databases)


def landings_ahead(_at: Circumstances, route: Route) -> Iterator[Finding]:
    """Will the climb have to stop on the way?"""
    for landing in route.landings:
        if landing.rungs:
            seen = f"the climb lands at {landing.version}: {'; '.join(landing.instructions)}"
            yield warn("landings", seen, f"plan it in: after that, `yl climb --continue` goes on to {route.target}")
    if not route.landing:
        yield ok("landings", "the climb goes through without a landing")


def rest_and_people(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Has the present release been used for as long as it should be, and is people's work done?"""
    landing = route.before_begin
    if landing is None or at.wishes.no_wait:
        return
    if landing.rest_days:
        yield _rest(at, landing)
    people = route.rungs[0].release.sheet.needs.people
    if people:
        try:
            left = str(at.site.databases()[people.database].scalar(people.query))
        except (LadderError, KeyError) as fault:
            yield stop(
                "people", f"what is left to do cannot be counted: {fault}", "report it to the release's publisher"
            )
            return
        if left == "0":
            yield ok("people", f"done: {people.what}")
        else:
            yield stop("people", f"{left} left to do: {people.what}", "have it done, or insist with --no-wait", "0")


def _rest(at: Circumstances, landing: Landing) -> Finding:
    since, days = at.past.at_version_since, landing.rest_days
    needed = f"{days} days of use"
    if since is None:
        seen = f"{landing.version} should be used for {days} days, and there is no record since when it is"
        return warn("rest", seen, "see whether that is the case", needed)
    ready = since + timedelta(days=days)
    seen = f"{landing.version} is in use since {day_in_words(since)}"
    if at.now >= ready:
        return ok("rest", f"{seen}, {needed} are asked for")
    return stop("rest", seen, f"wait until {day_in_words(ready)}, or insist with --no-wait", needed)


def licences_there(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Where a release needs a licence, is there a file of one?"""
    files = at.site.record.keep.licences
    there = [file for file in files if os.path.lexists(at.site.root / file)]
    for rung in route.rungs:
        words = rung.release.sheet.needs.licence
        if words and not there:
            seen = f"{rung.to_version} needs a licence ({words}), and no licence file is here"
            yield stop("licence", seen, "put it into the site and name it under keep.licences")
        elif words:
            yield warn("licence", f"{rung.to_version} needs a licence: {words}", f"see that {there[0]} is that one")


def addons_fit(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Does every add-on that is carried across say that it works with where the climb ends?"""
    end = route.leg[-1].to_version
    fitting = 0
    for addon in at.survey.addons:
        if addon.origin == "bundled":
            continue
        label = f"{addon.path.rsplit('/', 1)[-1]} {addon.version}".strip()
        if addon.trouble:
            yield warn("add-ons", f"{label}: {addon.trouble}", "see what it is")
            continue
        fits = addon.fits(end)
        if fits:
            fitting += 1
        elif fits is None:
            yield warn("add-ons", f"{label} does not say what it works with", f"ask its maker about {end}")
        else:
            seen = f"{label} works with {addon.works_with}, the climb ends at {end}"
            newer_fits = addon.newer and (not addon.newer_works_with or end.is_in(addon.newer_works_with))
            remedy = 'remove it, or set addons.unfit = "carry" to take it along as it is'
            if newer_fits:
                remedy = f"after the climb install {addon.newer}, which fits; until then: {remedy}"
            yield (stop if at.site.record.addons.unfit == "stop" else warn)("add-ons", seen, remedy)
    if fitting:
        yield ok("add-ons", f"{fitting} add-ons of the site's own say that they work with {end}")
