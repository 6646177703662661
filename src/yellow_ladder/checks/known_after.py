"""Checks of what will be known when the climb is done: a site file that asks nothing is told nothing."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, warn
from yellow_ladder.route import Route
from yellow_ladder.site.service_records import CronRecord
from yellow_ladder.words import some_of


def asked_whether_it_works(at: Circumstances) -> Iterator[Finding]:
    """Will anything ask the application for an answer, beside seeing that its processes run?"""
    record = at.site.record
    services = [spec for spec in record.services if not isinstance(spec, CronRecord) and not spec.holds]
    asked = [f"whether {spec.name} is ready" for spec in services if spec.ready is not None and spec.ready.url]
    asked += ["for its version" for probe in record.versions if probe.of == "served" and probe.url]
    asked += [one.name for one in record.checks if (one.url or one.command) and one.is_asked_after]
    if asked:
        yield ok("after the climb", f"it will be asked {some_of(asked, 3)}")
    elif services:
        seen = "nothing will ask the application for a page: one that fails at once for every user would pass"
        remedy = (
            'name a page that works: ready = { url = "http://…/" } in [[services]], or [[checks]] with url and when'
        )
        yield warn("after the climb", seen, remedy)


def schema_told(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Will anything tell whether the releases had to change the database, and have?"""
    record = at.site.record
    if not record.databases or any(probe.of == "schema" for probe in record.versions):
        return
    silent = [
        str(rung.to_version)
        for rung in route.leg
        if not rung.release.sheet.migrations and not rung.release.sheet.commands and not rung.release.sheet.contract
    ]
    if silent and not any(one.at.is_of_each_rung for one in record.commands):
        seen = f"nothing tells whether {some_of(silent, 3)} must change the database: no sheet names a migration"
        remedy = (
            'see what the vendor says, and name it: [[migrations]] in the sheet, and [[versions]] with of = "schema" '
            "here, a query whose answer it changes"
        )
        yield warn("schema", f"{seen}, and nothing here asks for its schema", remedy)
