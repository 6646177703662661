"""`yl init`."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.discovery import Discovery, discover, site_file_text
from yellow_ladder.discovery.units import UNIT_FOLDERS
from yellow_ladder.durable import write_whole
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.report.discoveries import discovery_page


@click.command("init", cls=LadderCommand)
@click.argument("folder", metavar="DIR", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option("--units", metavar="FOLDER", multiple=True, type=click.Path(file_okay=False, path_type=Path),
              help="Where unit files lie (default: the system's folders).")  # fmt: skip
@click.option("--show", is_flag=True, help="Show the site file instead of writing it.")
@click.pass_obj
def command(choices: Choices, folder: Path, units: tuple[Path, ...], show: bool) -> None:
    """Look at the application in DIR and write ladder.toml beside it: what was found, guesses marked as such.

    With --site, it is written there. Asks nothing, runs nothing, and copies no password. An archive of the installed
    release in the folder `releases` beside the site file tells what came with it, so that less has to be guessed.
    """
    root = folder.resolve()
    target = choices.site_file.absolute() if choices.is_named else root.parent / "ladder.toml"
    if root == root.parent:
        raise BadInput(Problem("no-application", "the root of the file system is no application", "name its folder"))
    if target.exists() and not show:
        text = f"there is a site file already: {target}"
        raise BadInput(Problem("site-file-there", text, "see what it would say with --show", str(target)))
    found = discover(root, units or UNIT_FOLDERS, target.parent / "releases")
    text, left = site_file_text(found, beside=target.parent)
    if not show:
        write_whole(target, text.encode(), mode=0o644)
    page = discovery_page(found, text, left, None if show else target)
    emit("init", choices, {"file": None if show else str(target), "text": text, "left": left, **_record(found)}, page)


def _record(found: Discovery) -> dict[str, Any]:
    record = asdict(found)
    record.pop("root")
    return {"found": {**record, "units": [str(unit.file) for unit in found.units]}}
