"""Makes ready what comes into a tree that stays where it is: a release's own files, or a link and settings alone."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.planning.bringing import set_apart
from yellow_ladder.climb.planning.staging import (
    CARRIED_KINDS,
    Carried,
    put_settings,
    set_rights,
    skipped_in,
    what_may_come,
)
from yellow_ladder.durable import write_json, write_whole
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.archives.unpack import unpack_archive
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.entry import Entry, Kind, Manifest, within
from yellow_ladder.files.listing import Chosen, Listing, in_order, side_by_side, write_listing
from yellow_ladder.files.manifest import Skip, take_manifest, with_what_is_below
from yellow_ladder.release.source import Releases
from yellow_ladder.route import Rung
from yellow_ladder.site.pointer import folder_for, said_by, turned
from yellow_ladder.site.records import Pointer
from yellow_ladder.survey.drift.reference import package_contents

Pairs = tuple[tuple[str, str], ...]


@dataclass(slots=True)
class Staying:
    """What goes from rung to rung of a tree that stays: how it stands by now, and what of it is the release's."""

    carried: Carried
    base: Manifest
    theirs: Collection[str] = ()
    said: str = ""
    release: str = ""
    data: Pairs = field(default=())


def begin_staying(carried: Carried, releases: Releases) -> Staying:
    """Start with the tree as it is; raises AnswerNo where it is not known which files of it are the release's."""
    site = carried.site
    folders = [path for path in site.record.keep.data_paths if nolinks.is_there(site.root / path)]
    release = site.release_path
    base = Chosen(carried.survey.manifest, lambda path: not within(path, [*folders, release] if release else folders))
    staying = Staying(carried, base, data=tuple((one, one) for one in folders), release=release)
    if site.record.pointing is not None:
        staying.said = said_by(site.root, site.record.pointing)
    else:
        version = carried.survey.version
        installed = releases.of(version) if version else None
        if installed is None or installed.is_built or not installed.archive.is_file():
            text = f"nothing tells which files of {site.root} are those of {version}: its package is not at hand"
            remedy = f"put the archive of {version} into {releases.source}"
            raise AnswerNo(Problem("release-unknown", text, remedy, str(site.root)))
        staying.theirs = set(package_contents(installed, site.state.memory))
    return staying


def stage_overlay(rung: Rung, number: int, staged: Path, folder: Path, staying: Staying) -> None:
    """Unpack a release into the new folder `staged`, without what the site has of its own in its places, and with its
    settings; what it changes is left there. Writes what comes, what goes and what will be into `folder`.
    """
    carried = staying.carried
    site, sheet = carried.site, rung.release.sheet
    remove_entry(staged)  # a kill may have left a part of it
    nolinks.make_folder(staged, 0o700)
    unpack_archive(rung.release.archive, staged, rung.release.limits, sheet.archive.inside)
    before = carried.where
    carried.step_on(sheet)
    keep = site.record.keep
    own = [path for kind in CARRIED_KINDS for path in getattr(keep, kind) if nolinks.is_there(site.root / path)]
    own += [one.path for one in carried.survey.addons if one.origin != "bundled"]
    # A cache that is there stays as it is; one that is not comes with the release.
    caches = [path for path in skipped_in(staged, site.skipped()) if nolinks.is_there(site.root / path)]
    coming: dict[str, str] = {}
    for path in keep.data_paths:
        if carried.where(path) == path:  # in a folder that stays no data are moved
            coming |= what_may_come(rung, staged, path, before, carried)
        else:
            remove_entry(staged / path)
    carried.shipped = package_contents(rung.release, site.state.memory)
    for path in [*keep.shared_with, *map(carried.where, [*own, *keep.left_out]), *caches]:
        remove_entry(staged / path)
    moved = [path for path in own if carried.where(path) != before(path)]
    for path in moved:
        nolinks.make_folders((staged / carried.where(path)).parent)
        copy_entry(site.root / path, staged / carried.where(path))
    kept = put_settings(staged, str(rung.to_version), carried)
    kept |= {carried.where(path) for path in moved}
    set_rights(staged, carried, kept)
    set_apart(staged, number, folder, staged.parent, keep.data_paths, coming)
    release = take_manifest(staged)
    theirs = {one.path for one in in_order(release) if one.kind is not Kind.FOLDER}
    settings = [one.file for one in keep.merged]
    named = [*map(before, (*settings, *own)), *keep.data_paths, *keep.shared_with]
    gone = [path for path in sorted(set(staying.theirs) - theirs) if not within(path, named)]
    left = [before(path) for path in (*settings, *moved) if carried.where(path) != before(path)]
    gone += [
        one.path for one in in_order(staying.base) if left and one.kind is not Kind.FOLDER and within(one.path, left)
    ]
    _write_down(number, staged, folder, staying, gone)
    staying.theirs = theirs


