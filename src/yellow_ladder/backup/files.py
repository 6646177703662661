"""The files of a backup: one archive, or one behind another that holds what has not changed since."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
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
from yellow_ladder.backup.reading import Passed, read_through
from yellow_ladder.database.clusters import MARKS, clusters_among
from yellow_ladder.durable import private_folder, write_whole
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Listener, Unit, counting
from yellow_ladder.files.archives.write import Archived, TreeSource, write_archive
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.files.entry import Entry, Manifest, changed, place_of, within
from yellow_ladder.files.listing import in_order, merged, whole_listing
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import Skip
from yellow_ladder.site.site import Site

_TOO_FRESH_NS = 2_000_000_000


@dataclass(frozen=True, slots=True)
class Base:
    """What earlier archives hold. A file that was changed within two seconds of their reading is read again: the time
    that the kernel notes is coarse, and a change right behind the reading would not show in it.
    """

    parts: tuple[str, ...]
    manifest: Manifest
    started_ns: int

    @property
    def until_ns(self) -> int:
        """Until when an entry must have been changed last to be relied upon."""
        return self.started_ns - _TOO_FRESH_NS


@dataclass(frozen=True, slots=True)
class Making:
    """A backup on its way: where it is written, what it will be called, what it builds upon, and about how many bytes
    of files it will read, where that is known.
    """

    site: Site
    version: str
    name: str
    tell: Listener
    closed: bool = False
    base: Base | None = None
    started_ns: int = 0
    expected_bytes: int = 0

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
    archived = _write(making, FIRST_STEM, None)
    archive = making.folder / (FIRST_STEM + ARCHIVE_ENDING)
    listed = read_manifest(making.folder / (FIRST_STEM + MANIFEST_ENDING))
    note_sums(making.folder, {archive.name: read_through(archive, listed, passed=reading_of(archive, making.tell))})
    return archived


def reading_of(archive: Path, tell: Listener) -> Passed:
    """Tells how far an archive has been read."""
    return counting(tell, f"read {archive.name} back", Unit.BYTES, archive.stat().st_size, READ_BYTES)


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
    return _write(making, FILES_STEM, making.base)


def _write(making: Making, stem: str, base: Base | None) -> Archived:
    tell = counting(making.tell, "files", Unit.BYTES, making.expected_bytes or None)
    archive, listed = making.folder / (stem + ARCHIVE_ENDING), making.folder / (stem + MANIFEST_ENDING)
    try:
        with whole_listing(listed) as writer:
            archived = write_archive(archive, _sources(making.site, base), tell, listed=writer, notice=MARKS)
            for entry in merged(*(_outside(archived, prefix) for prefix in archived.trees)):
                writer.add(entry)
    except OSError as fault:
        raise explained(fault) from fault
    live = [
        one.folder
        for prefix, paths in archived.noticed.items()
        for one in clusters_among(_place_of(making.site, prefix), paths)
        if one.is_live
    ]
    if live:
        text = (
            f"a database server is at work in {live[0]}: copies of its files, taken one by one, would be no copy of it"
        )
        remedy = "move its data folder away from them, and name its databases in [[databases]]: they are dumped"
        raise AnswerNo(Problem("live-server-inside", text, remedy, str(live[0])))
    note_sums(making.folder, {listed.name: sha256_of(listed)})
    return archived


def _sources(site: Site, base: Base | None) -> list[TreeSource]:
    known, until_ns = (base.manifest, base.until_ns) if base else ({}, 0)
    sources = [TreeSource(ROOT_PREFIX, site.root, site.skipped(), known, known_until_ns=until_ns)]
    outside = {str(nolinks.trusted(path)): None for path in site.outside}
    is_left_out = site.skipped()
    # One that lies in another is archived with it. In order, so that two files of one folder come in theirs.
    alone = [path for path in outside if not within(path, [one for one in outside if one != path])]
    for path in map(Path, sorted(alone, key=place_of)):
        folder = path
        # Databases are dumped, and caches come and go, wherever they lie.
        skip: Skip = _from(folder, is_left_out)
        is_folder = path.is_dir() and not path.is_symlink()
        if not is_folder:
            # A single file is archived through its folder, so that it is described and read like any other.
            folder, skip = path.parent, _all_but(path.name)
        if nolinks.is_there(path):
            prefix = OUTSIDE_PREFIX + str(folder)
            sources.append(TreeSource(prefix, folder, skip, known, is_folder, f"{folder}/", until_ns))
    return sources


def _place_of(site: Site, prefix: str) -> Path:
    return site.root if prefix == ROOT_PREFIX else Path(prefix.removeprefix(OUTSIDE_PREFIX))


def _from(folder: Path, skip: Skip) -> Skip:
    """The rule for whole paths, of paths in a folder."""
    return lambda path: skip(f"{folder}/{path}")


def _all_but(name: str) -> Skip:
    return lambda path: path != name


def _outside(archived: Archived, prefix: str) -> Iterator[Entry]:
    """Entries outside root by absolute path."""
    folder = prefix.removeprefix(OUTSIDE_PREFIX)
    if prefix in archived.tops:
        yield changed(archived.tops[prefix], path=folder)
    for entry in in_order(archived.trees[prefix]):
        first = entry.same_as and f"{folder}/{entry.same_as}"
        yield changed(entry, path=f"{folder}/{entry.path}", same_as=first)


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
