"""What going back costs: rows and files written since the climb, counted and kept where they can be read."""

from __future__ import annotations

import os
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yellow_ladder.climb.expected import expected_tree, present_tree, site_after
from yellow_ladder.climb.plan import Plan
from yellow_ladder.climb.surveys import AFTER_NAME, read_survey
from yellow_ladder.database import Database
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import LadderError
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.manifest import Kind, compare_manifests

FOLDER_NAME = "written-since"


@dataclass(frozen=True, slots=True)
class TablePrice:
    """One table: rows when the climb ended, and rows now."""

    database: str
    table: str
    rows_then: int
    rows_now: int


@dataclass(frozen=True, slots=True)
class Price:
    """What has been written since the site was opened again. Changed rows that leave the count alone are not told."""

    tables: tuple[TablePrice, ...]
    files: tuple[str, ...]
    unreadable: tuple[str, ...] = ()  # databases that cannot be read any more, and why

    @property
    def is_nothing(self) -> bool:
        """Whether no row count and no file differs."""
        return not self.files and not self.unreadable and all(one.rows_then == one.rows_now for one in self.tables)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


def reckon(plan: Plan) -> Price:
    """Count what going back would take away; reads only. Where the climb did not end, there is nothing to count."""
    try:
        then = read_survey(plan, AFTER_NAME)
    except LadderError:
        return Price((), ())
    site = site_after(plan)
    tables: list[TablePrice] = []
    unreadable = []
    for name, database in site.databases().items():
        known = then.databases[name].tables
        try:
            now = {table.name: database.count_rows(table.name) for table in database.tables()}
        except LadderError as fault:  # a broken new version is a reason to go back, not one that keeps from it
            unreadable.append(f"{name}: {fault.problems[0].message}")
            continue
        for table in sorted(known.keys() | now.keys()):
            rows_then = known[table].rows if table in known else 0
            if rows_then != now.get(table, 0):
                tables.append(TablePrice(name, table, rows_then, now.get(table, 0)))
    return Price(tuple(tables), tuple(_changed_files(plan)), tuple(unreadable))


def _changed_files(plan: Plan) -> list[str]:
    """Files below root that are new or changed against the new release and the data of the backup."""
    expected = expected_tree(plan)
    found = present_tree(plan, expected)
    differing = compare_manifests(expected, found)
    return [one.path for one in differing if one.path in found and found[one.path].kind is not Kind.FOLDER]


def keep_newer(plan: Plan, files: tuple[str, ...]) -> Path:
    """Copy the databases as they are now, whole, and the files given, into the climb's folder; may be repeated."""
    site = site_after(plan)
    folder = private_folder(plan.folder / FOLDER_NAME)
    for name, database in site.databases().items():
        target = folder / f"database-{name}.sqlite"
        remove_entry(target)
        try:
            database.back_up_to(target, lambda _done, _total: None)
        except LadderError:
            _keep_as_it_is(database, folder)
    for path in files:
        target = folder / "files" / path
        remove_entry(target)  # a copy that a kill left unfinished
        private_folder(target.parent)
        copy_entry(site.root / path, target)
    os.sync()  # what is kept must be on disk before the steps that follow write over the originals
    return folder


def _keep_as_it_is(database: Database, folder: Path) -> None:
    """Copy the files of a database that its engine cannot read any more, byte for byte."""
    for path in filter(Path.exists, database.own_files()):
        target = folder / path.name
        remove_entry(target)
        copy_entry(path, target)