def stage_pointer(rung: Rung, number: int, staged: Path, folder: Path, staying: Staying) -> str:
    """Make the turned link or file and the settings ready; returns the tree path where the release itself will be made.
    For a passage nothing is turned.

    Raises AnswerNo where something lies there already.
    """
    carried, site = staying.carried, staying.carried.site
    pointing = site.record.pointing or Pointer()
    remove_entry(staged)
    nolinks.make_folder(staged, 0o700)
    path = folder_for(pointing, str(rung.to_version))
    if nolinks.is_there(site.root / path):
        text = f"{site.root / path} is there already, and {rung.to_version} is to be made there"
        raise AnswerNo(Problem("release-there", text, "see what it is; rename or remove it", str(site.root / path)))
    if not rung.release.sheet.reach.passage:
        staying.said = turned(pointing, staying.said, staying.release, path)
        nolinks.make_folders((staged / pointing.turns).parent)
        if pointing.file:
            write_whole(staged / pointing.file, staying.said.encode())
        else:
            nolinks.make_link(staged / pointing.link, staying.said)
        staying.release = path
    kept = put_settings(staged, str(rung.to_version), carried)
    set_rights(staged, carried, kept)
    _write_down(number, staged, folder, staying, [])
    return path


def _write_down(number: int, staged: Path, folder: Path, staying: Staying, gone: list[str]) -> None:
    """Leave in `staged` only what changes something, and write down what comes, what goes, and what will be."""
    base = staying.base
    gone = [path for path in gone if path in base]
    coming = []
    for one in in_order(take_manifest(staged)):
        there = base.get(one.path)
        if there is not None and (one.kind is there.kind is Kind.FOLDER or _is_same(there, one)):
            if one.kind is not Kind.FOLDER:
                remove_entry(staged / one.path)
            continue
        coming.append(one)
    write_listing(folder / f"coming-{number}.jsonl", coming)
    write_json(folder / f"going-{number}.json", gone)
    after = folder / f"around-{number}.jsonl"
    alone = staying.carried.site.tree_rules().alone  # no file of the site's, like a database's own, and yet there
    others = [*(old for old, _ in staying.data), *alone]
    write_listing(after, _after(base, Listing.opened(folder / f"coming-{number}.jsonl"), gone, others))
    staying.base = Listing.opened(after)


def _is_same(old: Entry, new: Entry) -> bool:
    return old.same_content(new) and old.same_rights(new)


def _after(base: Manifest, coming: Manifest, gone: Iterable[str], others: Iterable[str]) -> Iterator[Entry]:
    """The tree when all has come and gone; folders that are left empty by that, and hold none of `others`, are gone
    as well.
    """
    left = set(gone)
    emptied = _emptied(base, coming, left) - {folder for path in others for folder in _above(path)}
    for old, new in side_by_side(base, coming):
        if new is not None:
            yield new
        elif old is not None and old.path not in left and old.path not in emptied:
            yield old


def _emptied(base: Manifest, coming: Manifest, gone: set[str]) -> set[str]:
    """Folders above what went that hold nothing by then."""
    above = {folder for path in gone for folder in _above(path)}
    if not above:
        return set()
    held: set[str] = set()
    for entry in in_order(coming):
        held |= above.intersection({entry.path, *_above(entry.path)})
    for entry in in_order(base):
        if entry.path not in gone and not (entry.kind is Kind.FOLDER and entry.path in above):
            held |= above.intersection(_above(entry.path))
    return above - held


def _above(path: str) -> Iterator[str]:
    """The folders that a path lies in."""
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def expected_overlay(folder: Path, number: int, skip: Skip) -> Iterator[Entry]:
    """What will be when a rung is done, of a release without a folder of its own; without what `skip` leaves out."""
    is_left_out = with_what_is_below(skip)
    entries = Listing.opened(folder / f"around-{number}.jsonl").entries()
    return (one for one in entries if not is_left_out(one.path))
