"""Makes a backup: files in one pass, databases by their own online copy, then everything is read back."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

from yellow_ladder.backup.catalog import (
    ARCHIVE_NAME,
    INDEX_NAME,
    MANIFEST_NAME,
    OUTSIDE_PREFIX,
    ROOT_PREFIX,
    SUMS_NAME,
    UNFINISHED,
    Backup,
    DatabaseBackup,
    check_sums,
    files_of,
    print_name,
    read_backup,
)
from yellow_ladder.database import Database
from yellow_ladder.durable import private_folder, sync_folder, write_json, write_whole
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Listener, Progress, Unit
from yellow_ladder.files.archive_read import open_members
from yellow_ladder.files.archive_write import Archived, TreeSource, write_archive
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.manifest import (
    Entry,
    Kind,
    Skip,
    digest_file,
    keep_all,
    manifest_to_lines,
)
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import OnRows, take_fingerprint
from yellow_ladder.site.site import Site


@dataclass(frozen=True, slots=True)
class Making:
    """A backup on its way: where it is written, and what it will be called."""

    site: Site
    version: str
    name: str
    tell: Listener
    closed: bool = False

    @property
    def folder(self) -> Path:
        """Where it is written; the name says that it is not finished."""
        return self.site.state.backups / (self.name + UNFINISHED)

    @property
    def final(self) -> Path:
        """Where it will lie."""
        return self.site.state.backups / self.name


def backup_name(site: Site, version: str, now: datetime) -> str:
    """The folder name of a backup: site, version and time; a name that is taken already moves on by a second."""
    while (site.state.backups / f"{site.name}-{version}-{now:%Y%m%dT%H%M%SZ}").exists():
        now += timedelta(seconds=1)
    return f"{site.name}-{version}-{now:%Y%m%dT%H%M%SZ}"


def write_files(making: Making, total_bytes: int | None = None) -> Archived:
    """Start the folder anew and archive all files of the site; may be repeated."""
    remove_entry(making.folder)
    private_folder(making.folder)
    done = 0

    def tell(count: int) -> None:
        nonlocal done
        done += count
        making.tell(Progress("files", done, total_bytes, Unit.BYTES))

    try:
        archived, digest = write_archive(making.folder / ARCHIVE_NAME, _sources(making.site), tell)
    except OSError as fault:
        raise _explained(fault) from fault
    write_whole(making.folder / MANIFEST_NAME, manifest_to_lines(_one_manifest(archived)))
    _note_sum(making.folder, ARCHIVE_NAME, digest)
    _note_sum(making.folder, MANIFEST_NAME, digest_file(making.folder / MANIFEST_NAME))
    return archived


def _sources(site: Site) -> list[TreeSource]:
    sources = [TreeSource(ROOT_PREFIX, site.root, site.skipped())]
    for path in map(Path, site.record.keep.outside):
        if path.is_dir() and not path.is_symlink():
            sources.append(TreeSource(OUTSIDE_PREFIX + str(path), path, keep_all))
        elif os.path.lexists(path):
            # A single file is archived through its folder, so that it is described and read like any other.
            sources.append(TreeSource(OUTSIDE_PREFIX + str(path.parent), path.parent, _all_but(path.name)))
    return sources


def _all_but(name: str) -> Skip:
    return lambda path: path != name


def _one_manifest(archived: Archived) -> dict[str, Entry]:
    """Entries below root by tree path, and entries outside root by absolute path."""
    manifest = dict(archived.trees[ROOT_PREFIX])
    for prefix, entries in archived.trees.items():
        if prefix != ROOT_PREFIX:
            folder = prefix.removeprefix(OUTSIDE_PREFIX)
            manifest.update({f"{folder}/{path}": replace(e, path=f"{folder}/{path}") for path, e in entries.items()})
    return manifest


def write_database(making: Making, database: Database) -> DatabaseBackup:
    """Copy one database into the folder and fingerprint what the copy holds; may be repeated.

    Raises AnswerNo where a database that should be at rest does not hold what its copy holds.
    """
    name = database.address.name
    target = making.folder / f"database-{name}.{database.ending}"
    remove_entry(target)

    def tell(done: int, total: int) -> None:
        making.tell(Progress(f"database {name}", done, total or None, Unit.BYTES))

    try:
        traits, details = database.traits(), database.details()
        with database.backed_up(target, tell, at_rest=making.closed) as still:
            found = take_fingerprint(still, on_rows=_telling_rows(making, name))
        moving = () if making.closed or database.address.is_file else _moving(making, database, found)
    except OSError as fault:
        raise _explained(fault) from fault
    if making.closed and not database.is_same_as_backup(target) and take_fingerprint(database) != found:
        text = f"the backup of the database {name} does not hold what the database holds"
        raise AnswerNo(Problem("backup-differs", text, "see that nothing else writes to it, then try again", name))
    record = {"format": 1, "database": found.without(moving).as_record()}
    write_json(making.folder / print_name(name), record)
    return DatabaseBackup(
        name, target.name, database.address.place, _seal(making.folder, target.name, print_name(name)),
        traits.engine, traits.version, details, moving,
    )  # fmt: skip


def _telling_rows(making: Making, name: str) -> OnRows:
    done = 0

    def tell(count: int) -> None:
        nonlocal done
        done += count
        making.tell(Progress(f"rows of {name}", done, None, Unit.ROWS))

    return tell


def _moving(making: Making, database: Database, found: DatabasePrint) -> tuple[str, ...]:
    """Tables that were written to while a server without shared moments dumped them."""
    if not database.moves_meanwhile:
        return ()
    now = take_fingerprint(database, on_rows=_telling_rows(making, database.address.name))
    return tuple(sorted(n for n in found.tables.keys() | now.tables.keys() if found.tables.get(n) != now.tables.get(n)))


def _seal(folder: Path, copy: str, *others: str) -> int:
    """Make a copy private and note the digest of every file of it; returns its bytes."""
    names = [name for name in files_of(folder) if name == copy or name.startswith(f"{copy}/")]
    for name in names:
        (folder / name).chmod(0o600)
    for name in (*names, *others):
        _note_sum(folder, name, digest_file(folder / name))
    return sum((folder / name).stat().st_size for name in names)


def finish(making: Making, archived: Archived, databases: list[DatabaseBackup], now: datetime) -> Backup:
    """Read everything back, and only then give the backup its name. May be repeated once the name is given."""
    if making.final.is_dir():
        check_backup(making.final)
        return read_backup(making.final)
    tree = archived.trees[ROOT_PREFIX]
    sizes = [entry.size for entry in tree.values() if entry.kind is Kind.FILE]
    backup = Backup(
        path=making.folder,
        site=making.site.name,
        version=making.version,
        made_at=f"{now:%Y-%m-%dT%H:%M:%SZ}",
        root=str(making.site.root),
        files=len(sizes),
        file_bytes=sum(sizes),
        databases=tuple(databases),
        outside=tuple(making.site.record.keep.outside),
        unsteady=tuple(archived.unsteady),
        closed=making.closed,
    )
    read_back(backup)
    backup = replace(backup, path=making.final, read_back_at=f"{now:%Y-%m-%dT%H:%M:%SZ}")
    write_json(making.folder / INDEX_NAME, backup.as_record())
    _note_sum(making.folder, INDEX_NAME, digest_file(making.folder / INDEX_NAME))
    sync_folder(making.folder)
    making.folder.rename(making.final)
    sync_folder(making.final.parent)
    return backup


def make_backup(site: Site, version: str, now: datetime, tell: Listener) -> Backup:
    """Make a stand-alone backup of a site that may be serving: files that change under the reading are named."""
    making = Making(site, version, backup_name(site, version, now), tell)
    try:
        archived = write_files(making)
        databases = [write_database(making, database) for database in site.databases().values()]
        for name, database in site.databases().items():
            database.check_backup(making.folder / next(one.file for one in databases if one.name == name))
        return finish(making, archived, databases, now)
    except BaseException:
        remove_entry(making.folder)
        raise


def check_backup(path: Path) -> Backup:
    """Read every byte of a finished backup again; raises AnswerNo naming what is damaged."""
    check_sums(path)
    backup = read_backup(path)
    read_back(backup)
    return backup


def load_and_compare(backup: Backup, site: Site, tell: Listener) -> dict[str, DatabasePrint]:
    """Load every database of a backup into a scratch database and fingerprint it; raises AnswerNo where it differs from
    what was fingerprinted when the backup was made. The scratch databases are removed.
    """
    loaded = {}
    for name, database in site.databases().items():
        copy = backup.database(name)
        wanted = backup.fingerprint(name).without(copy.moving)
        scratch = private_folder(site.state.path / "scratch") / f"{backup.name}-{name}"
        try:
            tell(Progress(f"load {name}", 0, None, Unit.ROWS))
            fresh = database.copied_to(backup.path / copy.file, scratch)
            loaded[name] = take_fingerprint(fresh).without(copy.moving)
        finally:
            database.drop_scratch(scratch)
        # A sequence goes on outside of every transaction: of a serving site it is not known where the dump found it.
        left_out = _NOT_LOADED if backup.closed else (*_NOT_LOADED, "the sequence ")
        differing = [what for what in wanted.differences(loaded[name]) if not what.startswith(left_out)]
        if differing:
            more = f" and {len(differing) - 1:,} more" if len(differing) > 1 else ""
            text = f"loaded from the backup {backup.name}, {differing[0]}{more} of the database {name} is not as it was"
            remedy = "make another backup, and see what the server's own log says of this one"
            raise AnswerNo(Problem("backup-differs", text, remedy, str(backup.path / copy.file)))
    return loaded


# What would start to work by itself is left out of a scratch database.
_NOT_LOADED = ("the event ",)


def read_back(backup: Backup) -> None:
    """Read the archive through to its end mark and hold its list of members against the manifest; check databases."""
    _drop_cached(backup.path)
    expected = backup.manifest()
    seen: set[str] = set()
    with open_members(backup.archive) as members:
        for member, content in members:
            if content is not None:
                while content.read(1024 * 1024):
                    pass
            seen.add(path_of_member(member.name))
    missing = expected.keys() - seen
    if missing:
        text = f"the archive {backup.archive} lacks {len(missing):,} entries, among them {min(missing)}"
        raise AnswerNo(Problem("backup-damaged", text, "make another backup", str(backup.archive)))
    check_sums(backup.path, every_file=False)


def path_of_member(name: str) -> str:
    """A member's name as the manifest has it: a tree path, or an absolute path for what lies outside root."""
    if name.startswith(ROOT_PREFIX + "/"):
        return name[len(ROOT_PREFIX) + 1 :]
    return name[len(OUTSIDE_PREFIX) :] if name.startswith(OUTSIDE_PREFIX + "/") else ""


def _drop_cached(path: Path) -> None:
    """Ask the kernel to forget what it holds of these files, so that reading back reads the disk."""
    for name in files_of(path):
        descriptor = os.open(path / name, os.O_RDONLY)
        try:
            os.fsync(descriptor)
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        finally:
            os.close(descriptor)


def _note_sum(folder: Path, name: str, digest: str) -> None:
    path = folder / SUMS_NAME
    lines = path.read_text().splitlines() if path.exists() else []
    lines = [line for line in lines if not line.endswith(f"  {name}")] + [f"{digest}  {name}"]
    write_whole(path, ("\n".join(lines) + "\n").encode())


def _explained(fault: OSError) -> AnswerNo:
    text = f"the backup could not be written: {fault.strerror}" + (f" ({fault.filename})" if fault.filename else "")
    remedy = "free space on the disk of the state folder, or see that every file can be read by this account"
    return AnswerNo(Problem("backup-failed", text, remedy, str(fault.filename or "")))
