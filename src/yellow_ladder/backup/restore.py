"""Makes files what a backup says they were: only what differs is written, and what does not belong there is removed."""

from __future__ import annotations

import io
import itertools
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import ROOT_PREFIX, Backup, Ground, outside_root
from yellow_ladder.backup.outside import look_outside
from yellow_ladder.backup.reading import path_of_member
from yellow_ladder.durable import private_folder, sync_folder
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.events import Listener, Unit, counted, counting, silent
from yellow_ladder.files.archives.blocks import LARGEST_AT_ONCE, Blocks, Header, open_blocks
from yellow_ladder.files.archives.members import is_plain_file, plain_size
from yellow_ladder.files.attributes import match_attributes
from yellow_ladder.files.beside import Pair, look_beside
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.entry import Entry, Kind, Manifest, describe
from yellow_ladder.files.listing import Listing, in_order, in_pairs
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import Skip, differing, keep_all
from yellow_ladder.files.marks import Marks
from yellow_ladder.services.looking import users_of_file

# The smallest block that file systems leave out.
_HOLE_BYTES = 4096


@dataclass(frozen=True, slots=True)
class Restored:
    """What a restore did, in entries."""

    written: int
    removed: int
    rights_set: int


def restore_files(
    backup: Backup,
    ground: Ground,
    skip: Skip,
    *,
    rescue: Ground | None = None,
    caches: Skip = keep_all,
    tell: Listener = silent,
) -> Restored:
    """Make the tree and the files outside it equal to the backup; may be repeated after a crash, and after `tell` has
    ended it by an error.

    Files that would be written over or removed are kept on the ground `rescue` first, where one is given. What `skip`
    leaves out is not touched, but for `caches` in folders that were not there: those go with them.
    Raises AnswerNo when something is not equal afterwards.
    """
    root, manifest = ground.root, backup.manifest()
    nolinks.make_folder(root, exist_ok=True)
    pairs = counted(_beside(backup, manifest, ground, skip), tell, "look", len(manifest))
    work = _look(pairs, manifest, ground, rescue)
    if rescue is not None:
        os.sync()  # a power cut must not take the copy and the original
    for path in sorted(work.strange, key=lambda one: -one.count("/")):
        _remove_stranger(ground, path, caches, is_expected=path in manifest)
    _make_folders(ground, manifest, work.wanted)
    written = _extract(backup, ground, work.wanted, manifest, tell)
    rights = _set_rights(ground, manifest, work.doubtful)
    own = backup.facts.get(ROOT_PREFIX)
    now = nolinks.status_of(root)
    if own and (now.st_uid, now.st_gid, now.st_mode & 0o7777) != (own["uid"], own["gid"], own["mode"]):
        nolinks.set_owner(root, own["uid"], own["gid"])
        nolinks.set_mode(root, own["mode"])
    _check_equal(counted(_beside(backup, manifest, ground, skip), tell, "compare", len(manifest)), ground)
    os.sync()
    return Restored(written, len(work.strange), rights)


def _beside(backup: Backup, manifest: Listing, ground: Ground, skip: Skip) -> Iterator[Pair]:
    """What was backed up and what is there now, below root and of the entries outside it, in order."""
    below = itertools.takewhile(lambda one: not one.path.startswith("/"), manifest.entries())
    yield from look_beside(ground.root, skip, below)
    outside = outside_root(manifest)
    yield from in_pairs(outside.entries(), look_outside(ground, manifest, backup.data, skip))


