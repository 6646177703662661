"""`yl adjust`."""

from __future__ import annotations

import sys
from dataclasses import asdict

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console
from yellow_ladder.cli.ends import show_end
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.cli.signals import interruptible
from yellow_ladder.climb.conduct import Conditions, adjust, go_on
from yellow_ladder.climb.record.adjusting import proposed
from yellow_ladder.climb.record.catalog import load_climb, open_climb
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.decisions import changes_page


@click.command("adjust", cls=LadderCommand)
@click.option("--yes", is_flag=True, help="Agree to the changes beforehand.")
@click.pass_obj
def command(choices: Choices, /, yes: bool) -> None:
    """Take corrections of the site file into a climb that is under way, and go on with it.

    Only what does not alter the way of the data: services and their readiness, limits of time, volatile tables, where
    passwords are, questions of the site's own. Everything else stays as it was frozen.
    """
    site = choices.site(under_way=True)
    with site.state.locked("adjust"):
        climb = open_climb(site)
        if climb is None:
            text = "no climb is under way: the site file counts as it is"
            raise AnswerNo(Problem("nothing-to-adjust", text, "begin one with `yl climb`"))
        text, changes = proposed(climb.plan, climb.standing, site.text.decode())
        if not choices.as_json:
            console(choices).print(changes_page(changes))
        if not yes and (choices.as_json or not sys.stdin.isatty()):
            refusal = "an adjustment needs somebody's agreement, and there is no terminal to ask at"
            raise BadInput(Problem("not-agreed", refusal, "say --yes"))
        if not (yes or click.confirm(f"Go on with the climb {climb.name} like that?", err=True)):
            raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", "begin again with: yl adjust"))
        with interruptible() as is_interrupted, narrated(choices) as narrator:
            conditions = Conditions(narrator, is_interrupted)
            plan = adjust(climb, text, changes, conditions)
            go_on(plan, conditions)
        ended = load_climb(plan.folder)
    show_end("adjust", choices, ended, {"changes": [asdict(one) for one in changes]})
