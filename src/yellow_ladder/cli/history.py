"""`yl history`."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.climb.record.catalog import climbs_of_others, list_climbs, records_of
from yellow_ladder.report.climbs import history_page


@click.command("history", cls=LadderCommand)
@click.option("--steps", is_flag=True, help="How long each step took.")
@click.pass_obj
def command(choices: Choices, steps: bool) -> None:
    """Show past climbs, how long they took and how they ended."""
    site = choices.site(under_way=True)
    climbs = [(climb, records_of(climb.plan)) for climb in list_climbs(site)]
    theirs = Counter(one.plan.site_file for one in climbs_of_others(site))
    result = [
        {
            "climb": climb.name,
            "from": climb.plan.from_version,
            "to": climb.plan.to_version,
            "state": climb.standing.outcome,
            "why": climb.standing.why,
            "records": [asdict(record) for record in records],
        }
        for climb, records in climbs
    ]
    emit("history", choices, result, history_page(climbs, theirs, steps=steps or choices.verbose))
