"""`yl route`."""

from __future__ import annotations

from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit, to_option, wish_options
from yellow_ladder.climb.planning.prospect import look_at_route
from yellow_ladder.release.versions import Version
from yellow_ladder.report.routes import route_page
from yellow_ladder.route import Route, Wishes, order_of
from yellow_ladder.site.site import Site


@click.command("route", cls=LadderCommand)
@to_option
@wish_options
@click.option("--all", "show_all", is_flag=True, help="Also the releases that the route passes over, and why.")
@click.pass_obj
def command(choices: Choices, /, target: Version | None, show_all: bool, **wishes: bool) -> None:
    """Show the rungs (releases) from the present version to another, and why each is there."""
    site = choices.site()
    route, releases = look_at_route(site, target, Wishes(**wishes))
    record = route_record(route, site)
    record["problems_of_source"] = [problem.as_record() for problem in releases.problems]
    emit("route", choices, record, route_page(route, record["rungs"], releases.problems, show_all=show_all))


def route_record(route: Route, site: Site) -> dict[str, Any]:
    """A route as JSON."""
    rungs = []
    for rung in route.rungs:
        sheet = rung.release.sheet
        order = order_of(sheet, rung.from_version, site.record.role, site.record.replicas)
        rungs.append({
            "from": str(rung.from_version),
            "to": str(rung.to_version),
            "schema": sheet.release.schema_version,
            "why": rung.why,
            "severity": sheet.release.severity,
            "archive": rung.release.url or str(rung.release.archive),
            "migrations": [migration.id for migration in sheet.migrations],
            "needs": sheet.needs.model_dump(mode="json", exclude_defaults=True),
            "parts": sheet.release.parts,
            "order": list(order),
            "notes": sheet.notes.model_dump(),
        })  # fmt: skip
    landings = [
        {"after": one.rungs, "at": str(one.version), "do": list(one.instructions)}
        for one in route.landings
        if one.rungs
    ]
    before = route.before_begin
    return {
        "from": str(route.present),
        "to": str(route.target),
        "rungs": rungs,
        "landings": landings,
        "before": list(before.instructions) if before else [],
        "passed_over": [{"version": str(one.version), "why": one.why} for one in route.passed_over],
        "gained": [_fix(one) for one in route.gained],
        "still_missing": [_fix(one) for one in route.still_missing],
    }


def _fix(fix: Any) -> dict[str, str]:
    return {"version": str(fix.version), "severity": fix.severity, "text": fix.text}
