"""What others wrote between the backup and going back: kept as rows, from the database that was set aside.

Putting a database back sets the present one aside in one instant, where nobody writes to it any more. Whatever was
committed until that instant is in there; it is held against what the climb had made of the backup by then.
"""

from __future__ import annotations

import contextlib
import filecmp
import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yellow_ladder.climb.proving.price import (
    FOLDER_NAME,
    ROWS_NAME,
    as_left,
    keep_unreadable,
    kept_print,
    left_copy,
    print_again,
    see_room,
)
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.database import Database
from yellow_ladder.database.port import TableChanges
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import LadderError
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.services.looking import name_of
from yellow_ladder.site.site import Site
from yellow_ladder.words import count_of

NOBODY_WROTE, NOTHING_ASIDE = "nobody wrote meanwhile", "nothing was set aside"


@dataclass(frozen=True, slots=True)
class Written:
    """Rows of one database that came, changed or went; `where` they are kept; `trouble` where they stay uncompared.

    `with_commands`: the release's commands had been at work by then, and who wrote what cannot be told.
    """

    database: str
    tables: tuple[TableChanges, ...] = ()
    where: str = ""
    trouble: str = ""
    with_commands: bool = False

    @property
    def rows(self) -> int:
        """Rows that came, changed or went."""
        return sum(one.added + one.changed + one.deleted for one in self.tables)

    @property
    def is_kept(self) -> bool:
        """Whether what was set aside is needed no more."""
        return not self.trouble

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)

    def in_words(self) -> str:
        """For people."""
        if self.trouble:
            return f"{self.trouble}; all of it stays in {self.where}"
        if not self.tables:
            return NOBODY_WROTE
        tables = ", ".join(one.table for one in self.tables[:3])
        # First of all whose they may be: on a line that is cut short, they would look like users' rows.
        whose = " by the release's commands or by others" if self.with_commands else ""
        return f"{count_of(self.rows, 'row')}{whose} ({tables}), kept in {self.where}"


def keep_written(plan: Plan, name: str) -> Written | None:
    """Keep the rows of one database that others wrote, from what putting it back has set aside, and let go of that.

    None where nothing lies aside. What cannot be compared stays aside, and says so. May be repeated.
    """
    database = plan.site.databases()[name]
    aside = database.set_aside()
    if aside is None:
        return None
    try:
        if _is_as_kept(plan, name, aside):
            database.drop_leftovers()
            return Written(name)
        see_room(plan, aside)
        done = None if left_copy(plan, name).exists() else {entry.migration for entry in aside.ledger()}
        then = as_left(plan, name, done)
        changes = aside.changes_since(then, plan.site.database_spec(name).volatile)
        folder = _free(plan.folder / FOLDER_NAME / ROWS_NAME)
        if changes:
            aside.write_changes_since(then, changes, private_folder(folder))
            if _is_kept_already(folder):
                remove_entry(folder)
                changes = []
    except (LadderError, OSError) as fault:
        why = fault.problems[0].message if isinstance(fault, LadderError) else str(fault)
        return Written(name, where=aside.address.place, trouble=f"what was written since could not be compared: {why}")
    database.drop_leftovers()
    return Written(name, tuple(changes), str(folder) if changes else "")


def _is_as_kept(plan: Plan, name: str, aside: Database) -> bool:
    """Whether what was set aside holds what the database held when it was kept: nobody has written in between."""
    try:
        kept = DatabasePrint.from_record(json.loads(kept_print(plan, name).read_bytes())).tables
    except (OSError, ValueError, KeyError, TypeError):
        return False  # it was not kept before, or by an earlier build
    volatile = plan.site.database_spec(name).volatile
    there = print_again(aside, kept, volatile)
    return all(kept.get(one) == there.get(one) for one in kept.keys() | there.keys() if one not in volatile)


def _is_kept_already(folder: Path) -> bool:
    """Whether what was kept before the database was put back holds all of it: nobody has written in between."""
    names = [path.name for path in folder.iterdir()]
    others = [one for one in folder.parent.glob(f"{ROWS_NAME}*") if one != folder]
    return any(filecmp.cmpfiles(one, folder, names, shallow=False)[0] == names for one in others)


def writers_to(site: Site) -> list[str]:
    """Who else has the databases open just now, as far as it can be seen."""
    found: list[str] = []
    for name, database in site.databases().items():
        with contextlib.suppress(LadderError, OSError):
            found += [f"{one.who} (on {name})" for one in database.sessions()]
            if database.address.is_file:
                found += [f"{name_of(pid)} (on {name})" for pid in database.holders()]
    return found


def keep_whole(plan: Plan, name: str) -> None:
    """Keep a whole copy of what would be gone otherwise: what lies aside uncompared, or a database that cannot be set
    aside. Raises AnswerNo where it cannot be kept: what follows would be its end.
    """
    database = plan.site.databases()[name]
    source = database.set_aside() or database
    target = _free(private_folder(plan.folder / FOLDER_NAME) / f"whole-{name}.{database.ending}")
    try:
        with source.backed_up(target, lambda _done, _total: None, at_rest=False):
            pass
    except LadderError as fault:
        remove_entry(target)
        keep_unreadable(source, fault, plan.folder / FOLDER_NAME)


def _free(folder: Path) -> Path:
    """The first of `rows`, `rows-2`, … that is not there: each attempt of going back keeps what it found."""
    number, found = 1, folder
    while found.exists():
        number += 1
        found = folder.with_name(f"{folder.stem}-{number}{folder.suffix}")
    return found


def only_added(plan: Plan, name: str, there: Database) -> Sequence[TableChanges] | None:
    """What differs between a database and the backup, where that is rows that came and nothing else; None otherwise.

    What others wrote after a database was put back is in the site, and nothing of before is missing.
    """
    with contextlib.suppress(LadderError, OSError):
        see_room(plan, there)
        changes = there.changes_since(as_left(plan, name, set()), plan.site.database_spec(name).volatile)
        if not any(one.changed or one.deleted for one in changes):
            return changes
    return None
