"""What going back costs: rows and files written since the climb, counted and kept where they can be read."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import Ground, read_backup
from yellow_ladder.climb.proving.expected import (
    beside_expected,
    beside_outside,
    expected_tree,
    settings_elsewhere,
    site_after,
)
from yellow_ladder.climb.proving.inventory import AFTER_NAME, read_inventory
from yellow_ladder.climb.record.catalog import load_climb
from yellow_ladder.climb.record.commands import commands_of, generated_by, is_set_aside, written_by_commands
from yellow_ladder.climb.record.plan import Plan, migrations_folder
from yellow_ladder.database import Database
from yellow_ladder.database.port import TableChanges
from yellow_ladder.durable import private_folder, write_json, write_whole
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.entry import Kind, within
from yellow_ladder.files.manifest import FileChange, differing, digest_file
from yellow_ladder.fingerprints.records import DatabasePrint, TablePrint, Ties
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.migrations.apply import apply_scripts, read_scripts
from yellow_ladder.words import bytes_in_words

FOLDER_NAME, SCRATCH_NAME, ROWS_NAME, LEFT_NAME = "written-since", "price", "rows", "left"
# Two copies, the journal of a migration that rebuilds the largest table, and room for that table.
_TIMES_ITS_SIZE, _LEFT_FREE_BYTES = 4, 64 * 1024**2


@dataclass(frozen=True, slots=True)
class TablePrice:
    """One table: rows when the climb ended and now; where they could be compared, how many came, changed and went."""

    database: str
    table: str
    rows_then: int
    rows_now: int
    compared: bool = False
    added: int = 0
    changed: int = 0
    deleted: int = 0

    @property
    def rows(self) -> int:
        """Rows that came, changed or went; where they were only counted, by how much the number differs."""
        return self.added + self.changed + self.deleted if self.compared else abs(self.rows_now - self.rows_then)


@dataclass(frozen=True, slots=True)
class Price:
    """What has been written since the site was opened again.

    `unreadable` are databases that cannot be read any more, `counted_only` those whose rows could not be compared one
    by one, each with the reason: of them only numbers of rows are known.
    """

    tables: tuple[TablePrice, ...]
    files: tuple[str, ...]
    unreadable: tuple[str, ...] = ()
    counted_only: tuple[str, ...] = ()

    @property
    def rows(self) -> int:
        """Rows of all tables that came, changed or went."""
        return sum(one.rows for one in self.tables)

    @property
    def is_nothing(self) -> bool:
        """Whether no row and no file differs."""
        return not (self.files or self.unreadable or self.counted_only or self.tables)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


OnPrint = Callable[[str, Mapping[str, TablePrint]], None]
"""Called with a database's name and what its tables hold now."""


def reckon(plan: Plan, copies: Mapping[str, Database] | None = None, on_print: OnPrint | None = None) -> Price:
    """Count what going back would take away; the site is only read. A climb that did not end costs nothing.

    Tables that hold what the climb left, by their fingerprints, have not been written to. The rows of others are
    compared with what it left, made once more from the backup and the migrations; the database is copied for that, so
    that nobody who writes to it waits. `copies` are copies that there are already.
    """
    try:
        then = read_inventory(plan, AFTER_NAME)
    except LadderError:
        return Price((), ())
    tables: list[TablePrice] = []
    unreadable, counted_only = [], []
    for name, database in site_after(plan).databases().items():
        known = then.databases[name].tables
        try:
            now = database.count_all([table.name for table in database.tables()], gently=True)
        except LadderError as fault:  # a broken new version is a reason to go back, not one that keeps from it
            unreadable.append(f"{name}: {fault.problems[0].message}")
            continue
        changes: dict[str, TableChanges] = {}
        differ: set[str] = set()  # and could not be compared row by row
        try:
            volatile = plan.site.database_spec(name).volatile  # rewritten by the application itself
            with _still(plan, name, database, copies or {}) as still:
                there = print_again(still, known, volatile)
                if on_print is not None:
                    on_print(name, there)
                leave_out = {
                    *volatile,
                    *(one for one in known if known[one] == there.get(one) and not known[one].unread),
                }
                differ = (known.keys() | there.keys()) - leave_out
                if differ:
                    see_room(plan, database)
                    changes = {one.table: one for one in still.changes_since(as_left(plan, name), leave_out)}
                    differ = set()
        except (LadderError, OSError) as fault:
            counted_only.append(f"{name}: {fault.problems[0].message if isinstance(fault, LadderError) else fault}")
            drop_scratch(plan)  # what is half made must not take the room that going back needs
        for table in sorted(known.keys() | now.keys()):
            before, after = known[table].rows if table in known else 0, now.get(table, 0)
            found = changes.get(table)
            if found:
                counts = (True, found.added, found.changed, found.deleted)
                tables.append(TablePrice(name, table, before, after, *counts))
            elif before != after or table in differ:
                tables.append(TablePrice(name, table, before, after))
    return Price(tuple(tables), tuple(_changed_files(plan)), tuple(unreadable), tuple(counted_only))


