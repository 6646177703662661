"""The files of a backup: one archive, or one behind another that holds what has not changed since."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import (
    ARCHIVE_ENDING,
    FILES_STEM,
    FIRST_STEM,
    MANIFEST_ENDING,
    OUTSIDE_PREFIX,
    ROOT_PREFIX,
    SUMS_NAME,
    UNFINISHED,
    Backup,
    read_manifest,
)
from yellow_ladder.backup.reading import read_through
from yellow_ladder.database.clusters import clusters_among
from yellow_ladder.durable import private_folder, write_whole
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Listener, Progress, Unit
from yellow_ladder.files.archive_write import Archived, TreeSource, write_archive
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.files.manifest import Entry, Skip, keep_all, manifest_to_lines
from yellow_ladder.site.site import Site

_TOO_FRESH_NS = 2_000_000_000


@dataclass(frozen=True, slots=True)
class Base:
    """What earlier archives hold. A file that was changed within two seconds of their reading is read again: the time
    that the kernel notes is coarse, and a change right behind the reading would not show in it.
    """

    parts: tuple[str, ...]
    manifest: Mapping[str, Entry]
    started_ns: int

    def untouched(self) -> dict[str, Entry]:
        """The entries that can be relied upon."""
        limit = self.started_ns - _TOO_FRESH_NS
        return {path: entry for path, entry in self.manifest.items() if entry.changed_ns < limit}


@dataclass(frozen=True, slots=True)
class Making:
    """A backup on its way: where it is written, what it will be called, and what it builds upon."""

    site: Site
    version: str
    name: str
    tell: Listener
    closed: bool = False
    base: Base | None = None
    started_ns: int = 0

    @property
    def folder(self) -> Path:
        """Where it is written; the name says that it is not finished."""
        return self.site.state.backups / (self.name + UNFINISHED)

    @property
    def final(self) -> Path:
        """Where it will lie."""
        return self.site.state.backups / self.name

    @property
    def parts(self) -> tuple[str, ...]:
        """The stems of its archives, oldest first."""
        return (*(self.base.parts if self.base else ()), FILES_STEM)


def base_of(backup: Backup) -> Base:
    """An earlier backup, to build upon."""
    parts = tuple(part if part.startswith("../") else f"../{backup.name}/{part}" for part in backup.parts)
    return Base(parts, backup.manifest(), backup.started_ns)


def backup_name(site: Site, version: str, now: datetime) -> str:
    """The folder name of a backup: site, version and time; a name that is taken already moves on by a second."""
    while (site.state.backups / f"{site.name}-{version}-{now:%Y%m%dT%H%M%SZ}").exists():
        now += timedelta(seconds=1)
    return f"{site.name}-{version}-{now:%Y%m%dT%H%M%SZ}"


def write_first(making: Making) -> Archived:
    """Start the folder anew, archive all files while the site serves, and read that back; may be repeated."""
    remove_entry(making.folder)
    private_folder(making.folder)
    archived = _write(making, FIRST_STEM, {})
    archive = making.folder / (FIRST_STEM + ARCHIVE_ENDING)
    note_sums(making.folder, {archive.name: read_through(archive, _one_manifest(archived), {})})
    return archived


def first_base(making: Making, started_ns: int) -> Base:
    """The first copy, to build upon."""
    return Base((FIRST_STEM,), read_manifest(making.folder / (FIRST_STEM + MANIFEST_ENDING)), started_ns)


def write_files(making: Making) -> Archived:
    """Archive the files of the site that its base does not hold; may be repeated. The first copy, if any, stays."""
    private_folder(making.folder)
    for entry in making.folder.iterdir():
        if not entry.name.startswith(FIRST_STEM) and entry.name != SUMS_NAME:
            remove_entry(entry)
    if making.base is None or FIRST_STEM not in making.base.parts:
        remove_entry(making.folder / SUMS_NAME)
    return _write(making, FILES_STEM, making.base.untouched() if making.base else {})


def _write(making: Making, stem: str, known: Mapping[str, Entry]) -> Archived:
    done = 0

    def tell(count: int) -> None:
        nonlocal done
        done += count
        making.tell(Progress("files", done, None, Unit.BYTES))

    archive, listed = making.folder / (stem + ARCHIVE_ENDING), making.folder / (stem + MANIFEST_ENDING)
    try:
        archived = write_archive(archive, _sources(making.site, known), tell)
    except OSError as fault:
        raise explained(fault) from fault
    live = [one.folder for one in clusters_among(making.site.root, archived.trees[ROOT_PREFIX]) if one.is_live]
    if live:
        text = (
            f"a database server is at work in {live[0]}: copies of its files, taken one by one, would be no copy of it"
        )
        remedy = "move its data folder out of root, and name its databases in [[databases]]: they are dumped"
        raise AnswerNo(Problem("live-server-inside", text, remedy, str(live[0])))
    write_whole(listed, manifest_to_lines(_one_manifest(archived)))
    note_sums(making.folder, {listed.name: sha256_of(listed)})
    return archived


def _sources(site: Site, known: Mapping[str, Entry]) -> list[TreeSource]:
    below = {path: entry for path, entry in known.items() if not path.startswith("/")}
    sources = [TreeSource(ROOT_PREFIX, site.root, site.skipped(), below)]
    for path in map(nolinks.trusted, site.record.keep.outside):
        folder = path
        skip: Skip = keep_all
        is_folder = path.is_dir() and not path.is_symlink()
        if not is_folder:
            # A single file is archived through its folder, so that it is described and read like any other.
            folder, skip = path.parent, _all_but(path.name)
        if nolinks.is_there(path):
            start = f"{folder}/"
            there = {name.removeprefix(start): entry for name, entry in known.items() if name.startswith(start)}
            sources.append(TreeSource(OUTSIDE_PREFIX + str(folder), folder, skip, there, with_top=is_folder))
    return sources


def _all_but(name: str) -> Skip:
    return lambda path: path != name


def _one_manifest(archived: Archived) -> dict[str, Entry]:
    """Entries below root by tree path, and entries outside root by absolute path."""
    manifest = dict(archived.trees[ROOT_PREFIX])
    for prefix, entries in archived.trees.items():
        if prefix != ROOT_PREFIX:
            folder = prefix.removeprefix(OUTSIDE_PREFIX)
            if prefix in archived.tops:
                manifest[folder] = replace(archived.tops[prefix], path=folder)
            manifest.update({f"{folder}/{path}": _outside(folder, entry) for path, entry in entries.items()})
    return manifest


def _outside(folder: str, entry: Entry) -> Entry:
    first = entry.same_as and f"{folder}/{entry.same_as}"
    return replace(entry, path=f"{folder}/{entry.path}", same_as=first)


def note_sums(folder: Path, digests: Mapping[str, str], of: str = "") -> None:
    """Note digests of files of a backup by name; what an earlier attempt noted below the folder `of` is forgotten."""
    path = folder / SUMS_NAME
    lines = path.read_text().splitlines() if path.exists() else []
    names = {line: line.partition("  ")[2] for line in lines}
    kept = [line for line, name in names.items() if name not in digests and not (of and name.startswith(f"{of}/"))]
    lines = kept + [f"{digest}  {name}" for name, digest in digests.items()]
    write_whole(path, ("\n".join(lines) + "\n").encode())


def explained(fault: OSError) -> AnswerNo:
    """What the system refused while a backup was written."""
    text = f"the backup could not be written: {fault.strerror}" + (f" ({fault.filename})" if fault.filename else "")
    remedy = "free space on the disk of the state folder, or see that every file can be read by this account"
    return AnswerNo(Problem("backup-failed", text, remedy, str(fault.filename or "")))
