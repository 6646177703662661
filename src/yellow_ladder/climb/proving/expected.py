"""The tree that a climb should leave: the last staged one, with the data folders as they were backed up."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from yellow_ladder.backup.catalog import Ground, read_backup
from yellow_ladder.backup.outside import beside_data, look_expected, outside_beside_data
from yellow_ladder.climb.record.brought import brought_in_the_end
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.files.beside import Pair, look_beside
from yellow_ladder.files.entry import Entry, Manifest, changed, place_of, within
from yellow_ladder.files.listing import Chosen, InOrder, Listing, in_pairs, merged, spliced
from yellow_ladder.site.site import Site


def site_after(plan: Plan) -> Site:
    """The site as it is after the last rung: moved paths followed."""
    return plan.site_at(plan.rungs[-1])


def data_folders_after(plan: Plan) -> dict[str, str]:
    """Where each data folder lies after the climb, by where it lay before."""
    below = {first: names[-1] for first, names in plan.data_folders()}
    return below | {one: one for one in plan.site.data_outside}  # which no release moves


class ExpectedTree(InOrder):
    """What should be there: the staged entries, and those of each data folder where they lie after the climb; those of
    data folders outside root by whole paths, behind the others.
    """

    def __init__(
        self, staged: Manifest, backup: Listing, data: Mapping[str, str], brought: Mapping[str, Entry]
    ) -> None:
        """Take the staged tree, what was backed up, the new place of each data folder by its old one, and what releases
        brought into them.
        """
        self.backup, self.brought = backup, brought
        self._data = {old: new for old, new in data.items() if not within(old, [one for one in data if one != old])}
        self._inside = tuple(f"{new}/" for new in self._data.values())
        # A release that brings a folder of its data's name has it replaced by the site's.
        self._staged = Chosen(staged, lambda path: not within(path, data.values()))

    def entries(self) -> Iterator[Entry]:
        """Every entry, in order."""
        tops, runs = [], []
        for old, new in self._data.items():
            top = self.backup.get(old)
            if top is not None:
                tops.append((place_of(new), [changed(top, path=new)]))
                runs.append((place_of(f"{new}/"), self._below(old, new)))
        return spliced(self._staged.entries(), [*tops, *runs])

    def _below(self, old: str, new: str) -> Iterator[Entry]:
        coming = [one for path, one in self.brought.items() if path.startswith(f"{new}/")]
        if not coming:
            return self._as_backed_up(old, new)
        as_it_was = (one for one in self._as_backed_up(old, new) if one.path not in self.brought)
        return merged(as_it_was, sorted(coming, key=lambda one: place_of(one.path)))

    def _as_backed_up(self, old: str, new: str) -> Iterator[Entry]:
        for entry in self.backup.below(old):
            same_as = self._after(entry.same_as) if entry.same_as else ""
            is_as_it_was = old == new and same_as == entry.same_as
            yield entry if is_as_it_was else changed(entry, path=new + entry.path[len(old) :], same_as=same_as)

    def _after(self, path: str) -> str:
        """Where another name of a file in a data folder is; what is no data has been replaced, and was no path then."""
        moved = (new + path[len(old) :] for old, new in self._data.items() if within(path, [old]))
        return next(moved, f"//{path}")

    def get(self, path: str, default: Any = None) -> Any:
        """The entry of a path, or the default."""
        if not self.is_data(path):
            return self._staged.get(path, default)
        if path in self.brought:
            return self.brought[path]
        old, new = next((old, new) for old, new in self._data.items() if within(path, [new]))
        found = self.backup.get(old + path[len(new) :])
        return default if found is None else found if old == new else changed(found, path=path)

    def __getitem__(self, path: str) -> Entry:
        """The entry of a path; raises KeyError."""
        found: Entry | None = self.get(path)
        if found is None:
            raise KeyError(path)
        return found

    def data_folder_of(self, path: str) -> str:
        """The data folder that a path lies in, as it is named after the climb; nothing where it lies in none."""
        return next((one for one in self._data.values() if within(path, [one])), "")

    def is_data(self, path: str) -> bool:
        """Whether a path lies in a data folder."""
        return path.startswith(self._inside) or path in self._data.values()


def expected_tree(plan: Plan) -> ExpectedTree:
    """Every entry that should be below root, and in data folders outside it, after the climb."""
    backup = read_backup(plan.site.state.backups / plan.backup_name).manifest()
    return ExpectedTree(plan.expected(plan.rungs[-1]), backup, data_folders_after(plan), brought_in_the_end(plan))


def beside_expected(plan: Plan, expected: ExpectedTree) -> Iterator[Pair]:
    """What is expected below root and in data folders outside it, and what is there now, in order; what nobody has
    touched since `expected` was taken is not read again.
    """
    site = site_after(plan)
    skip, ground = site.skipped(), Ground(site.root)
    below = itertools.takewhile(lambda one: not one.path.startswith("/"), expected.entries())
    yield from look_beside(site.root, skip, below)
    for folder in site.data_outside:
        yield from beside_data(ground, folder, expected.backup, skip)


def beside_outside(plan: Plan) -> Iterator[Pair]:
    """What else was backed up outside root, and what there is of it now, in order."""
    backup = read_backup(plan.site.state.backups / plan.backup_name)
    left = outside_beside_data(backup.manifest(), backup.data)
    return in_pairs(left.entries(), look_expected(Ground(plan.site.root), left))


def settings_elsewhere(plan: Plan) -> dict[str, Path]:
    """Settings files outside root, where they are, with what they are to be after the climb."""
    named = plan.site.record.keep.settings_elsewhere
    found = {str(plan.site.resolve(one)): plan.merged(plan.rungs[-1], one) for one in named}
    return {place: merged for place, merged in found.items() if merged.exists()}
