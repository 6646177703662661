"""`yl pack`."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.release.index import write_index
from yellow_ladder.release.pack import pack_release
from yellow_ladder.report.packing import packed_page


@click.command("pack", cls=LadderCommand)
@click.argument("tree", metavar="DIR", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option("--into", metavar="DIR", type=click.Path(file_okay=False, path_type=Path), default=Path(),
              help="Where to write the archive and SHA256SUMS (default: here).")  # fmt: skip
@click.option("--index", is_flag=True, help="Also write releases.json, to publish the folder over HTTP.")
@click.pass_obj
def command(choices: Choices, tree: Path, into: Path, index: bool) -> None:
    """Make a release archive from a tree that holds its sheet, release.toml. The same tree gives the same bytes."""
    packed = pack_release(tree, into)
    if index:
        write_index(into, packed.product)
    emit("pack", choices, {**asdict(packed), "archive": str(packed.archive)}, packed_page(packed))
