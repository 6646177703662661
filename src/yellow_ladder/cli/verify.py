"""`yl verify`."""

from __future__ import annotations

import contextlib
from pathlib import Path

import click

from yellow_ladder.backup.catalog import Backup, list_backups
from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.climb.conduct import Conditions, look_only
from yellow_ladder.climb.proving.elsewhere import compare_with_backup, compare_with_prints
from yellow_ladder.climb.proving.locating import where_listed
from yellow_ladder.climb.proving.proof import load_proof, parted, prove
from yellow_ladder.climb.record.adjusting import as_now
from yellow_ladder.climb.record.catalog import find_climb, list_climbs
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.proofs import Shown, comparison_page, proof_page
from yellow_ladder.site.site import Site
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
@click.option(
    "--against", "name", metavar="NAME", help="The climb, or the backup, to compare with (default: the newest climb)."
)
@click.option(
    "--with",
    "prints",
    metavar="[DATABASE=]FILE",
    multiple=True,
    help="Compare a database (default: main) with a backup's fingerprint alone, from another machine for instance.",
)
@click.pass_obj
def command(choices: Choices, name: str | None, prints: tuple[str, ...]) -> None:
    """Compare data and files now with the state before a climb; ends with 1 when they differ.

    Rows that came since are told apart, where every row from before is as it was, and files of data folders that were
    written again since. A row that users have changed, and a file that they have removed, is a difference.
    """
    site = choices.site()
    if prints and name:
        raise BadInput(Problem("usage", "--with and --against name two things to compare with", "give one of them"))
    with site.state.locked("verify"):
        backup = _backup(site, name)
        if prints or backup is not None:
            with narrated(choices) as narrator:
                if backup is not None:
                    found = compare_with_backup(site, backup, narrator)
                else:
                    found = compare_with_prints(site, _named(prints), narrator)
            page = comparison_page(found, site.name, every_table=choices.verbose)
            emit("verify", choices, found.as_record(), page, exit_code=0 if found.is_whole else 1)
            return
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


def _named(prints: tuple[str, ...]) -> dict[str, Path]:
    """The fingerprints by the database that each is of."""
    found = {}
    for one in prints:
        name, sign, file = one.partition("=")
        found[name if sign else "main"] = Path(file if sign else one)
    return found


def _backup(site: Site, name: str | None) -> Backup | None:
    """The backup of a name, where no climb has it."""
    if name is None or any(one.name == name for one in list_climbs(site)):
        return None
    return next((one for one in list_backups(site.state.backups) if one.name == name), None)
