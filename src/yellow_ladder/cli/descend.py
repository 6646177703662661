"""`yl descend`."""

from __future__ import annotations

import sys

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, emit
from yellow_ladder.cli.ends import accept_and_go_on, accept_option, show_end
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.cli.signals import interruptible
from yellow_ladder.climb.conduct import Conditions, descend
from yellow_ladder.climb.proving.price import Price, drop_scratch, reckon
from yellow_ladder.climb.record.catalog import Climb, find_climb, load_climb, open_climb, refuse_if_built_upon
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.look import next_command
from yellow_ladder.report.proofs import price_page


@click.command("descend", cls=LadderCommand)
@click.argument("name", metavar="[CLIMB]", required=False)
@click.option("--yes", is_flag=True, help="Agree to the price beforehand.")
@click.option("--price", "only_price", is_flag=True, help="Only show what was written since; nothing is changed.")
@accept_option
@click.pass_obj
def command(choices: Choices, /, name: str | None, yes: bool, only_price: bool, accepted: int | None) -> None:
    """Go back to the state before a climb (default: the newest), from wherever it is.

    First counts what was written since; these rows and files are kept in the climb's folder.
    """
    site = choices.site(under_way=True)
    with site.state.locked("descend"):
        climb = (open_climb(site) if name is None else None) or find_climb(site, name)
        refuse_if_built_upon(site, climb)
        if only_price:
            _show_price(choices, climb)
            return
        if accepted is not None:
            accept_and_go_on(choices, climb, accepted)
            show_end("descend", choices, load_climb(climb.plan.folder))
            return
        price = Price((), ())
        if climb.standing.state is ClimbState.CLIMBED:
            price = _agreed_price(choices, climb, yes=yes)
        with interruptible() as is_interrupted, narrated(choices) as narrator:
            descend(climb.plan, Conditions(narrator, is_interrupted))
        ended = load_climb(climb.plan.folder)
    show_end("descend", choices, ended, {"price": price.as_record()})


def _show_price(choices: Choices, climb: Climb) -> None:
    if climb.standing.state is not ClimbState.CLIMBED:
        text = f"the climb {climb.name} is {climb.standing.outcome}: there is nothing to go back from"
        raise AnswerNo(Problem("no-price", text, "see yl history"))
    try:
        price = reckon(climb.plan)
    finally:
        drop_scratch(climb.plan)
    page = price_page(price, climb.plan)
    page.add(next_command((f"yl descend {climb.name}", "go back")))
    emit("descend", choices, {"climb": climb.name, "price": price.as_record()}, page)


def _agreed_price(choices: Choices, climb: Climb, *, yes: bool) -> Price:
    try:
        return _price_agreed_to(choices, climb, yes=yes)
    except BaseException:
        drop_scratch(climb.plan)
        raise


def _price_agreed_to(choices: Choices, climb: Climb, *, yes: bool) -> Price:
    price = reckon(climb.plan)
    if not choices.as_json:
        console(choices).print(price_page(price, climb.plan))
    if yes:
        return price
    if choices.as_json or not sys.stdin.isatty():
        text = "going back needs somebody's agreement, and there is no terminal to ask at"
        raise BadInput(Problem("not-agreed", text, "say --yes"))
    if not click.confirm(f"Go back to {climb.plan.from_version} now?", err=True):
        raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", ""))
    return price
