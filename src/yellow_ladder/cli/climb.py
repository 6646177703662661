"""`yl climb`."""

from __future__ import annotations

import sys
from dataclasses import replace

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, to_option, wish_options
from yellow_ladder.cli.ends import accept_and_go_on, accept_option, show_end
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.cli.signals import interruptible
from yellow_ladder.climb.conduct import Conditions, begin, go_on
from yellow_ladder.climb.planning.prepare import drop_plan, stage_climb
from yellow_ladder.climb.planning.prospect import RECORDS, look_ahead, refuse_if_stopped
from yellow_ladder.climb.record.catalog import load_climb, open_climb, refuse_if_open, resting_climb, sweep_unfrozen
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.release.versions import Version
from yellow_ladder.report.climbs import plan_page
from yellow_ladder.route import Wishes
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Depth


@click.command("climb", cls=LadderCommand)
@to_option
@wish_options
@click.option("--yes", is_flag=True, help="Agree to the plan beforehand.")
@click.option(
    "--continue", "going_on", is_flag=True, help="Go on with the climb that was interrupted, or on from a landing."
)
@accept_option
@click.pass_obj
def command(
    choices: Choices, /, target: Version | None, yes: bool, going_on: bool, accepted: int | None, **wishes: bool
) -> None:
    """Upgrade in place. Shows the plan and asks; then backs up, reads back, places, migrates and compares.

    Ctrl-C ends it at the next safe point; `yl climb --continue` goes on and `yl descend` goes back.
    """
    if going_on and target is not None:
        text = "--continue goes on with a plan that is frozen; it cannot take another --to"
        raise BadInput(Problem("usage", text, "leave --to out, or go back first with `yl descend`"))
    if accepted is not None and not going_on:
        text = "--accept-differences belongs to --continue: nothing has been compared yet"
        raise BadInput(Problem("usage", text, "leave it out, or say --continue too"))
    site = choices.site(under_way=going_on)
    with site.state.locked("climb"):
        wanted = Wishes(**wishes)
        under_way = open_climb(site) if going_on else None
        if under_way is not None and accepted is not None:
            accept_and_go_on(choices, under_way, accepted)
            show_end("climb", choices, load_climb(under_way.plan.folder))
            return
        if going_on and under_way is None:
            target, wanted = _beyond_landing(site, wanted)
        plan = under_way.plan if under_way else _agreed_plan(choices, site, target, wanted, yes=yes)
        with interruptible() as is_interrupted, narrated(choices) as narrator:
            conditions = Conditions(narrator, is_interrupted)
            go_on(plan, conditions) if under_way else begin(plan, conditions)
        climb = load_climb(plan.folder)
    show_end("climb", choices, climb)


def _beyond_landing(site: Site, wishes: Wishes) -> tuple[Version, Wishes]:
    """The target beyond the landing that the site is at; raises AnswerNo where it is not at a landing."""
    resting = resting_climb(site)
    beyond = resting.plan.beyond if resting else None
    if beyond is None:
        text = "no climb is under way, and none rests at a landing"
        raise AnswerNo(Problem("nothing-to-continue", text, "begin one with `yl climb`; see past ones: yl history"))
    wishes = replace(
        wishes, previews=wishes.previews or beyond.previews, withdrawn=wishes.withdrawn or beyond.withdrawn
    )
    return Version(beyond.to_version), wishes


def _agreed_plan(choices: Choices, site: Site, target: Version | None, wishes: Wishes, *, yes: bool) -> Plan:
    """Prepare a plan, show it, and have it agreed to; raises AnswerNo otherwise, with nothing changed."""
    if not yes and (choices.as_json or not sys.stdin.isatty()):
        text = "a climb needs somebody's agreement, and there is no terminal to ask at"
        raise BadInput(Problem("not-agreed", text, "read the plan with `yl route` and `yl check`, then say --yes"))
    refuse_if_open(site)
    sweep_unfrozen(site)
    with narrated(choices) as narrator:
        prospect = look_ahead(site, target, utc_now(), wishes, Depth(read_files=True, records=RECORDS), narrator)
        refuse_if_stopped(prospect)
        plan = stage_climb(prospect, utc_now(), narrator)
    if not choices.as_json:
        console(choices).print(plan_page(prospect, plan))
    try:
        agreed = yes or click.confirm(f"Climb from {plan.from_version} to {plan.to_version} now?", err=True)
    except BaseException:
        drop_plan(plan)
        raise
    if not agreed:
        drop_plan(plan)
        raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", "begin again with: yl climb"))
    return plan