class _Work:
    """What there is to do: what does not belong there or is of another kind, entries whose content is to be written,
    and those whose owner, mode, time or attributes may not be as they were: of all others the kernel says that nobody
    has changed them.
    """

    def __init__(self, manifest: Listing) -> None:
        self.strange: list[str] = []
        self.wanted, self.doubtful = Marks(manifest), Marks(manifest)
        self._number = 0
        self._groups: dict[str, list[str]] = {}
        self._joined: list[str] = []

    def see(self, old: Entry | None, new: Entry | None) -> None:
        """Take the next path, as it was and as it is."""
        if new is not None and (old is None or old.kind is not new.kind):
            self.strange.append(new.path)
        if old is None:
            return
        if new is None or not old.same_content(new):
            self.wanted.flags[self._number] = 1
        if new is None or not new.untouched_since(old):
            self.doubtful.flags[self._number] = 1
        if old.same_as:
            self._groups.setdefault(old.same_as, [old.same_as]).append(old.path)
        elif new is not None and new.same_as:
            self._joined.append(new.path)
        self._number += 1

    def finish(self, ground: Ground) -> None:
        """Want what belongs to what is wanted."""
        for path in _wanted_links(self.wanted, self._groups, self._joined, ground):
            self.wanted.add(path)
            self.doubtful.add(path)


def _look(pairs: Iterator[Pair], manifest: Listing, ground: Ground, rescue: Ground | None) -> _Work:
    """Look once at everything, and keep on the ground `rescue` what would be written over or removed."""
    work = _Work(manifest)
    for old, new in pairs:
        if new is not None and rescue is not None:
            _keep_what_would_go(ground, old, new, rescue)
        work.see(old, new)
    work.finish(ground)
    return work


def _wanted_links(
    wanted: Marks, groups: Mapping[str, Sequence[str]], joined: Sequence[str], ground: Ground
) -> list[str]:
    """All names of a file with several, where one of them is wanted or is another file by now; and names that have
    been made one file.
    """
    found, fresh = list(joined), set(joined)
    for group in groups.values():
        if any(path in fresh or path in wanted for path in group) or _are_several(group, ground):
            found += group
    return found


def _are_several(group: Sequence[str], ground: Ground) -> bool:
    statuses = [nolinks.status_or_none(ground.at(path)) for path in group]
    return len({one and (one.st_dev, one.st_ino) for one in statuses}) > 1


def _keep_what_would_go(ground: Ground, before: Entry | None, entry: Entry, rescue: Ground) -> None:
    """Copy a file that is new or changed against the backup, before anything is written over it."""
    path = entry.path
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


def _remove_stranger(ground: Ground, path: str, caches: Skip, *, is_expected: bool) -> None:
    location = ground.at(path)
    if not nolinks.is_folder(location):
        remove_entry(location)
        return
    for name in nolinks.names_in(location):
        if caches(f"{path}/{name}"):
            remove_entry(location / name)
    try:
        nolinks.remove_empty_folder(location)
    except OSError:  # it holds something that is not the tree's, such as a pid file
        if is_expected:
            remove_entry(location)


def _make_folders(ground: Ground, expected: Manifest, wanted: Marks) -> None:
    for number, entry in enumerate(in_order(expected)):
        if wanted.flags[number] and entry.kind is Kind.FOLDER:
            nolinks.make_folders(ground.at(entry.path))


def _extract(backup: Backup, ground: Ground, wanted: Marks, manifest: Listing, tell: Listener) -> int:
    """Write the wanted files and links from the archive, each in one instant; returns how many entries were wanted."""
    count = wanted.count()
    for number, entry in enumerate(manifest.entries()):
        if entry.kind is Kind.FOLDER:
            wanted.flags[number] = 0  # made already
    later: list[str] = []
    for archive in backup.archives:
        if wanted.count():
            passed = counting(tell, f"unpack {archive.name}", Unit.BYTES, archive.stat().st_size, READ_BYTES)
            later += _extract_from(archive, ground, wanted, manifest, passed)
    if wanted.count():
        lacking = next(entry.path for number, entry in enumerate(manifest.entries()) if wanted.flags[number])
        text = f"the archives of {backup.path} lack {lacking}"
        raise AnswerNo(Problem("backup-damaged", text, "use another backup", str(backup.archive)))
    for path in later:
        # Only now: the first name of the file must be as it should be, and may come from a later archive.
        remove_entry(ground.at(path))
        nolinks.make_second_name(ground.at(path), ground.at(manifest[path].same_as))
    return count


