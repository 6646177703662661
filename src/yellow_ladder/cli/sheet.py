"""`yl sheet`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.drafting import draft_sheets
from yellow_ladder.durable import write_whole
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.release.versions import Version
from yellow_ladder.report.packing import drafts_page


@click.command("sheet", cls=LadderCommand)
@click.argument("named", metavar="[ARCHIVE|VERSION]...", nargs=-1)
@click.option("--show", is_flag=True, help="Show the sheets instead of writing them.")
@click.pass_obj
def command(choices: Choices, named: tuple[str, ...], show: bool) -> None:
    """Draft release sheets, guesses marked as such: of a vendor's ARCHIVE, or of a VERSION that commands make.

    Without any, of all archives in the release source that have none. A sheet that is there stays as it is.
    """
    archives, built = _told_apart(named)
    drafts = draft_sheets(choices.site(), archives, built)
    if drafts.problems and not (drafts.made or drafts.have_one):
        raise BadInput(drafts.problems)
    for one in () if show else drafts.made:
        for path, text in (*one.files, (one.sheet, one.text)):
            write_whole(path, text.encode(), mode=0o644)
    record = {
        "written": [] if show else [str(one.sheet) for one in drafts.made],
        "drafts": [
            {"sheet": str(one.sheet), "version": str(one.version), "text": one.text, "left": list(one.left),
             "files": {str(path): text for path, text in one.files}}
            for one in drafts.made
        ],
        "have_one": [str(path) for path in drafts.have_one],
        "problems": [problem.as_record() for problem in drafts.problems],
    }  # fmt: skip
    emit("sheet", choices, record, drafts_page(drafts, show=show))


def _told_apart(named: Sequence[str]) -> tuple[list[Path], list[Version]]:
    """Archives that are there, and versions; raises BadInput for what is neither."""
    archives: list[Path] = []
    versions: list[Version] = []
    for one in named:
        if Path(one).is_file():
            archives.append(Path(one).absolute())
            continue
        try:
            versions.append(Version(one))
        except ValueError as fault:
            text = f"{one} is neither an archive that is there nor a version"
            raise BadInput(Problem("no-archive", text, "name an archive, or a version like 3.0", one)) from fault
    return archives, versions
