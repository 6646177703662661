"""`yl survey`."""

from __future__ import annotations

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.errors import BadInput
from yellow_ladder.release.source import Releases, read_source
from yellow_ladder.report.surveys import survey_page
from yellow_ladder.site.site import Site
from yellow_ladder.survey import take_survey


@click.command("survey", cls=LadderCommand)
@click.option("--detail", is_flag=True, help="The paths behind the counts.")
@click.pass_obj
def command(choices: Choices, detail: bool) -> None:
    """Show what is installed and what differs from its release. Reads, and changes nothing."""
    site = choices.site()
    survey = take_survey(site, _releases(site))
    emit("survey", choices, survey.as_record(), survey_page(survey, detail=detail or choices.verbose))


def _releases(site: Site) -> Releases | None:
    """The release source, where it can be read: a survey does without."""
    try:
        return read_source(site.source, site.record.product)
    except BadInput:
        return None
