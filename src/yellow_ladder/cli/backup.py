"""`yl backup`."""

from __future__ import annotations

from pathlib import Path

import click

from yellow_ladder.backup.catalog import Backup, list_backups, remove_backup
from yellow_ladder.backup.copies import copy_backup, fetch_backup, names_at, place_of
from yellow_ladder.backup.make import check_backup, load_and_compare, make_backup
from yellow_ladder.backup.restore import restore_aside
from yellow_ladder.backup.retention import past_their_time, why_it_stays
from yellow_ladder.cli.base import Choices, LadderCommand, agree, emit
from yellow_ladder.cli.narrator import narrated
from yellow_ladder.climb.record.catalog import needed_backups
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.report.backups import backup_page, backups_page, copied_page, dropped_page, names_page
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
        copied = [one for target in site.record.backup.copy_to for one in copy_backup(site, backup, target, narrator)]
        dropped = _due(site)
        for one in dropped:
            remove_backup(one)
    said = f"made and read back{', here and elsewhere' if copied else ''}"
    record = {**backup.as_record(), "copied": [one.as_record() for one in copied], "dropped": [o.name for o in dropped]}
    emit("backup make", choices, record, backup_page(backup, said, dropped))


@command.command("list", cls=LadderCommand)
@click.option("--at", "place", metavar="PLACE", help="Copies at a place of backup.copy_to.")
@click.pass_obj
def list_(choices: Choices, place: str | None) -> None:
    """List finished backups, oldest first."""
    if place:
        site = choices.site(under_way=True)
        names = names_at(site, place_of(site, place))
        emit("backup list", choices, names, names_page(place, names))
        return
    backups = list_backups(choices.site(under_way=True).state.backups)
    emit("backup list", choices, [one.as_record() for one in backups], backups_page(backups))


@command.command("test", cls=LadderCommand)
@click.argument("name", required=False)
@click.option("--load", is_flag=True, help="Load its databases into scratch databases too, and compare every value.")
@click.pass_obj
def test(choices: Choices, name: str | None, load: bool) -> None:
    """Read every byte of a backup again (default: the newest) and hold it against its digests."""
    site = choices.site(under_way=True)
    with narrated(choices) as narrator:
        backup = check_backup(_find(site, name).path, narrator)
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
    with narrated(choices) as narrator:
        backup = check_backup(_find(choices.site(under_way=True), name).path, narrator)
        restore_aside(backup, into.absolute(), narrator)
    result = {"backup": backup.name, "into": str(into.absolute())}
    emit("backup restore", choices, result, backup_page(backup, f"restored into {into.absolute()}"))


def _find(site: Site, name: str | None) -> Backup:
    backups = list_backups(site.state.backups)
    found = [one for one in backups if (one.site == site.name if name is None else one.name == name)]
    if not found:
        text = f"there is no backup {name}" if name else "there is no backup yet"
        raise BadInput(Problem("no-backup", text, "see which there are: yl backup list"))
    return found[-1]


@command.command("copy", cls=LadderCommand)
@click.argument("name", required=False)
@click.option("--to", "place", metavar="PLACE", help="Only to this place of backup.copy_to (default: to every one).")
@click.pass_obj
def copy(choices: Choices, name: str | None, place: str | None) -> None:
    """Copy a backup (default: the newest) elsewhere, read it back there, and only then give it its name there."""
    site = choices.site(under_way=True)
    with site.state.locked("backup copy"), narrated(choices) as narrator:
        backup = _find(site, name)
        targets = [place_of(site, place)] if place else list(site.record.backup.copy_to)
        if not targets:
            place_of(site, None)
        copied = [one for target in targets for one in copy_backup(site, backup, target, narrator)]
    emit("backup copy", choices, [one.as_record() for one in copied], copied_page(backup, targets, copied))


@command.command("fetch", cls=LadderCommand)
@click.argument("name")
@click.option("--from", "place", metavar="PLACE", help="The place of backup.copy_to (default: the only one).")
@click.pass_obj
def fetch(choices: Choices, name: str, place: str | None) -> None:
    """Bring a copy back from elsewhere, decrypt it, and read it back like any other backup."""
    site = choices.site(under_way=True)
    with site.state.locked("backup fetch"), narrated(choices) as narrator:
        backup = fetch_backup(site, name, place_of(site, place), narrator)
    emit("backup fetch", choices, backup.as_record(), backup_page(backup, "brought back, and every byte as written"))


@command.command("drop", cls=LadderCommand)
@click.argument("name", required=False)
@click.option("--due", is_flag=True, help="All that are past keep_count and keep_days of the site file.")
@click.option("--yes", is_flag=True, help="Agree beforehand.")
@click.pass_obj
def drop(choices: Choices, name: str | None, due: bool, yes: bool) -> None:
    """Remove backups: never the last good one, never one that a climb or another backup still needs."""
    site = choices.site(under_way=True)
    if bool(name) == due:
        raise BadInput(Problem("usage", "name either a backup or --due", "see which there are: yl backup list"))
    with site.state.locked("backup drop"):
        going = _due(site) if due else [_droppable(site, name)]
        if going and not yes:
            agree(choices, f"Remove {', '.join(one.name for one in going)}?", "removing backups")
        freed = sum(one.size_bytes() for one in going)
        for one in going:
            remove_backup(one)
    result = {"dropped": [one.name for one in going], "freed_bytes": freed}
    emit("backup drop", choices, result, dropped_page(going, freed))


def _due(site: Site) -> list[Backup]:
    # Another site's may lie there too: they are not to be counted, and not to go.
    wishes = site.record.backup
    backups = [one for one in list_backups(site.state.backups) if one.site == site.name]
    return past_their_time(backups, utc_now(), wishes.keep_count, wishes.keep_days, needed_backups(site))


def _droppable(site: Site, name: str | None) -> Backup:
    """The backup of a name; raises AnswerNo where it has to stay."""
    chosen = _find(site, name)
    why = why_it_stays(chosen, list_backups(site.state.backups), needed_backups(site))
    if why:
        raise AnswerNo(Problem("backup-needed", f"the backup {chosen.name} stays: {why}", "see yl backup list"))
    return chosen
