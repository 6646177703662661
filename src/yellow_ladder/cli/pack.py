"""`yl pack`."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path

import click

from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.release.index import write_index
from yellow_ladder.release.pack import pack_release
from yellow_ladder.release.source import product_of
from yellow_ladder.report.packing import index_page, packed_page


@click.command("pack", cls=LadderCommand)
@click.argument("tree", metavar="[DIR]", required=False,
                type=click.Path(exists=True, file_okay=False, path_type=Path))  # fmt: skip
@click.option("--into", metavar="DIR", type=click.Path(file_okay=False, path_type=Path), default=Path(),
              help="Where to write the archive and SHA256SUMS (default: here).")  # fmt: skip
@click.option("--index", is_flag=True, help="Also write releases.json, to publish the folder over HTTP.")
@click.pass_obj
def command(choices: Choices, tree: Path | None, into: Path, index: bool) -> None:
    """Make a release archive from a tree that holds its sheet, release.toml. The same tree gives the same bytes.

    Without DIR, and with --index, only the index of what lies in the folder is written: sheets alone, too.
    """
    if tree is None:
        if not index:
            raise BadInput(Problem("no-tree", "there is nothing to pack", "name the release's tree, or --index"))
        path = write_index(into, product_of(into))
        releases = len(json.loads(path.read_bytes())["releases"])
        emit("pack", choices, {"index": str(path), "releases": releases}, index_page(path, releases))
        return
    packed = pack_release(tree, into)
    if index:
        write_index(into, packed.product)
    emit("pack", choices, {**asdict(packed), "archive": str(packed.archive)}, packed_page(packed))
