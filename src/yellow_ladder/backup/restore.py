"""Makes files what a backup says they were: only what differs is written, and what does not belong there is removed."""

from __future__ import annotations

import os
from collections.abc import Collection
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import ROOT_PREFIX, Backup, Ground
from yellow_ladder.backup.reading import path_of_member
from yellow_ladder.durable import private_folder, sync_folder
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.files.archive_read import open_members
from yellow_ladder.files.attributes import match_attributes
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import (
    Entry,
    FileChange,
    Kind,
    Manifest,
    Skip,
    compare_manifests,
    describe,
    digest_file,
    keep_all,
    take_manifest,
)

# The smallest block that file systems leave out.
_HOLE_BYTES = 4096


@dataclass(frozen=True, slots=True)
class Restored:
    """What a restore did, in entries."""

    written: int
    removed: int
    rights_set: int


def restore_files(backup: Backup, ground: Ground, skip: Skip, *, rescue: Ground | None = None) -> Restored:
    """Make the tree and the files outside it equal to the backup; may be repeated after a crash.

    Files that would be written over or removed are kept on the ground `rescue` first, where one is given.
    Raises AnswerNo when something is not equal afterwards.
    """
    root = ground.root
    manifest = backup.manifest()
    inside = {path: entry for path, entry in manifest.items() if not path.startswith("/")}
    outside = {path: entry for path, entry in manifest.items() if path.startswith("/")}
    nolinks.make_folder(root, exist_ok=True)
    found = take_manifest(root, skip, known=inside)
    found_outside = look_outside(ground, outside)
    if rescue is not None:
        _keep_what_would_go(ground, manifest, found | found_outside, rescue)
        os.sync()  # a power cut must not take the copy and the original
    removed = _remove_strangers(root, inside, found) + _remove_other_kinds(ground, outside, found_outside)
    wanted = _wanted(inside, found) | _wanted(outside, found_outside)
    _make_folders(ground, manifest, wanted)
    _extract(backup, ground, wanted, manifest)
    rights = _set_rights(ground, manifest)
    own = backup.facts.get(ROOT_PREFIX)
    now = nolinks.status_of(root)
    if own and (now.st_uid, now.st_gid, now.st_mode & 0o7777) != (own["uid"], own["gid"], own["mode"]):
        nolinks.set_owner(root, own["uid"], own["gid"])
        nolinks.set_mode(root, own["mode"])
    _check_equal(inside, take_manifest(root, skip, known=inside), root)
    _check_equal(outside, look_outside(ground, outside), ground.outside)
    os.sync()
    return Restored(len(wanted), removed, rights)


def _keep_what_would_go(ground: Ground, expected: Manifest, found: Manifest, rescue: Ground) -> None:
    """Copy files that are new or changed against the backup, before anything is written over them."""
    for path, entry in found.items():
        before = expected.get(path)
        is_file = entry.kind in (Kind.FILE, Kind.LINK)
        goes_whole = path.startswith("/") and before is not None and before.kind is not entry.kind
        if (is_file and not (before and entry.same_content(before))) or goes_whole:
            target = rescue.at(path)
            private_folder(target.parent)
            if entry.kind is Kind.FOLDER:
                # It may be what a kill has left of one that an earlier run kept whole.
                while nolinks.is_there(target):
                    target = target.with_name(target.name + "~")
            remove_entry(target)
            copy_entry(ground.at(path), target)


def look_outside(ground: Ground, expected: Manifest) -> dict[str, Entry]:
    """What there is of the expected entries outside root; what is reached through a link in a folder's place is not."""
    found: dict[str, Entry] = {}
    for path, before in sorted(expected.items()):
        parent = path.rpartition("/")[0]
        is_cut_off = parent in expected and (parent not in found or found[parent].kind is not Kind.FOLDER)
        if not is_cut_off and nolinks.is_there(ground.at(path)):
            entry = describe(path, ground.at(path))
            if entry.kind is Kind.FILE:
                is_known = before.digest and entry.untouched_since(before)
                entry = replace(entry, digest=before.digest if is_known else digest_file(ground.at(path)))
            found[path] = entry
    return found


def _remove_other_kinds(ground: Ground, expected: Manifest, found: Manifest) -> int:
    """Remove what stands outside root in place of something of another kind."""
    others = [path for path, entry in found.items() if expected[path].kind is not entry.kind]
    for path in others:
        remove_entry(ground.at(path))
    return len(others)


def _remove_strangers(root: Path, expected: Manifest, found: Manifest) -> int:
    """Remove what the backup does not have, and what is of another kind there; deepest first."""
    strange = [path for path, entry in found.items() if path not in expected or expected[path].kind is not entry.kind]
    for path in sorted(strange, key=lambda one: -one.count("/")):
        location = root / path
        if not nolinks.is_folder(location):
            remove_entry(location)
            continue
        try:
            nolinks.remove_empty_folder(location)
        except OSError:  # it holds something that is not the tree's, such as a pid file
            if path in expected:
                remove_entry(location)
    return len(strange)


def _wanted(expected: Manifest, found: Manifest) -> set[str]:
    changed = (FileChange.MISSING, FileChange.CONTENT)
    wanted = {one.path for one in compare_manifests(expected, found) if one.change in changed and one.path in expected}
    return wanted | _wanted_links(expected, found, wanted)


