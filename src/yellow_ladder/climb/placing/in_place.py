"""Placement into a tree that stays: what a release brings comes in place by place, and what it replaces goes aside.

Nothing is remembered between calls: what still lies where it was made ready has not come yet, and what lies aside was
replaced. A place is never empty meanwhile: the old file has a second name aside before the new one takes its first.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.placing.aside import OnTheSameDisk, aside_folder, aside_of, drop_work
from yellow_ladder.climb.placing.bringing import drop_brought, let_brought_come
from yellow_ladder.climb.placing.port import Placed, ShutTree
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.entry import Entry, Kind
from yellow_ladder.files.listing import in_order


class OverlayPlacement(OnTheSameDisk):
    """Only the release's own files are replaced, added and dropped, in a folder that others use too."""

    def bring_in(self, plan: Plan, rung: RungPlan, shut: ShutTree) -> Placed:
        """Let every file come that has not come yet, then drop what the release has no more."""
        root, staged, aside = plan.site.root, Path(rung.staged), aside_of(plan, rung)
        shut(staged)  # root stays, and the flag in it; but settings that come in may say that it is open
        touched: set[Path] = set()
        for entry in in_order(plan.coming(rung)):
            if entry.kind is Kind.FOLDER:
                _let_folder_come(root / entry.path, entry, aside / entry.path)
            elif nolinks.is_there(staged / entry.path):
                let_come(root / entry.path, staged / entry.path, aside / entry.path)
            touched.add((root / entry.path).parent)
        for path in plan.going(rung):
            if nolinks.is_there(root / path) and not nolinks.is_there(aside / path):
                nolinks.make_folders((aside / path).parent, 0o700)
                nolinks.rename(root / path, aside / path)
                touched.add((root / path).parent)
        for path in sorted(_left_empty(plan, rung), key=len, reverse=True):
            if nolinks.is_folder(root / path) and not nolinks.names_in(root / path):
                nolinks.remove_empty_folder(root / path)
        for folder in touched:
            if nolinks.is_folder(folder):
                nolinks.sync_folder(folder)
        return Placed(0, in_one_instant=False, brought=let_brought_come(plan, rung, root))

    def bring_back(self, plan: Plan, shut: ShutTree) -> bool:
        """Take out what has come and give back what lies aside, the last rung's first."""
        del shut
        for rung in reversed(plan.rungs):
            root, staged, aside = plan.site.root, Path(rung.staged), aside_of(plan, rung)
            came = list(in_order(plan.coming(rung)))
            for entry in reversed(came):
                path = entry.path
                if entry.kind is Kind.FOLDER:
                    _take_folder_out(root / path, aside / path)
                    continue
                take_out(root / path, staged / path)
                if nolinks.is_there(aside / path):
                    give_back(root / path, aside / path)
                elif _is_one_file(root / path, staged / path):
                    nolinks.remove_file(root / path)
            for path in plan.going(rung):
                if nolinks.is_there(aside / path):
                    nolinks.make_folders((root / path).parent)
                    give_back(root / path, aside / path)
        os.sync()
        return True

    def drop_passed(self, plan: Plan) -> None:
        """Nothing: what lies aside of any rung may be what was there at first."""

    def drop_newer(self, plan: Plan) -> None:
        """Remove staged files and what lies aside."""
        self.drop_staged(plan)

    def drop_older(self, plan: Plan) -> None:
        """Remove what lies aside, and the folder beside root where there is one."""
        remove_entry(aside_folder(plan))
        drop_brought(plan)
        for rung in plan.rungs:
            remove_entry(Path(rung.staged))
        drop_work(plan)

    def drop_staged(self, plan: Plan) -> None:
        """Remove what was made ready, and what lies aside."""
        self.drop_older(plan)


def let_come(place: Path, new: Path, aside: Path) -> None:
    """Put `new` at `place`; what is there has a second name at `aside` first. May be repeated until `new` has gone."""
    old = nolinks.status_or_none(place)
    if old is not None and not nolinks.is_there(aside):
        nolinks.make_folders(aside.parent, 0o700)
        if stat.S_ISDIR(old.st_mode):
            nolinks.rename(place, aside)
        else:
            try:
                nolinks.make_second_name(aside, place)
            except OSError:  # a file system without second names, or a kernel that guards them
                nolinks.rename(place, aside)
    nolinks.make_folders(place.parent)
    nolinks.rename(new, place)


def take_out(place: Path, new: Path) -> None:
    """Let what came lie where it was made ready again, so that it is known for what it is when this is begun anew."""
    if nolinks.is_there(new) or not nolinks.is_there(place):
        return
    nolinks.make_folders(new.parent, 0o700)
    try:
        nolinks.make_second_name(new, place)
    except OSError:
        nolinks.rename(place, new)


def _is_one_file(one: Path, other: Path) -> bool:
    """Whether two names are the same file's."""
    first, second = nolinks.status_or_none(one), nolinks.status_or_none(other)
    return first is not None and second is not None and (first.st_ino, first.st_dev) == (second.st_ino, second.st_dev)


def give_back(place: Path, aside: Path) -> None:
    """Put back what lies aside, over what has come in its place."""
    if _is_one_file(place, aside):
        nolinks.remove_file(aside)  # killed before the new one came: both names are the old file's
        return
    there, old = nolinks.status_or_none(place), nolinks.status_of(aside)
    if there is not None and stat.S_ISDIR(there.st_mode) != stat.S_ISDIR(old.st_mode):
        nolinks.remove_all(place)
    nolinks.rename(aside, place)


def _let_folder_come(place: Path, entry: Entry, aside: Path) -> None:
    if nolinks.is_folder(place):
        return
    if nolinks.is_there(place) and not nolinks.is_there(aside):  # a file or link where a folder comes
        nolinks.make_folders(aside.parent, 0o700)
        nolinks.rename(place, aside)
    nolinks.make_folder(place, entry.mode, exist_ok=True)
    nolinks.set_owner(place, entry.uid, entry.gid)
    nolinks.set_mode(place, entry.mode)


def _take_folder_out(place: Path, aside: Path) -> None:
    """Remove a folder that came and is empty by now; one that others use as well stays."""
    status = nolinks.status_or_none(aside)
    if status is not None and not stat.S_ISDIR(status.st_mode):
        nolinks.remove_all(place)
        nolinks.rename(aside, place)


def _left_empty(plan: Plan, rung: RungPlan) -> Iterator[str]:
    """Folders that held nothing but what went, from the innermost out."""
    coming = plan.coming(rung)
    seen = set()
    for path in plan.going(rung):
        folder = path.rpartition("/")[0]
        while folder and folder not in seen:
            seen.add(folder)
            if folder not in coming:
                yield folder
            folder = folder.rpartition("/")[0]
