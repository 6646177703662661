"""`yl backup`."""

from __future__ import annotations

from pathlib import Path

import click

from yellow_ladder.backup.catalog import Backup, list_backups
from yellow_ladder.backup.make import check_backup, load_and_compare, make_backup
from yellow_ladder.backup.restore import restore_aside
from yellow_ladder.cli.base import Choices, LadderCommand, emit
from yellow_ladder.cli.progress import narrated
from yellow_ladder.climb.run import utc_now
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.report.climbs import backup_page, backups_page
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import version_on_disk


@click.group("backup")
def command() -> None:
    """Make, list, test and restore stand-alone backups, in the same format as a climb's."""


@command.command("make", cls=LadderCommand)
@click.option("--since", metavar="NAME", help="Store only what came or changed since a backup, or since the `last`.")
@click.pass_obj
def make(choices: Choices, since: str | None) -> None:
    """Back up all files and databases, and read everything back. The site may go on serving."""
    site = choices.site()
    with site.state.locked("backup make"), narrated(choices) as narrator:
        base = _find(site, None if since == "last" else since) if since else None
        backup = make_backup(site, str(version_on_disk(site) or "unknown"), utc_now(), narrator, base)
    emit("backup make", choices, backup.as_record(), backup_page(backup, "made and read back"))


@command.command("list", cls=LadderCommand)
@click.pass_obj
def list_(choices: Choices) -> None:
    """List finished backups, oldest first."""
    backups = list_backups(choices.site(under_way=True).state.backups)
    emit("backup list", choices, [one.as_record() for one in backups], backups_page(backups))


@command.command("test", cls=LadderCommand)
@click.argument("name", required=False)
@click.option("--load", is_flag=True, help="Load its databases into scratch databases too, and compare every value.")
@click.pass_obj
def test(choices: Choices, name: str | None, load: bool) -> None:
    """Read every byte of a backup again (default: the newest) and hold it against its digests."""
    site = choices.site(under_way=True)
    backup = check_backup(_find(site, name).path)
    for database_name, database in site.databases().items():
        if any(one.name == database_name for one in backup.databases):
            database.check_backup(backup.path / backup.database(database_name).file)
    if not load:
        emit("backup test", choices, backup.as_record(), backup_page(backup, "every byte is as it was written"))
        return
    with site.state.locked("backup test"), narrated(choices) as narrator:
        loaded = load_and_compare(backup, site, narrator)
    rows = sum(one.rows for one in loaded.values())
    said = f"every byte is as it was written, and loading it gives the same {rows:,} rows, value by value"
    emit("backup test", choices, {**backup.as_record(), "loaded_rows": rows}, backup_page(backup, said))


@command.command("restore", cls=LadderCommand)
@click.argument("name", required=False)
@click.option("--into", required=True, metavar="DIR", type=click.Path(path_type=Path), help="A new or empty folder.")
@click.pass_obj
def restore(choices: Choices, name: str | None, into: Path) -> None:
    """Restore a backup into a fresh folder beside the site, to look into it or to take files from it.

    To take the site itself back to before a climb, use `yl descend`.
    """
    backup = check_backup(_find(choices.site(under_way=True), name).path)
    restore_aside(backup, into.absolute())
    result = {"backup": backup.name, "into": str(into.absolute())}
    emit("backup restore", choices, result, backup_page(backup, f"restored into {into.absolute()}"))


def _find(site: Site, name: str | None) -> Backup:
    backups = list_backups(site.state.backups)
    found = [one for one in backups if name in (None, one.name)]
    if not found:
        text = f"there is no backup {name}" if name else "there is no backup yet"
        raise BadInput(Problem("no-backup", text, "see which there are: yl backup list"))
    return found[-1]