def print_again(
    database: Database, known: Mapping[str, TablePrint], volatile: Sequence[str]
) -> Mapping[str, TablePrint]:
    """What the tables of a database hold now, tied to the keys that they were tied to when they were `known`."""
    ties = Ties({name: one.key for name, one in known.items()}, apart=None)
    return take_fingerprint(database, ties, columns=dict.fromkeys(volatile, ())).tables


def kept_print(plan: Plan, name: str) -> Path:
    """Where it is written down what a database held when it was kept."""
    return plan.folder / FOLDER_NAME / f"fingerprint-{name}.json"


def see_room(plan: Plan, database: Database) -> None:
    """Raise AnswerNo unless both sides of the comparison, and the migrations' journal, fit without filling the disk."""
    disk = os.statvfs(plan.folder)
    free = disk.f_bavail * disk.f_frsize
    wanted = _TIMES_ITS_SIZE * database.size_bytes() + _LEFT_FREE_BYTES
    if free < wanted:
        text = f"comparing the rows would take {bytes_in_words(wanted)}, and {bytes_in_words(free)} are free"
        raise AnswerNo(Problem("disk-full", text, f"free space at {plan.folder}", str(plan.folder)))


def _still(
    plan: Plan, name: str, database: Database, copies: Mapping[str, Database]
) -> AbstractContextManager[Database]:
    """The database as it is now, while it may be written to."""
    if name in copies:
        return contextlib.nullcontext(copies[name])
    return database.held_still(private_folder(plan.folder / SCRATCH_NAME) / f"now-{name}")


def as_left(plan: Plan, name: str, done: Collection[str] | None = None) -> Database:
    """The database as the climb left it: the backup with the migrations applied once more, made once and kept; or from
    a copy that was kept then, where commands had their part in it.

    With `done`, only these migrations: a climb that failed left it part-way. Raises AnswerNo where some were no files
    and no copy was kept.
    """
    site = site_after(plan)
    database = site.databases()[name]
    kept = left_copy(plan, name)
    if done is None and not kept.exists() and any(not one.file for rung in plan.rungs for one in rung.migrations):
        text = f"the release's commands had their part in {name}, and no copy of it was kept when they had ended"
        raise AnswerNo(Problem("not-replayable", text, "the whole database is kept", name))
    wanted = {one.id for rung in plan.rungs for one in rung.migrations if one.database == name and one.file}
    wanted = wanted if done is None else wanted.intersection(done)
    made, whole = _scratch_of(plan, name, len(wanted))
    if not whole.is_file():
        private_folder(made.parent)
        whole.with_suffix(".begun").touch()
        if done is None and kept.exists():
            database.copied_to(kept, made)
            whole.touch()
            return database.opened_scratch(made)
        backup = read_backup(plan.site.state.backups / plan.backup_name)
        scratch = database.copied_to(backup.path / backup.database(name).file, made)
        for rung in plan.rungs:
            ours = [one for one in rung.migrations if one.database == name and one.id in wanted]
            scripts = read_scripts(ours, [migrations_folder(plan.folder, rung.number)], {name: scratch})
            apply_scripts({name: scratch}, scripts, rung.to_version, plan.made_at)
        whole.touch()
    return database.opened_scratch(made)


