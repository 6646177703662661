"""`yl route`."""

from __future__ import annotations

from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit, to_option
from yellow_ladder.climb.prepare import look_ahead
from yellow_ladder.release.versions import Version
from yellow_ladder.report.surveys import route_page
from yellow_ladder.route import Route


@click.command("route", cls=LadderCommand)
@to_option
@click.pass_obj
def command(choices: Choices, target: Version | None) -> None:
    """Show the rungs (releases) from the present version to another, and why each is there."""
    prospect = look_ahead(choices.site(), target, with_checks=False)
    emit("route", choices, route_record(prospect.route), route_page(prospect.route))


def route_record(route: Route) -> dict[str, Any]:
    """A route as JSON."""
    rungs = [
        {
            "from": str(rung.from_version),
            "to": str(rung.to_version),
            "schema": rung.release.sheet.release.schema_version,
            "why": rung.why,
            "archive": str(rung.release.archive),
            "migrations": [migration.id for migration in rung.release.sheet.migrations],
            "notes": rung.release.sheet.notes.model_dump(),
        }
        for rung in route.rungs
    ]
    return {"from": str(route.present), "to": str(route.target), "rungs": rungs}
