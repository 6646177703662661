"""Checks of the machine: space, rights, file systems, clock."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.backup.catalog import list_backups
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import LadderError
from yellow_ladder.files.entry import within
from yellow_ladder.files.exchange import same_file_system
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.release.source import Release
from yellow_ladder.route import Route
from yellow_ladder.words import bytes_in_words, moment_in_words, moment_of

_MARGIN = 1.05
_LEFT_FREE_BYTES = 32 * 1024**2
_BACKUP_INODES = 32
_USUAL_PACKING = 5
_CLOCK_SLACK_S = 120


@dataclass(slots=True)
class Room:
    """Bytes and inodes wanted on one file system, and an existing folder on it."""

    folder: Path
    count_bytes: int = 0
    inodes: int = 0

    def shortage(self) -> str:
        """What is missing, or nothing."""
        status = os.statvfs(self.folder)
        free = status.f_bavail * status.f_frsize
        if free < self.wanted_bytes:
            return f"{bytes_in_words(self.wanted_bytes - free)} of space"
        if status.f_files > 0 and status.f_favail < self.inodes:
            return f"{self.inodes - status.f_favail:,} inodes"
        return ""

    @property
    def wanted_bytes(self) -> int:
        """With a margin, and without filling the disk to the brim."""
        return int(self.count_bytes * _MARGIN) + _LEFT_FREE_BYTES

    @property
    def seen(self) -> str:
        """What is free."""
        status = os.statvfs(self.folder)
        inodes = f", {status.f_favail:,} inodes" if status.f_files else ""
        return f"{bytes_in_words(status.f_bavail * status.f_frsize)}{inodes} free at {self.folder}"


def rooms_for(at: Circumstances, route: Route) -> list[Room]:
    """What staging, the backup at its worst and rewritten databases take, by file system, from real sizes."""
    by_device: dict[int, Room] = {}

    def add(folder: Path, count_bytes: int, inodes: int) -> None:
        there = existing(folder)
        room = by_device.setdefault(there.stat().st_dev, Room(there))
        room.count_bytes += count_bytes
        room.inodes += inodes

    databases = sum(surveyed.size_bytes for surveyed in at.survey.databases)
    files = sum(entry.size for entry in at.survey.manifest.values()) + at.survey.outside_bytes
    add(at.site.state.path, files + databases, _BACKUP_INODES)
    staging = at.site.state.path
    if not same_file_system(existing(staging), existing(at.site.root)):
        staging = at.site.root.parent
    for rung in route.leg:
        # Of what commands make, nobody knows more beforehand than that it is about as large as what is there.
        made = _release_bytes(at) if rung.release.is_built else 0
        add(staging, max(made, _unpacked_bytes(rung.release)), len(at.survey.manifest))
    if any(not one.file for rung in route.leg for one in rung.release.sheet.migrations):
        add(at.site.state.path, databases, _BACKUP_INODES)  # a copy of what commands have made of the data
    add(at.site.root, *_remade_room(at, route))
    add(staging, max((rung.release.sheet.needs.free_bytes for rung in route.leg), default=0), 0)
    for surveyed in at.survey.databases:
        spec, address = at.site.database_spec(surveyed.name), at.site.databases()[surveyed.name].address
        if address.is_file:
            # A migration may write every page twice: once in the table, once in the journal that makes it safe.
            add(address.path.parent, 2 * surveyed.size_bytes, 4)
        elif address.engine == "mariadb" and spec.clone != "off":
            add(at.site.state.path, surveyed.size_bytes, 2 * len(surveyed.tables))
    for rung in route.leg:
        if rung.release.url and not rung.release.archive.is_file():
            beside = sum(one.size_bytes for one in rung.release.beside)
            add(at.site.state.downloads, rung.release.size_bytes + beside, 2)
    return list(by_device.values())


def _release_bytes(at: Circumstances) -> int:
    """Bytes of the release in use, where releases have folders of their own."""
    with contextlib.suppress(LadderError):
        inside = f"{at.site.release_path}/"
        return sum(one.size for path, one in at.survey.manifest.items() if path.startswith(inside))
    return 0


def _remade_room(at: Circumstances, route: Route) -> tuple[int, int]:
    """Bytes and entries of what is exported and imported beside what is there; either may be larger in truth."""
    folders = [one.folder for rung in route.leg for one in rung.release.sheet.remade]
    inside = [entry.size for path, entry in at.survey.manifest.items() if within(path, folders)] if folders else []
    # The data folder of a server is no folder of files, and is in no survey: it is looked at here.
    servers = {spec.data_folder for spec in at.site.record.servers}
    for folder in folders:
        if folder in servers:
            inside += [one.status.st_size for _, one in walk_tree(at.site.root / folder)]
    return 2 * sum(inside), 2 * len(inside)


def _unpacked_bytes(release: Release) -> int:
    """What a release unpacks to: as its sheet says, or reckoned from its archive."""
    said = release.sheet.archive.unpacked_bytes
    if said is not None:
        return said
    packed = release.archive.stat().st_size if release.archive.is_file() else release.size_bytes
    return packed * _USUAL_PACKING


def space_for_climb(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Is there room for downloads, staging, backup and migrations on every file system?"""
    for room in rooms_for(at, route):
        shortage = room.shortage()
        needed = f"up to {bytes_in_words(room.wanted_bytes)} and {room.inodes:,} inodes"
        if shortage:
            remedy = f"free {shortage} there, or put the state folder elsewhere with `state`"
            yield stop("free space", room.seen, remedy, needed)
        else:
            yield ok("free space", f"{room.seen}, {needed} needed")