def has_commands(plan: Plan) -> bool:
    """Whether anything but SQL files has its part in the data, which cannot be done once more for a comparison."""
    return bool(commands_of(plan)) or any(not one.file for rung in plan.rungs for one in rung.migrations)


def left_copy(plan: Plan, name: str) -> Path:
    """Where a copy of a database is kept as the climb left it, in the form of a backup."""
    return plan.folder / LEFT_NAME / f"{name}.{plan.site.databases()[name].ending}"


def keep_as_left(plan: Plan, name: str) -> int:
    """Keep that copy, at rest; returns its bytes. May be repeated."""
    target = left_copy(plan, name)
    private_folder(target.parent)
    begun = target.with_name(f"{target.name}.begun")
    remove_entry(begun)
    try:
        with site_after(plan).databases()[name].backed_up(begun, lambda _done, _total: None, at_rest=True):
            pass
    except BaseException:
        remove_entry(begun)  # where the disk is full, half a copy must not take what room is left
        raise
    remove_entry(target)
    begun.rename(target)
    return sum(one.stat().st_size for one in (target, *target.rglob("*")) if one.is_file())


def drop_left(plan: Plan) -> None:
    """Remove those copies."""
    remove_entry(plan.folder / LEFT_NAME)


def _scratch_of(plan: Plan, name: str, migrations: int) -> tuple[Path, Path]:
    """What the scratch database after so many migrations is known by, and the mark that it is whole."""
    made = plan.folder / SCRATCH_NAME / f"after-{migrations}-of-{name}"
    return made, made.with_name(f"{made.name}.whole")


def drop_scratch(plan: Plan) -> None:
    """Remove what was made for comparing; of a server that cannot be reached, its scratch database stays."""
    if (plan.folder / SCRATCH_NAME).is_dir():
        for name, database in plan.site.databases().items():
            for number in range(sum(len(rung.migrations) for rung in plan.rungs) + 1):
                made, whole = _scratch_of(plan, name, number)
                # A server would be asked for each of them, though only those that were begun are there.
                if made.exists() or whole.with_suffix(".begun").exists():
                    with contextlib.suppress(LadderError):
                        database.drop_scratch(made)
    remove_entry(plan.folder / SCRATCH_NAME)


def _changed_files(plan: Plan) -> list[str]:
    """Files below root, or in data folders outside it, that are new or changed against the new release and the data of
    the backup; and other files outside root that have changed since the backup. What the release makes by itself is
    nobody's loss, nor what commands and starts wrote before users were let in and nobody has touched since.
    """
    expected, made = expected_tree(plan), generated_by(plan.rungs[-1])
    written, then_ns = written_by_commands(plan), _opened_ns(plan)
    found = differing(beside_expected(plan, expected))
    below = [
        (one, was, now)
        for one, was, now in found
        if not within(one.path, made)
        and not (now is not None and now.changed_ns <= then_ns and within(one.path, written))
    ]
    settings = settings_elsewhere(plan)
    beside = [
        (one, was, now)
        for one, was, now in differing(beside_outside(plan))
        if one.change is FileChange.CONTENT
        and not (one.path in settings and now is not None and now.digest == digest_file(settings[one.path]))
    ]
    return [one.path for one, _, now in (*below, *beside) if now is not None and now.kind is not Kind.FOLDER]


def _opened_ns(plan: Plan) -> int:
    """When users were about to be let into the new version; 0 where nothing tells."""
    try:
        opened_at = load_climb(plan.folder).standing.opened_at
    except LadderError:
        return 0
    return int(opened_at.timestamp() * 1e9) if opened_at else 0


def kept_ground(plan: Plan) -> Ground:
    """Where files that were written since are kept: `files/` for those below root, `outside/` for others."""
    folder = plan.folder / FOLDER_NAME
    return Ground(folder / "files", folder / "outside")


