"""`yl check`."""

from __future__ import annotations

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit, to_option, wish_options
from yellow_ladder.climb.conduct import refuse_if_open
from yellow_ladder.climb.prepare import look_ahead
from yellow_ladder.release.versions import Version
from yellow_ladder.report.surveys import check_page
from yellow_ladder.route import Wishes


@click.command("check", cls=LadderCommand)
@to_option
@wish_options
@click.pass_obj
def command(choices: Choices, target: Version | None, preview: bool, withdrawn: bool) -> None:
    """Ask every check in one pass. Reads, and changes nothing; ends with 1 when anything stops a climb."""
    site = choices.site()
    refuse_if_open(site)
    prospect = look_ahead(site, target, Wishes(preview, withdrawn))
    result = {
        "to": str(prospect.route.target),
        "stops": len(prospect.stops),
        "findings": [finding.as_record() for finding in prospect.findings],
    }
    page = check_page(prospect.findings, str(prospect.route.target))
    emit("check", choices, result, page, exit_code=1 if prospect.stops else 0)
