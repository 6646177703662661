"""`yl settle`."""

from __future__ import annotations

import click

from yellow_ladder.cli.base import Choices, LadderCommand, agree, emit
from yellow_ladder.climb.conduct import Conditions, settle, what_settling_frees
from yellow_ladder.climb.due import due_climbs, what_speaks_against
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.climbs import settled_page
from yellow_ladder.words import bytes_in_words


@click.command("settle", cls=LadderCommand)
@click.argument("name", metavar="[CLIMB]", required=False)
@click.option("--yes", is_flag=True, help="Agree beforehand.")
@click.option("--drop-backup", is_flag=True, help="Remove the climb's backup too.")
@click.option("--due", is_flag=True, help="All that are old enough by settle.after_days, if all is well with them.")
@click.pass_obj
def command(choices: Choices, name: str | None, yes: bool, drop_backup: bool, due: bool) -> None:
    """Accept a climb for good: `yl descend` cannot go back from it any more. Its backup stays unless told otherwise."""
    site = choices.site()
    if due and (name or drop_backup):
        raise BadInput(Problem("usage", "--due chooses by itself and keeps backups", "use --due alone"))
    with site.state.locked("settle"):
        climbs = due_climbs(site, utc_now()) if due else [find_climb(site, name)]
        against = {climb.name: what_speaks_against(climb.plan) for climb in climbs} if due else {}
        if not (yes or due):
            freed = bytes_in_words(what_settling_frees(climbs[0], drop_backup=drop_backup))
            question = f"Settle {climbs[0].name}? Going back from it will not be possible any more. That frees {freed}."
            agree(choices, question, "settling")
        settled = [settle(one, Conditions(), drop_backup=drop_backup) for one in climbs if not against.get(one.name)]
    problems = [
        Problem("not-settled", f"{climb}: {why}", "see yl verify") for climb, whys in against.items() for why in whys
    ]
    if problems:
        raise AnswerNo(problems)
    result = [one.as_record() for one in settled] if due else settled[0].as_record()
    emit("settle", choices, result, settled_page(settled))
