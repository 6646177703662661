"""`yl settle`."""

from __future__ import annotations

import sys

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.climb.catalog import find_climb
from yellow_ladder.climb.conduct import Conditions, settle
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.climbs import settled_page


@click.command("settle", cls=LadderCommand)
@click.argument("name", metavar="[CLIMB]", required=False)
@click.option("--yes", is_flag=True, help="Agree beforehand.")
@click.option("--drop-backup", is_flag=True, help="Let the climb's backup go too.")
@click.pass_obj
def command(choices: Choices, name: str | None, yes: bool, drop_backup: bool) -> None:
    """Accept a climb: after this it cannot be taken back by `yl descend`. The backup is kept unless told otherwise."""
    site = choices.site()
    with site.state.locked("settle"):
        climb = find_climb(site, name)
        _agree(choices, climb.name, yes=yes)
        settled = settle(climb, Conditions(), drop_backup=drop_backup)
    emit("settle", choices, settled.as_record(), settled_page(settled))


def _agree(choices: Choices, name: str, *, yes: bool) -> None:
    if yes:
        return
    if choices.as_json or not sys.stdin.isatty():
        text = "accepting needs somebody's agreement, and there is no terminal to ask at"
        raise BadInput(Problem("not-agreed", text, "say --yes"))
    if not click.confirm(f"Accept {name}, so that it can no longer be taken back?", err=True):
        raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", ""))
