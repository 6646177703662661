"""`yl check`."""

from __future__ import annotations

import time
from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, emit, to_option, wish_options
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.cli.signals import interruptible
from yellow_ladder.climb.planning.prospect import RECORDS, Prospect, look_ahead
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.release.versions import Version
from yellow_ladder.report.checks import check_page, standing_line
from yellow_ladder.route import Wishes
from yellow_ladder.survey import Depth

_PAUSE_S = 0.2


@click.command("check", cls=LadderCommand)
@to_option
@wish_options
@click.option("--watch", is_flag=True, help="Ask again and again until nothing stops a climb.")
@click.option(
    "--every",
    "every_s",
    metavar="SECONDS",
    type=click.FloatRange(0.1, 86_400),
    default=30.0,
    help="With --watch: how long to wait in between (default: 30).",
)
@click.option("--thorough", is_flag=True, help="Read every file again, and check every constraint.")
@click.pass_obj
def command(
    choices: Choices, /, target: Version | None, watch: bool, every_s: float, thorough: bool, **wishes: bool
) -> None:
    """Ask every check in one pass. Reads, and changes nothing; ends with 1 when anything stops a climb."""
    if watch and choices.as_json:
        remedy = "use one of the two; a script can ask again by itself"
        raise BadInput(Problem("usage", "--watch is for people, and --json gives one document", remedy))

    def ask() -> Prospect:
        depth = Depth(read_files=thorough, check_constraints=thorough, records=RECORDS)
        with narrated(choices) as narrator:
            return look_ahead(choices.site(), target, utc_now(), Wishes(**wishes), depth, narrator)

    prospect = _watched(choices, ask, every_s) if watch else ask()
    to = str(prospect.way.target) if prospect.way else str(target or "the newest release")
    page = check_page(prospect.findings, to, verbose=choices.verbose)
    exit_code = 1 if prospect.stops else 0
    emit("check", choices, _record(prospect, target), page, exit_code=exit_code, problems=_problems(prospect))


def _watched(choices: Choices, ask: Any, every_s: float) -> Prospect:
    """Ask until nothing stops a climb, or somebody presses Ctrl-C; print a line when the findings that stop change."""
    told: list[str] = []
    with interruptible() as is_interrupted:
        while True:
            prospect: Prospect = ask()
            stops = [f"{finding.check}: {finding.saw}" for finding in prospect.stops]
            if stops != told:
                console(choices, errors=True).print(standing_line(prospect.stops, utc_now()))
                told = stops
            end = time.monotonic() + every_s
            while stops and not is_interrupted() and time.monotonic() < end:
                time.sleep(min(_PAUSE_S, every_s))
            if not stops or is_interrupted():
                return prospect


def _problems(prospect: Prospect) -> list[Problem]:
    """What stops a climb, for scripts: with its own code where it is known as more than a check's answer."""
    known = [problem for refusal in prospect.refusals for problem in refusal.problems]
    told = {problem.placed for problem in known}
    stops = [one for one in prospect.stops if one.saw not in told]
    return [*known, *(Problem("check-stops", f"{one.check}: {one.saw}", one.remedy) for one in stops)]


def _record(prospect: Prospect, target: Version | None) -> dict[str, Any]:
    return {
        "to": str(prospect.way.target) if prospect.way else str(target) if target else None,
        "stops": len(prospect.stops),
        "findings": [finding.as_record() for finding in prospect.findings],
    }
