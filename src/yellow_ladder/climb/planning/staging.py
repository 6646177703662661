"""Makes the new tree of a rung ready beside the site, while the site serves: files, settings, add-ons, rights."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.planning.bringing import Contents, leave_what_may_come, set_apart
from yellow_ladder.files.archives.unpack import unpack_archive
from yellow_ladder.files.attributes import Attributes, inherited, match_attributes, read_attributes
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.entry import Entry, Kind, Manifest, describe, entry_from, within
from yellow_ladder.files.listing import Chosen
from yellow_ladder.files.manifest import Skip, take_manifest, walk_tree
from yellow_ladder.release.moves import moved
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.route import Rung
from yellow_ladder.settings.forecast import Forecast
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Survey
from yellow_ladder.survey.drift.reference import package_contents

_WITH_OWNERS_RIGHTS = stat.S_ISUID | stat.S_ISGID
CARRIED_KINDS = ("keys", "licences", "assets")


@dataclass
class Carried:
    """What goes from rung to rung: where each old path lies by now, and the settings' text so far."""

    site: Site
    survey: Survey
    forecast: Forecast
    where: Callable[[str], str] = lambda path: path
    shipped: Contents | None = None
    """What the release that the tree is of by now shipped, where that is known."""

    @cached_property
    def outside_data(self) -> Mapping[str, Entry]:
        """The site's entries that lie in no data folder."""
        return {path: one for path, one in self.survey.manifest.items() if not self.site.is_data(path)}

    def step_on(self, sheet: ReleaseSheet) -> None:
        """Follow the paths that a release moves."""
        before, moves = self.where, sheet.files.moved
        self.where = lambda path: moved(before(path), moves)


def stage_rung(rung: Rung, number: int, staged: Path, folder: Path, carried: Carried) -> tuple[tuple[str, str], ...]:
    """Unpack a release into the new folder `staged` and put in all that is the site's own; what it brings into data
    folders is set apart beside it and written down in `folder`.

    Returns the data folders as (path before the rung, path after it); their content stays in the site until the
    window. Raises BadInput or AnswerNo, and leaves `staged` to be removed.
    """
    sheet = rung.release.sheet
    # A kill may have left a part of it.
    remove_entry(staged)
    nolinks.make_folder(staged, 0o700)
    before = carried.where
    unpack_archive(rung.release.archive, staged, rung.release.limits, sheet.archive.inside)
    carried.step_on(sheet)
    for path in carried.site.record.keep.left_out:
        remove_entry(staged / carried.where(path))
    data, coming = _make_way_for_data(rung, staged, before, carried)
    kept = _put_own_files(staged, carried)
    kept |= put_settings(staged, str(rung.to_version), carried)
    set_rights(staged, carried, kept)
    set_apart(staged, number, folder, staged.parent, [new for _, new in data], coming)
    return data


def _make_way_for_data(
    rung: Rung, staged: Path, before: Callable[[str], str], carried: Carried
) -> tuple[tuple[tuple[str, str], ...], dict[str, str]]:
    """Take the release's own version of each data folder out: the site's will come in its place. So will a database
    that is a file among those of the release; what its engine puts beside it may come and go until then. What may come
    into a data folder is left, and returned with what the release before had in its place.
    """
    site, after = carried.site, carried.where
    pairs, coming = [], dict[str, str]()
    for folder in site.record.keep.data_paths:
        if nolinks.is_there(site.root / folder):
            coming |= what_may_come(rung, staged, folder, before, carried)
            nolinks.make_folders((staged / after(folder)).parent)
            pairs.append((before(folder), after(folder)))
    for file in site.single_database_files:
        remove_entry(staged / file)
        nolinks.make_folders((staged / file).parent)
        pairs.append((file, file))
    carried.shipped = package_contents(rung.release, site.state.memory)
    return tuple(pairs), coming