def free_space(at: Circumstances) -> Iterator[Finding]:
    """Is any file system of the site full already?"""
    for folder in {existing(at.site.state.path), at.site.root, *(a.path.parent for a in at.site.addresses())}:
        if folder.is_dir() and Room(folder).shortage():
            yield stop("free space", Room(folder).seen, "free space there: the application itself needs it")


def rights_to_place(at: Circumstances) -> Iterator[Finding]:
    """May this account write where files are placed, and keep their owners?"""
    keep, root = at.site.record.keep, at.site.root
    own = [*(root / path for path in keep.data_paths), *((root / one.file).parent for one in keep.merged)]
    own += [*(one.path.parent for one in at.site.addresses()), *map(Path, at.site.data_outside)]
    for folder in dict.fromkeys([root.parent, root, *filter(Path.is_dir, own)]):
        if os.access(folder, os.W_OK | os.X_OK):
            continue
        if os.statvfs(folder).f_flag & os.ST_RDONLY:
            yield stop("rights", f"{folder} is mounted read-only", "see why; then mount it to be written: remount,rw")
        else:
            yield stop("rights", f"this account cannot write in {folder}", "run yl as root or as the files' owner")
        return
    owners = {(entry.uid, entry.gid) for entry in at.survey.manifest.values()}
    foreign = owners - {(os.geteuid(), group) for group in [os.getegid(), *os.getgroups()]}
    if os.geteuid() != 0 and foreign:
        seen = f"files belong to {len(owners)} accounts, and only root can keep that"
        yield stop("rights", seen, "run yl as root")
    else:
        yield ok("rights", f"this account may write in {at.site.root} and keep the owners of its files")


def state_on_same_disk(at: Circumstances) -> Iterator[Finding]:
    """Can a staged tree be renamed into place?"""
    if same_file_system(at.site.root, at.site.root.parent):
        yield ok("work folder", "new files can be exchanged for the old ones in one instant")
    else:
        seen = f"root {at.site.root} is a file system of its own and cannot be renamed"
        yield stop("work folder", seen, "move the application into a folder below it, and name that as `root`")
    if same_file_system(existing(at.site.state.path), existing(at.site.root)):
        return
    yield warn(
        "work folder",
        f"the state folder {at.site.state.path} is on another file system than root",
        f"nothing to do: new files will be made ready in {at.site.root.parent}",
    )


def clock(at: Circumstances) -> Iterator[Finding]:
    """Does this machine's clock agree with the release source, and with what was written here earlier?"""
    ahead = at.releases.clock_ahead_s
    if abs(ahead) > _CLOCK_SLACK_S:
        way = "ahead of" if ahead > 0 else "behind"
        yield warn("clock", f"this clock is {abs(ahead):,.0f} s {way} the release source's", "set it: timedatectl")
    backups = []
    with contextlib.suppress(LadderError):  # the check of the last backup tells of a damaged one
        backups = list_backups(at.site.state.backups)
    newest = max((moment_of(backup.made_at) for backup in backups if backup.made_at), default=None)
    if newest is not None and (newest - at.now).total_seconds() > _CLOCK_SLACK_S:
        seen = f"it is {moment_in_words(at.now)}, and the newest backup was made at {moment_in_words(newest)}"
        yield stop("clock", seen, "set the clock: timedatectl; names of backups and climbs go by the time")
    elif abs(ahead) <= _CLOCK_SLACK_S:
        yield ok("clock", f"it is {moment_in_words(at.now)}")


def existing(path: Path) -> Path:
    """The nearest folder above that exists."""
    while not path.exists():
        path = path.parent
    return path
