"""Looks at what lies outside root: of files that belong to the site, at those that were backed up; of its data folders,
at all that is in them.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import Ground, outside_root
from yellow_ladder.files.attributes import read_attributes
from yellow_ladder.files.beside import Pair, look_beside
from yellow_ladder.files.entry import Entry, Kind, Manifest, changed, describe, within
from yellow_ladder.files.listing import Chosen, Listing, in_order, merged
from yellow_ladder.files.manifest import Skip, digest_file


def look_outside(ground: Ground, backed_up: Listing, data: Sequence[str], skip: Skip) -> Iterator[Entry]:
    """What is outside root now, in order: what there is of what was backed up there, and everything in the folders
    `data` but for what `skip` leaves out. What nobody has touched is the same object that was listed.
    """
    inside = ((new for _, new in beside_data(ground, folder, backed_up, skip) if new is not None) for folder in data)
    return merged(look_expected(ground, outside_beside_data(backed_up, data)), *inside)


def outside_beside_data(backed_up: Manifest, data: Sequence[str]) -> Chosen:
    """What was backed up outside root, without the folders `data`."""
    return Chosen(outside_root(backed_up), lambda path: not within(path, data))


def beside_data(ground: Ground, folder: str, backed_up: Listing, skip: Skip) -> Iterator[Pair]:
    """A data folder outside root and all in it, each entry as it was backed up and as it is, in order."""
    location, before = ground.at(folder), backed_up.get(folder)
    now = as_it_is(folder, location, before) if nolinks.is_there(location) else None
    if before is not None or now is not None:
        yield before, now
    below = backed_up.below(folder)
    if now is not None and now.kind is Kind.FOLDER:
        yield from look_beside(location, skip, below, folder)
    else:
        yield from ((one, None) for one in below)


def look_expected(ground: Ground, expected: Manifest) -> Iterator[Entry]:
    """What there is of the expected entries; what is reached through a link in a folder's place is not."""
    folders: set[str] = set()
    parent, is_cut_off = "", False
    for before in in_order(expected):
        path = before.path
        if path.rpartition("/")[0] != parent:
            parent = path.rpartition("/")[0]
            is_cut_off = parent in expected and parent not in folders
        if not is_cut_off and nolinks.is_there(ground.at(path)):
            entry = as_it_is(path, ground.at(path), before)
            if entry.kind is Kind.FOLDER:
                folders.add(path)
            yield entry


def as_it_is(path: str, location: Path, before: Entry | None) -> Entry:
    """One entry as it is now; what is as it was `before` is not read again."""
    entry = describe(path, location)
    is_untouched = before is not None and entry.untouched_since(before)
    if entry.kind is Kind.FILE:
        is_known = is_untouched and before is not None and before.digest
        entry = changed(entry, digest=before.digest if is_known and before else digest_file(location))
    if before is not None and before.attributes is not None and entry.kind is not Kind.LINK:
        entry = changed(entry, attributes=before.attributes if is_untouched else read_attributes(location))
    return entry