def logs_kept(plan: Plan) -> list[Path]:
    """Logs of services as they stood before going back took those of before back."""
    site, ground = plan.site, kept_ground(plan)
    logs = {site.tree_path(site.resolve(site.filled(one.log))) for one in site.record.services if one.log}
    return [ground.at(one) for one in sorted(logs) if nolinks.is_there(ground.at(one))]


def keep_newer(plan: Plan) -> tuple[Price, Path]:
    """Keep what was written since in the climb's folder, and reckon it; the services have stopped. May be repeated.

    The databases are copied whole, rows that came, changed or went are written as CSV, and files are copied.
    """
    site = site_after(plan)
    folder = private_folder(plan.folder / FOLDER_NAME)
    with contextlib.ExitStack() as held:
        copies: dict[str, Database] = {}
        for name, database in site.databases().items():
            target = folder / f"database-{name}.{database.ending}"
            remove_entry(target)
            try:
                kept = database.backed_up(target, lambda _done, _total: None, at_rest=True)
                copies[name] = held.enter_context(kept)
                remove_entry(unread_mark(plan, name))  # of an attempt before its server was mended
            except LadderError as fault:
                remove_entry(target)  # what a copy that failed has left is none
                if is_set_aside(plan, name):
                    # Its server may be what is broken: all that it has written goes aside with its data folder.
                    write_whole(unread_mark(plan, name), f"{fault.problems[0].message}\n".encode())
                else:
                    keep_unreadable(database, fault, folder)
        price = reckon(plan, copies, lambda name, tables: write_json(kept_print(plan, name), _as_record(tables)))
        for name, copy in copies.items():
            _keep_rows(plan, copy, [one for one in price.tables if one.database == name], folder / ROWS_NAME)
    for path in price.files:
        copy_of_it = kept_ground(plan).at(path)
        remove_entry(copy_of_it)  # a copy that a kill left unfinished
        private_folder(copy_of_it.parent)
        copy_entry(Ground(site.root).at(path), copy_of_it)
    os.sync()  # what is kept must be on disk before the steps that follow write over the originals
    return price, folder


def unread_mark(plan: Plan, database: str) -> Path:
    """Says that a database could not be read when going back, so that its server's data folder is kept instead."""
    return plan.folder / FOLDER_NAME / f"unread-{database}.txt"


def _as_record(tables: Mapping[str, TablePrint]) -> Mapping[str, Any]:
    return DatabasePrint(tables).as_record()


def _keep_rows(plan: Plan, now: Database, tables: Sequence[TablePrice], folder: Path) -> None:
    """Write rows that came, changed or went as CSV. The whole database is kept anyway: trouble here ends nothing."""
    changes = [TableChanges(one.table, one.added, one.changed, one.deleted) for one in tables if one.compared]
    if changes:
        with contextlib.suppress(LadderError, OSError):
            then = as_left(plan, now.address.name)
            now.write_changes_since(then, changes, private_folder(folder))


def keep_unreadable(database: Database, fault: LadderError, folder: Path) -> None:
    """Keep a database that its engine could not copy, byte for byte; raises AnswerNo where that would lose it."""
    _refuse_loss(database, fault)
    _keep_as_it_is(database, folder)


def _refuse_loss(database: Database, fault: LadderError) -> None:
    """Raise AnswerNo where what is in a server's database now cannot be kept: going back would be its end.

    Of a file, the bytes are kept; of a database that is not there, nothing can be lost.
    """
    if not database.address.is_file and fault.problems[0].code != "database-missing":
        name = database.address.name
        text = f"what is in the database {name} now cannot be kept: {fault.problems[0].message}"
        remedy = "mend that; or drop that database yourself, if nothing in it is wanted"
        raise AnswerNo(Problem("newer-not-kept", text, remedy, name)) from fault


def _keep_as_it_is(database: Database, folder: Path) -> None:
    """Copy the files of a database that its engine cannot read any more, byte for byte."""
    for path in filter(Path.exists, database.own_files()):
        # In a folder of the database's name: files of two databases may have one name.
        target = private_folder(folder / f"files-of-{database.address.name}") / path.name
        remove_entry(target)
        copy_entry(path, target)
