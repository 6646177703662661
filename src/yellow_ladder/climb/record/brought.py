"""What releases bring into the site's data folders: new files, and newer ones of their own that nobody changed here.

A data folder is the site's, and a new release's own files in it are few: a page of help, a file that forbids a look, a
folder that the program wants to be there. What comes is decided by the backup alone, so that placing and proof, before
a kill and after it, decide alike: a file comes where neither the release before nor the site has one, or where the
site's is still that of the release before.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.files.entry import Entry, Kind, Manifest, changed, within
from yellow_ladder.files.listing import Listing
from yellow_ladder.release.in_data import comes

A_FOLDER = "folder"
"""What a folder is known by, where a file has the digest of its content."""


def apart_of(work: Path, number: int) -> Path:
    """Where what a rung brings into data folders lies until then."""
    return work / f"brought-{number}"


def listing_of(folder: Path, number: int) -> Path:
    """The list of it, by tree paths after that rung; in the climb's folder."""
    return folder / f"brought-{number}.jsonl"


def before_of(folder: Path, number: int) -> Path:
    """What the release before had at each of these paths: a digest, `A_FOLDER`, or nothing."""
    return folder / f"brought-{number}.json"


def brought_by(plan: Plan, rung: RungPlan) -> list[Entry]:
    """What comes with a rung, folders before what is in them, by tree paths after that rung."""
    if not listing_of(plan.folder, rung.number).is_file():
        return []
    return [entry for which, entry, _ in _all_brought(plan) if which.number == rung.number]


def brought_in_the_end(plan: Plan) -> dict[str, Entry]:
    """What there is of it after the last rung, by the tree path then."""
    last = {first: names[-1] for first, names in plan.data_folders()}
    found = {}
    for _, entry, (first, rest) in _all_brought(plan):
        path = last[first] + rest
        found[path] = changed(entry, path=path)
    return found


Place = tuple[str, str]
"""A data folder as it was named before the climb, and the rest of the path."""


def _all_brought(plan: Plan) -> Iterator[tuple[RungPlan, Entry, Place]]:
    if not any(listing_of(plan.folder, rung.number).is_file() for rung in plan.rungs):
        return
    backup = read_backup(plan.site.state.backups / plan.backup_name).manifest()
    there: dict[Place, str] = {}
    folders = plan.data_folders()
    for rung in plan.rungs:
        if not listing_of(plan.folder, rung.number).is_file():
            continue
        was = json.loads(before_of(plan.folder, rung.number).read_bytes())
        names = {names[rung.number - 1]: first for first, names in folders}
        for entry in Listing.opened(listing_of(plan.folder, rung.number)).entries():
            name = next(one for one in names if within(entry.path, [one]))
            place = names[name], entry.path[len(name) :]
            if _comes(place, was[entry.path], backup, there):
                there[place] = _known_by(entry)
                yield rung, entry, place


def _comes(place: Place, was: str, backup: Manifest, there: dict[Place, str]) -> bool:
    first, rest = place
    above = _stands((first, rest.rpartition("/")[0]), backup, there)
    here = _stands(place, backup, there)
    return here != A_FOLDER and comes(here, was, is_folder_there=above == A_FOLDER)


def _stands(place: Place, backup: Manifest, there: dict[Place, str]) -> str:
    if place in there:
        return there[place]
    entry = backup.get(place[0] + place[1])
    return "" if entry is None else _known_by(entry)


def _known_by(entry: Entry) -> str:
    return entry.digest if entry.kind is Kind.FILE else A_FOLDER if entry.kind is Kind.FOLDER else str(entry.kind)
