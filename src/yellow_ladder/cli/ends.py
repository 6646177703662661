"""How the end of a climb is shown, whichever command brought it there; and how differences are agreed to."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

import click

from yellow_ladder.cli.base import Choices, console, emit
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.cli.signals import interruptible
from yellow_ladder.climb.conduct import Conditions, accept, differences_of
from yellow_ladder.climb.proving.checkout import to_commit
from yellow_ladder.climb.proving.proof import load_proof
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.climbs import descended_page
from yellow_ladder.report.decisions import accepted_page, differences_page
from yellow_ladder.report.proofs import proof_page

accept_option = click.option(
    "--accept-differences",
    "accepted",
    is_flag=False,
    flag_value=-1,
    type=int,
    default=None,
    metavar="[NUMBER]",
    help="After a comparison that said no: show every difference, and go on once their NUMBER is given.",
)


def show_end(command: str, choices: Choices, climb: Climb, more: Mapping[str, Any] | None = None) -> None:
    """Say where a climb has come to, as its journal has it."""
    plan, standing = climb.plan, climb.standing
    result: dict[str, Any] = {"climb": climb.name, "state": standing.outcome, **(more or {})}
    if standing.state is not ClimbState.CLIMBED:
        page = accepted_page(climb) if standing.accepted else descended_page(plan, standing)
        emit(command, choices, result, page)
        return
    proof = load_proof(plan)
    result["proof"] = proof.as_record()
    commits = to_commit(plan)
    result["to_commit"] = [{"checkout": str(one.top), "files": list(one.files)} for one in commits]
    proof = replace(proof, remarks=(*proof.remarks, *(one.in_words() for one in commits)))
    if plan.beyond is not None:
        result["landing"] = asdict(plan.beyond)
    page = accepted_page(climb) if standing.accepted else proof_page(proof, plan.beyond)
    # A landing is part of the way only: a script must not take it for the target.
    emit(command, choices, result, page, exit_code=3 if plan.beyond else 0)


def accept_and_go_on(choices: Choices, climb: Climb, number: int) -> None:
    """Show every difference, have their number given, and go on; raises AnswerNo otherwise, with nothing changed."""
    with interruptible() as is_interrupted, narrated(choices) as narrator:
        conditions = Conditions(narrator, is_interrupted)
        found = differences_of(climb, conditions)
    if not choices.as_json:
        console(choices).print(differences_page(found, climb.plan))
    if number < 0:
        if choices.as_json or not sys.stdin.isatty():
            text = f"there are {found.count:,} differences, and there is no terminal to ask at"
            raise BadInput(Problem("not-agreed", text, f"read them in {found.folder}, then give their number"))
        number = click.prompt("Type the number of differences to accept them", type=int, err=True)
    if number != found.count:
        text = f"{number:,} is not the number of differences, which is {found.count:,}; nothing was changed"
        raise AnswerNo(Problem("not-agreed", text, f"read them in {found.folder}", found.folder))
    with interruptible() as is_interrupted, narrated(choices) as narrator:
        accept(climb, found, Conditions(narrator, is_interrupted))
