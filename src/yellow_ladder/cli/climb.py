"""`yl climb`."""

from __future__ import annotations

import sys

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, emit, to_option, wish_options
from yellow_ladder.cli.progress import narrated, stoppable
from yellow_ladder.climb.conduct import (
    Conditions,
    begin,
    go_on,
    open_climb,
    refuse_if_open,
    sweep_unfrozen,
)
from yellow_ladder.climb.plan import Plan
from yellow_ladder.climb.prepare import drop_plan, look_ahead, refuse_if_stopped, stage_climb
from yellow_ladder.climb.progress import State
from yellow_ladder.climb.proof import load_proof
from yellow_ladder.climb.run import utc_now
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.release.versions import Version
from yellow_ladder.report.climbs import descended_page, plan_page, proof_page
from yellow_ladder.route import Wishes
from yellow_ladder.site.site import Site


@click.command("climb", cls=LadderCommand)
@to_option
@wish_options
@click.option("--yes", is_flag=True, help="Agree to the plan beforehand.")
@click.option("--continue", "going_on", is_flag=True, help="Go on with the climb that was interrupted.")
@click.pass_obj
def command(choices: Choices, /, target: Version | None, yes: bool, going_on: bool, **wishes: bool) -> None:
    """Upgrade in place. Shows the plan and asks; then backs up, reads back, places, migrates and compares.

    Ctrl-C ends it at the next safe point; `yl climb --continue` goes on and `yl descend` goes back.
    """
    if going_on and target is not None:
        text = "--continue goes on with a plan that is frozen; it cannot take another --to"
        raise BadInput(Problem("usage", text, "leave --to away, or go back first with `yl descend`"))
    site = choices.site(under_way=going_on)
    with site.state.locked("climb"):
        plan = (
            _plan_under_way(site)
            if going_on
            else _agreed_plan(choices, site, target, Wishes(wishes["preview"], wishes["withdrawn"]), yes=yes)
        )
        with stoppable() as should_stop, narrated(choices) as narrator:
            conditions = Conditions(narrator, should_stop)
            state = go_on(plan, conditions) if going_on else begin(plan, conditions)
    _show_end(choices, plan, state)


def _plan_under_way(site: Site) -> Plan:
    climb = open_climb(site)
    if climb is None:
        text = "no climb is under way"
        raise AnswerNo(Problem("nothing-to-continue", text, "begin one with `yl climb`; see past ones: yl history"))
    return climb.plan


def _agreed_plan(choices: Choices, site: Site, target: Version | None, wishes: Wishes, *, yes: bool) -> Plan:
    """Prepare a plan, show it, and have it agreed to; raises AnswerNo otherwise, with nothing changed."""
    if not yes and (choices.as_json or not sys.stdin.isatty()):
        text = "a climb needs somebody's agreement, and there is no terminal to ask at"
        raise BadInput(Problem("not-agreed", text, "read the plan with `yl route` and `yl check`, then say --yes"))
    refuse_if_open(site)
    sweep_unfrozen(site)
    with narrated(choices) as narrator:
        prospect = look_ahead(site, target, wishes)
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
        raise AnswerNo(Problem("not-agreed", "not agreed to; nothing was changed", "climb when it suits: yl climb"))
    return plan


def _show_end(choices: Choices, plan: Plan, state: State) -> None:
    if state is State.CLIMBED:
        proof = load_proof(plan)
        result = {"climb": plan.climb, "state": str(state), "proof": proof.as_record()}
        emit("climb", choices, result, proof_page(proof))
    else:
        emit("climb", choices, {"climb": plan.climb, "state": str(state)}, descended_page(plan))
