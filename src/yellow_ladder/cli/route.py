"""`yl route`."""

from __future__ import annotations

from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit, to_option, wish_options
from yellow_ladder.climb.prepare import look_ahead
from yellow_ladder.release.versions import Version
from yellow_ladder.report.surveys import route_page
from yellow_ladder.route import Route, Wishes


@click.command("route", cls=LadderCommand)
@to_option
@wish_options
@click.option("--all", "show_all", is_flag=True, help="Also the releases that the route passes over, and why.")
@click.pass_obj
def command(choices: Choices, target: Version | None, preview: bool, withdrawn: bool, show_all: bool) -> None:
    """Show the rungs (releases) from the present version to another, and why each is there."""
    prospect = look_ahead(choices.site(), target, Wishes(preview, withdrawn), with_checks=False)
    emit("route", choices, route_record(prospect.route), route_page(prospect.route, show_all=show_all))


def route_record(route: Route) -> dict[str, Any]:
    """A route as JSON."""
    rungs = [
        {
            "from": str(rung.from_version),
            "to": str(rung.to_version),
            "schema": rung.release.sheet.release.schema_version,
            "why": rung.why,
            "severity": rung.release.sheet.release.severity,
            "archive": str(rung.release.archive),
            "migrations": [migration.id for migration in rung.release.sheet.migrations],
            "notes": rung.release.sheet.notes.model_dump(),
        }
        for rung in route.rungs
    ]
    over = [{"version": str(one.version), "why": one.why} for one in route.passed_over]
    return {"from": str(route.present), "to": str(route.target), "rungs": rungs, "passed_over": over}