def _wanted_links(expected: Manifest, found: Manifest, wanted: Collection[str]) -> set[str]:
    """All names of a file with several, where one of them is wanted or is another file by now; and names that have
    been made one file.
    """
    groups: dict[str, list[str]] = {}
    for path, entry in expected.items():
        if entry.same_as:
            groups.setdefault(entry.same_as, [entry.same_as]).append(path)
    joined = {
        path for path, entry in found.items() if entry.same_as and path in expected and not expected[path].same_as
    }
    fresh = joined.union(wanted)
    apart = [
        group
        for group in groups.values()
        if any(path in fresh for path in group) or len({found[path].inode for path in group}) > 1
    ]
    return joined.union(*apart)


def _make_folders(ground: Ground, expected: Manifest, wanted: Collection[str]) -> None:
    for path in sorted(wanted):
        if expected[path].kind is Kind.FOLDER:
            nolinks.make_folders(ground.at(path))


def _extract(backup: Backup, ground: Ground, wanted: Collection[str], manifest: Manifest) -> None:
    """Write the wanted files and links from the archive, each in one instant."""
    missing = {path for path in wanted if manifest[path].kind is not Kind.FOLDER}
    later: list[str] = []
    for archive in backup.archives:
        if missing:
            later += _extract_from(archive, ground, missing, manifest)
    if missing:
        text = f"the archives of {backup.path} lack {min(missing)}"
        raise AnswerNo(Problem("backup-damaged", text, "use another backup", str(backup.archive)))
    for path in later:
        # Only now: the first name of the file must be as it should be, and may come from a later archive.
        remove_entry(ground.at(path))
        nolinks.make_second_name(ground.at(path), ground.at(manifest[path].same_as))


def _extract_from(archive: Path, ground: Ground, missing: set[str], manifest: Manifest) -> list[str]:
    """Write from one archive what is missing, and take it off the list; returns hard links, which come at the end."""
    here, later = frozenset(missing), []
    with open_members(archive) as members:
        for member, content in members:
            path = path_of_member(member.name)
            if path not in here:
                continue
            missing.discard(path)
            entry = manifest[path]
            if entry.kind is Kind.LINK:
                _put_link(ground.at(path), entry.target)
            elif entry.same_as:
                later.append(path)
            elif content is not None:
                _put_file(ground.at(path), content, with_holes=member.issparse())
    return later


def _put_link(location: Path, target: str) -> None:
    remove_entry(location)
    nolinks.make_folders(location.parent)
    nolinks.make_link(location, target)


def _put_file(location: Path, content: IO[bytes], *, with_holes: bool) -> None:
    nolinks.make_folders(location.parent)
    # A name may have 255 bytes; the ending needs some of them.
    temporary = location.with_name(f".{location.name[:200]}.restored")
    remove_entry(temporary)
    descriptor = nolinks.open_file(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
    with os.fdopen(descriptor, "wb") as stream:
        while block := content.read(_HOLE_BYTES if with_holes else READ_BYTES):
            if with_holes and not any(block):
                stream.seek(len(block), os.SEEK_CUR)
            else:
                stream.write(block)
        stream.truncate()
    nolinks.rename(temporary, location)


def _set_rights(ground: Ground, expected: Manifest) -> int:
    """Give owner, mode and times back where they differ; folders last, since writing into them moves their time."""
    count = 0
    # Deepest first: a folder without the right to write would keep its own entries from being set right.
    order = sorted(expected.items(), key=lambda item: (item[1].kind is Kind.FOLDER, -item[0].count("/")))
    for path, entry in order:
        location = ground.at(path)
        now = describe(path, location)
        if not now.same_rights(entry):
            nolinks.set_owner(location, entry.uid, entry.gid)
            if entry.kind is not Kind.LINK:
                nolinks.set_mode(location, entry.mode)
            count += 1
        if entry.attributes is not None and entry.kind is not Kind.LINK:
            count += match_attributes(location, entry.attributes)  # after owner and mode, which change them
        if now.modified_ns != entry.modified_ns:
            nolinks.set_times(location, entry.modified_ns)
    return count


def _check_equal(expected: Manifest, found: Manifest, root: Path) -> None:
    differences = compare_manifests(expected, found)
    if differences:
        first = differences[0]
        where = root / first.path.lstrip("/")
        text = f"{where} is still not as it was ({first.change}), and {len(differences) - 1:,} more"
        raise AnswerNo(
            Problem("restore-incomplete", text, "see that nothing else writes there, then go on", first.path)
        )


def restore_aside(backup: Backup, into: Path) -> None:
    """Restore a backup into a fresh folder, to look at it: `root/`, `outside/` and the databases' files."""
    if into.exists() and any(into.iterdir()):
        raise BadInput(Problem("folder-not-empty", f"{into} is not empty", "name a new folder", str(into)))
    into.mkdir(mode=0o700, parents=True, exist_ok=True)
    restore_files(backup, Ground(into / "root", into / "outside"), keep_all)
    for one in backup.databases:
        target, source = into / one.file, backup.path / one.file
        if source.is_dir():
            target.mkdir(mode=0o700)
        for name in sorted(path.name for path in source.iterdir()) if source.is_dir() else [""]:
            _copy_out(source / name, target / name, one.details.get("mode", 0o600))
    sync_folder(into)


def _copy_out(source: Path, target: Path, mode: int) -> None:
    target.touch(mode=0o600, exist_ok=False)
    with source.open("rb") as reader, target.open("wb") as writer:
        while block := reader.read(READ_BYTES):
            writer.write(block)
    target.chmod(mode)
