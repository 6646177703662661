"""`yl verify`."""

from __future__ import annotations

import contextlib

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.climb.conduct import Conditions, look_only
from yellow_ladder.climb.proving.locating import where_listed
from yellow_ladder.climb.proving.proof import load_proof, parted, prove
from yellow_ladder.climb.record.adjusting import as_now
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.report.proofs import Shown, proof_page
from yellow_ladder.words import moment_in_words

_ENDED_WELL = (ClimbState.CLIMBED, ClimbState.SETTLED)


def _notes(plan: Plan) -> list[str]:
    """Since when differences are there, and where all rows that differ are listed."""
    notes = []
    with contextlib.suppress(AnswerNo):
        then = load_proof(plan)
        if then.is_whole:
            notes.append(f"When the climb ended ({moment_in_words(then.taken_at)}) there was none: this came since.")
    listed = where_listed(plan)
    return [*notes, f"{listed[:1].upper()}{listed[1:]}."] if listed else notes


@click.command("verify", cls=LadderCommand)
@click.option("--against", "name", metavar="CLIMB", help="The climb to compare with (default: the newest).")
@click.pass_obj
def command(choices: Choices, name: str | None) -> None:
    """Compare data and files now with the state before a climb; ends with 1 when they differ.

    Rows that came since are told apart, where every row from before is as it was. A row that users have changed since
    is a difference.
    """
    site = choices.site()
    with site.state.locked("verify"):
        climb = find_climb(site, name, _ENDED_WELL)
        if climb.standing.state not in _ENDED_WELL:
            text = f"the climb {climb.name} is {climb.standing.state}: there is nothing after it to compare"
            raise AnswerNo(Problem("nothing-to-verify", text, "name one that ended well: yl history"))
        with narrated(choices) as narrator:
            plan = as_now(climb.plan, climb.standing, site.text.decode())
            proof = parted(prove(look_only(plan, Conditions(narrator)), served=True, keep=False))
    shown = Shown(ended=climb.standing.state is ClimbState.CLIMBED, every_table=choices.verbose)
    page = proof_page(proof, shown=shown, notes=_notes(plan))
    emit("verify", choices, proof.as_record(), page, exit_code=0 if proof.is_whole else 1)
