"""Makes ready what a release brings into the site's data folders, in which everything else is the site's."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.record.brought import A_FOLDER, apart_of, before_of, listing_of
from yellow_ladder.durable import write_json
from yellow_ladder.files.archives.unpack import Content
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.entry import Kind, kind_of, within
from yellow_ladder.files.listing import Chosen, in_order, write_listing
from yellow_ladder.files.manifest import Skip, take_manifest, walk_tree
from yellow_ladder.release.in_data import folders_of

Contents = Mapping[str, Content]


def leave_what_may_come(
    staged: Path, folder: str, before: Path, contents: Contents, earlier: Contents | None, skip: Skip
) -> dict[str, str]:
    """Take out of a staged data folder all but what may come into the site's: files that the release before had
    otherwise, or not at all. Returns what that had at each path that is left.

    `folder` is its path in the staged tree and `before` where the site's lies; `earlier` is what the release before
    had in its own folder of that name, by the paths of `contents`. Where nobody knows that, only new folders come.
    """
    if not nolinks.is_folder(staged / folder):
        remove_entry(staged / folder)
        return {}
    found = [(path, kind_of(one.status.st_mode)) for path, one in walk_tree(staged / folder, called=folder)]
    passed_over = {path for path, _ in found if skip(path)}
    looked_at = [one for one in found if not within(one[0], passed_over)]
    left = _may_come(looked_at, before, len(folder) + 1, contents, earlier)
    above = folders_of(left)
    for path, kind in reversed(found):
        if path not in left and path not in above:
            remove_entry(staged / path)
        elif kind is Kind.FOLDER:
            left.setdefault(path, A_FOLDER)
    return left


def _may_come(
    found: Iterable[tuple[str, Kind]], before: Path, start: int, contents: Contents, earlier: Contents | None
) -> dict[str, str]:
    known, left = folders_of(earlier or ()), dict[str, str]()
    for path, kind in found:
        if kind is Kind.FOLDER and path not in known and not nolinks.is_there(before / path[start:]):
            left[path] = ""
        if kind is Kind.FILE and path in contents:
            had = earlier[path].what if earlier is not None and path in earlier else ""
            is_told = earlier is not None or path.rpartition("/")[0] in left
            if is_told and had != contents[path].what:
                left[path] = had
    return left


def set_apart(
    staged: Path, number: int, folder: Path, work: Path, data: Collection[str], was: Mapping[str, str]
) -> None:
    """Put what may come where it waits, with the rights that it has by now, and write it down."""
    found = Chosen(take_manifest(staged), lambda path: path in was)
    entries = [one for one in in_order(found) if one.path in was]
    if entries:
        write_listing(listing_of(folder, number), entries)
        write_json(before_of(folder, number), {one.path: was[one.path] for one in entries})
    apart = apart_of(work, number)
    remove_entry(apart)
    for name in data:
        if nolinks.is_folder(staged / name) and entries:
            nolinks.make_folders((apart / name).parent, 0o700)
            nolinks.rename(staged / name, apart / name)
        else:
            remove_entry(staged / name)