def what_may_come(
    rung: Rung, staged: Path, folder: str, before: Callable[[str], str], carried: Carried
) -> dict[str, str]:
    """Leave of a staged data folder what may come into the site's; returns what the release before had in its place.
    Nothing comes into one that the release makes anew, that is not there yet, or that is a link.
    """
    site, after, was = carried.site, carried.where(folder), before(folder)
    is_made_anew = {was, after} & {one.folder for one in rung.release.sheet.remade}
    if is_made_anew or not nolinks.is_folder(site.root / folder):
        remove_entry(staged / after)
        return {}
    keep = site.record.keep
    named = [*keep.logs, *(one.file for one in keep.merged)]
    named += [path for kind in CARRIED_KINDS for path in getattr(keep, kind)]
    skip, own = site.skipped(), list(map(carried.where, named))
    earlier = None
    if carried.shipped is not None:
        earlier = {after + path[len(was) :]: one for path, one in carried.shipped.items() if within(path, [was])}
    contents = package_contents(rung.release, site.state.memory)
    return leave_what_may_come(
        staged, after, site.root / folder, contents, earlier, lambda path: skip(path) or within(path, own)
    )


def _put_own_files(staged: Path, carried: Carried) -> set[str]:
    """Copy keys, licences, assets, third-party add-ons and, where wanted, unclaimed files; returns their new paths."""
    survey, keep = carried.survey, carried.site.record.keep
    paths = [path for kind in CARRIED_KINDS for path in getattr(keep, kind)]
    bundled = [addon.path for addon in survey.addons if addon.origin == "bundled"]
    paths += [addon.path for addon in survey.addons if addon.path not in bundled]
    paths += [path for path in survey.files.kept.get("addons", ()) if within(path, bundled)]
    if keep.unclaimed == "carry":
        paths += survey.files.unclaimed
    placed: set[str] = set()
    for path in paths:
        if within(path, keep.data_paths):
            continue  # it comes with its folder
        source, target = carried.site.root / path, carried.where(path)
        if not nolinks.is_there(source):
            continue
        remove_entry(staged / target)
        nolinks.make_folders((staged / target).parent)
        copy_entry(source, staged / target)
        placed.add(target)
    return placed


def put_settings(staged: Path, version: str, carried: Carried) -> set[str]:
    """Write the site's settings, merged as was foreseen, with owner and mode of the site's file; a new one has those of
    the first that is there.
    """
    placed: set[str] = set()
    for one in carried.forecast.files:
        raw, target = one.after.get(version), carried.where(one.file)
        # A later release brings it; or it lies outside root, and is put in place by itself.
        if raw is None or target.startswith("/"):
            continue
        # What is new may hold what stood in another file: it is for the same eyes.
        like = next((own.file for own in carried.forecast.files if not own.is_new), "") if one.is_new else one.file
        status = nolinks.status_of(nolinks.trusted(carried.site.root / like))
        bits = status.st_mode & (0o7777 if stat.S_ISREG(status.st_mode) else 0o640)
        location = staged / target
        nolinks.make_folders(location.parent)
        remove_entry(location)
        with os.fdopen(nolinks.open_file(location, os.O_WRONLY | os.O_CREAT | os.O_EXCL), "wb") as stream:
            stream.write(raw)
            os.fchown(stream.fileno(), status.st_uid, status.st_gid)
            os.fchmod(stream.fileno(), bits)
        placed.add(target)
    return placed


def set_rights(staged: Path, carried: Carried, kept: set[str]) -> None:
    """Give every entry that was there before its owner and mode from then, and new ones their surroundings'."""
    site = carried.site
    root = describe("", site.root)
    uid, gid = site.wanted_owner()
    entries = [
        ("", describe("", staged)),
        *((path, entry_from(path, e.status, e.location)) for path, e in walk_tree(staged)),
    ]
    old = _as_they_were(carried, {path for path, _ in entries})
    given: dict[str, Entry] = {}
    of_folders: dict[str, Attributes] = {}
    for path, entry in entries:
        if path and within(path, kept) and path not in old:
            given[path] = entry
            continue
        parent = given.get(path.rpartition("/")[0], root)
        model = root if path == "" else old.get(path)
        if model is not None and model.kind is entry.kind:
            rights = (model.uid, model.gid, model.mode | _newly_executable(model, entry))
        else:
            # A folder that the archive only implies has the bits that this account's umask left.
            bits = 0o755 if entry.kind is Kind.FOLDER else entry.mode
            rights = (parent.uid, parent.gid, bits & _allowed(parent))
        owner = (rights[0] if uid is None else uid, rights[1] if gid is None else gid)
        mode = rights[2] if within(path, kept) else _wanted_mode(site, entry.kind, rights[2])
        if entry.kind is Kind.FILE and owner != rights[:2]:
            # A program that runs with its owner's rights must not come to run with another's: its owner wrote it.
            mode &= ~_WITH_OWNERS_RIGHTS
        location = staged / path
        is_changed = _give_rights(location, entry, owner, mode)
        if entry.kind is not Kind.LINK:
            if model is not None and model.kind is entry.kind:
                match_attributes(location, read_attributes(site.root / model.path))
            elif path:
                folder = path.rpartition("/")[0]
                if folder not in of_folders:
                    of_folders[folder] = read_attributes(staged / folder)
                _inherit_list(of_folders[folder], location, entry.kind, mode)
        given[path] = describe(path, location) if is_changed else entry


