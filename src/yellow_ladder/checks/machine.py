"""Checks of the machine: space, rights, file systems."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.files.exchange import same_file_system

_MARGIN = 1.05
_LEFT_FREE_BYTES = 32 * 1024**2


def space_needed(at: Circumstances) -> dict[Path, int]:
    """Bytes needed by an existing folder on each file system: staging, backup at its worst, rewritten databases."""
    needed: dict[Path, int] = defaultdict(int)
    staged = sum(rung.release.sheet.archive.unpacked_bytes or 0 for rung in at.route.rungs)
    staged += max(rung.release.sheet.needs.free_bytes for rung in at.route.rungs)
    databases = sum(facts.size_bytes for facts in at.survey.databases)
    files = sum(entry.size for entry in at.survey.manifest.values())
    needed[_existing(at.site.state.path)] += staged + files + databases
    for database in at.site.databases().values():
        # A migration may write every page twice: once in the table, once in the journal that makes it safe.
        needed[_existing(database.address.path.parent)] += 2 * database.size_bytes()
    return needed


def free_space(at: Circumstances) -> Iterator[Finding]:
    """Is there room for staging, backup and migrations on every file system?"""
    by_device: dict[int, tuple[Path, int]] = {}
    for folder, count in space_needed(at).items():
        device = folder.stat().st_dev
        first, so_far = by_device.get(device, (folder, 0))
        by_device[device] = (first, so_far + count)
    for folder, count in by_device.values():
        facts = os.statvfs(folder)
        free, wanted = facts.f_bavail * facts.f_frsize, int(count * _MARGIN) + _LEFT_FREE_BYTES
        seen = f"{_size(free)} free at {folder}, up to {_size(wanted)} needed"
        if free < wanted:
            remedy = f"free {_size(wanted - free)} there, or put the state folder elsewhere with `state`"
            yield stop("free space", seen, remedy)
        else:
            yield ok("free space", seen)
        inodes = len(at.survey.manifest) * (len(at.route.rungs) + 1)
        if 0 < facts.f_favail < inodes:
            yield stop("free space", f"{facts.f_favail:,} inodes free at {folder}, {inodes:,} needed", "free some")


def rights_to_place(at: Circumstances) -> Iterator[Finding]:
    """May this account write where files are placed, and keep their owners?"""
    for folder in {at.site.root.parent, at.site.root, *(a.path.parent for a in at.site.addresses())}:
        if not os.access(folder, os.W_OK | os.X_OK):
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
    if same_file_system(_existing(at.site.state.path), _existing(at.site.root)):
        return
    yield warn(
        "work folder",
        f"the state folder {at.site.state.path} is on another file system than root",
        f"nothing to do: new files will be made ready in {at.site.root.parent}",
    )


def _existing(path: Path) -> Path:
    while not path.exists():
        path = path.parent
    return path


def _size(count: int) -> str:
    return f"{count / 1024**3:,.0f} GiB" if count >= 10 * 1024**3 else f"{count / 1024**2:,.0f} MiB"