def _extract_from(
    archive: Path, ground: Ground, missing: Marks, manifest: Listing, passed: Callable[[int], None]
) -> list[str]:
    """Write from one archive what is missing, and take it off the list; returns hard links, which come at the end.

    A file that changed while it was archived is stored again behind the others. What holds what was listed does not
    come again: when all that is missing is there in this way, the rest of the archive is not read.
    """
    here, later = bytes(missing.flags), []
    left = here.count(1)
    with open_blocks(archive, passed) as blocks:
        while left and (header := blocks.plain_header()):
            path = path_of_member(header.name)
            number = manifest.number_of(path) if path else None
            if header.name and (number is None or not here[number]):
                blocks.pass_over(header)
                continue
            digest = _put_plain(blocks, header, manifest[path], ground) if number is not None else None
            if number is not None and digest is not None:
                left -= missing.flags[number] and digest == manifest[path].digest
                missing.flags[number] = 0
                continue
            member, content = blocks.member()
            path = path_of_member(member.name)
            number = manifest.number_of(path) if path else None
            if number is not None and here[number]:
                missing.flags[number] = 0
                entry = manifest[path]
                if entry.kind is Kind.LINK:
                    _put_link(ground.at(path), entry.target)
                elif entry.same_as:
                    later.append(path)
                elif content is not None:
                    _put_file(ground.at(path), content, with_holes=member.issparse())
            blocks.end_member()
    return later


def _put_plain(blocks: Blocks, header: Header, entry: Entry, ground: Ground) -> str | None:
    """Write a small plain file in one go; returns its digest, and None where the next member is something else, which
    is still to be read.
    """
    is_small = is_plain_file(header.raw) and plain_size(header.raw) <= LARGEST_AT_ONCE
    if entry.kind is not Kind.FILE or entry.same_as or not is_small:
        return None
    content = blocks.content(header, plain_size(header.raw))
    _put_file(ground.at(entry.path), io.BytesIO(content), with_holes=False)
    return blake3(content).hexdigest()


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


def _set_rights(ground: Ground, expected: Listing, doubtful: Marks) -> int:
    """Give owner, mode and times back where they differ; folders last, since writing into them moves their time."""
    count, folders = 0, []
    for number, entry in enumerate(expected.entries()):
        if entry.kind is Kind.FOLDER:
            folders.append(entry)
        elif doubtful.flags[number]:
            count += _set_right(ground, entry)
    # Deepest first: a folder without the right to write would keep its own entries from being set right.
    return count + sum(_set_right(ground, one) for one in sorted(folders, key=lambda one: -one.path.count("/")))


def _set_right(ground: Ground, entry: Entry) -> int:
    count, location = 0, ground.at(entry.path)
    now = describe(entry.path, location)
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


def _check_equal(found: Iterator[Pair], ground: Ground) -> None:
    first, count = None, 0
    for one, _, _ in differing(found):
        first, count = first or one, count + 1
    if first is not None:
        more = f", and {count - 1:,} more" if count > 1 else ""
        text = f"{ground.at(first.path)} is still not as it was ({first.change}){more}"
        users = users_of_file(ground.at(first.path))
        who = f"; {users[0].name} ({users[0].pid}, {users[0].account}) has it open" if users else ""
        remedy = f"see what it is (ps -fp {users[0].pid}) and end it" if users else "see that nothing else writes there"
        raise AnswerNo(Problem("restore-incomplete", text + who, f"{remedy}, then go on", first.path))


def restore_aside(backup: Backup, into: Path, tell: Listener = silent) -> None:
    """Restore a backup into a fresh folder, to look at it: `root/`, `outside/` and the databases' files."""
    if into.exists() and any(into.iterdir()):
        raise BadInput(Problem("folder-not-empty", f"{into} is not empty", "name a new folder", str(into)))
    into.mkdir(mode=0o700, parents=True, exist_ok=True)
    restore_files(backup, Ground(into / "root", into / "outside"), keep_all, tell=tell)
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