def _give_rights(location: Path, entry: Entry, owner: tuple[int, int], mode: int) -> bool:
    """Give an entry owner and mode where it has others; whether it had. Most of a large tree is as it should be."""
    is_link = entry.kind is Kind.LINK
    if owner == (entry.uid, entry.gid) and (is_link or mode == entry.mode):
        return False
    nolinks.set_owner(location, *owner)
    if not is_link:
        nolinks.set_mode(location, mode)  # after the owner, which takes some bits away
    return True


def _inherit_list(of_folder: Attributes, location: Path, kind: Kind, mode: int) -> None:
    """Give a new entry the access control list that its folder has for what is made in it, as the kernel would
    (acl(5)); it was unpacked before its folder had one.
    """
    wanted = inherited(of_folder, is_folder=kind is Kind.FOLDER)
    if wanted:
        match_attributes(location, wanted)
        nolinks.set_mode(location, mode)  # it narrows the list to what the mode allows


def _as_they_were(carried: Carried, wanted: set[str]) -> Mapping[str, Entry]:
    """The site's entries that are at `wanted` paths by now. Uploads may be millions, and a release seldom has a file
    among them.
    """
    folders = [carried.where(one) for one in carried.site.record.keep.data_paths]
    known = carried.survey.manifest if any(within(path, folders) for path in wanted) else carried.outside_data
    placed = ((carried.where(path), entry) for path, entry in known.items())
    return {path: entry for path, entry in placed if path in wanted}


def _newly_executable(model: Entry, entry: Entry) -> int:
    """Execute bits for those who may read, when the release makes a file executable that was not."""
    if entry.kind is Kind.FILE and entry.mode & 0o100 and not model.mode & 0o111:
        return (model.mode & 0o444) >> 2
    return 0


def _allowed(parent: Entry) -> int:
    """Bits that a new entry may have: no more readers than its folder has, and no new writers."""
    mask = 0o755
    if not parent.mode & 0o050:
        mask &= ~0o070
    if not parent.mode & 0o005:
        mask &= ~0o007
    return mask | (parent.mode & 0o020)


def _wanted_mode(site: Site, kind: Kind, mode: int) -> int:
    text = site.record.folder_mode if kind is Kind.FOLDER else site.record.file_mode
    return int(text, 8) if text else mode


def renamed_paths(site: Site, carried: Carried) -> Mapping[str, str]:
    """Paths in the site file that the releases on the route move."""
    keep = site.record.keep
    named = [spec.file for spec in keep.merged] + [p.file for p in site.record.versions if p.file]
    named += [check.files_in for check in site.record.checks if check.files_in]
    named += [path for kind in ("data", "logs", "addons", "left_out", *CARRIED_KINDS) for path in getattr(keep, kind)]
    named += [path for path in keep.caches if "/" in path]
    return {path: carried.where(path) for path in named if carried.where(path) != path}


def staged_entries(staged: Path, data: tuple[tuple[str, str], ...], skip: Skip) -> Manifest:
    """The staged tree without what lies in data folders, and without what is no file of the site's once it is there: a
    release may bring a cache, and from then on it comes and goes.
    """
    folders = [new for _, new in data]
    return Chosen(take_manifest(staged, skip), lambda path: not within(path, folders))


def skipped_in(staged: Path, skip: Skip) -> list[str]:
    """What a release brings that is no file of the site's, like a cache: files, and folders as a whole."""
    found: list[str] = []

    def is_skipped(path: str) -> bool:
        if skip(path):
            found.append(path)
            return True
        return False

    for _ in walk_tree(staged, is_skipped):
        pass
    return found
