"""Makes a backup: files in one pass, databases by their own online copy, then everything is read back."""

from __future__ import annotations

import os
import stat
import time
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import (
    ARCHIVE_ENDING,
    ARCHIVE_NAME,
    FIRST_STEM,
    INDEX_NAME,
    MANIFEST_ENDING,
    ROOT_PREFIX,
    Backup,
    DatabaseBackup,
    check_sums,
    damaged,
    files_of,
    list_backups,
    print_name,
    read_backup,
    read_manifest,
    read_sums,
)
from yellow_ladder.backup.files import (
    Making,
    backup_name,
    base_of,
    explained,
    note_sums,
    reading_of,
    write_files,
)
from yellow_ladder.backup.reading import read_through
from yellow_ladder.database import Database
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.durable import private_folder, sync_folder, write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Listener, Progress, Unit, counting, silent
from yellow_ladder.files.archives.write import Archived
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.fingerprints.records import DatabasePrint, Ties
from yellow_ladder.fingerprints.scan import OnRows, take_fingerprint
from yellow_ladder.site.site import Site
from yellow_ladder.words import moment_of, stamp_of


@connections_kept()
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
        may_move = database.moves_meanwhile and not making.closed
        earlier = take_fingerprint(database, Ties(apart=None), _telling_rows(making, name)) if may_move else None
        with database.backed_up(target, tell, at_rest=making.closed) as still:
            found = take_fingerprint(still, on_rows=_telling_rows(making, name))
        moving = _moving(earlier, found) if earlier else ()
    except OSError as fault:
        raise explained(fault) from fault
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
    return counting(making.tell, f"rows of {name}", Unit.ROWS)


def _moving(earlier: DatabasePrint, later: DatabasePrint) -> tuple[str, ...]:
    """Tables that were written to while a server without shared moments dumped them: not the same before and after."""
    names = earlier.tables.keys() | later.tables.keys()
    return tuple(sorted(name for name in names if earlier.tables.get(name) != later.tables.get(name)))


def _seal(folder: Path, copy: str, *others: str) -> int:
    """Make a copy private and note the digest of every file of it; returns its bytes."""
    names = [name for name in files_of(folder) if name == copy or name.startswith(f"{copy}/")]
    for name in names:
        (folder / name).chmod(0o600)
    note_sums(folder, {name: sha256_of(folder / name) for name in (*names, *others)}, of=copy)
    return sum((folder / name).stat().st_size for name in names)


def _own_rights(root: Path) -> dict[str, int]:
    """Owner and mode of the tree's own folder, which is no entry of it."""
    status = nolinks.status_of(root)
    return {"uid": status.st_uid, "gid": status.st_gid, "mode": stat.S_IMODE(status.st_mode)}


def finish(making: Making, archived: Archived, databases: list[DatabaseBackup], now: datetime) -> Backup:
    """Read everything back, and only then give the backup its name. May be repeated once the name is given."""
    if making.final.is_dir():
        check_backup(making.final, making.tell)
        return read_backup(making.final)
    for one in databases:
        database = making.site.databases()[one.name]
        # A file's copy was read through to the last row when it was fingerprinted; a dump was not.
        if not (making.closed and database.address.is_file):
            database.check_backup(making.folder / one.file)
    counted = archived.in_all
    backup = Backup(
        path=making.folder,
        site=making.site.name,
        version=making.version,
        made_at=stamp_of(now),
        root=str(making.site.root),
        files=counted.files,
        file_bytes=counted.bytes,
        databases=tuple(databases),
        facts={ROOT_PREFIX: _own_rights(making.site.root)},
        outside=making.site.outside,
        data=making.site.data_outside,
        unsteady=tuple(archived.unsteady),
        closed=making.closed,
        parts=making.parts,
        started_ns=making.started_ns,
    )
    _drop_cached(backup.path)
    note_sums(making.folder, {backup.archive.name: read_back(backup, making.tell)})
    # The archives were digested when they were found to hold what was listed: this one now, a first copy before.
    check_sums(making.folder, every_file=False, leave_out=(FIRST_STEM + ARCHIVE_ENDING, backup.archive.name))
    backup = replace(backup, path=making.final, read_back_at=stamp_of(now))
    write_json(making.folder / INDEX_NAME, backup.as_record())
    note_sums(making.folder, {INDEX_NAME: sha256_of(making.folder / INDEX_NAME)})
    sync_folder(making.folder)
    making.folder.rename(making.final)
    sync_folder(making.final.parent)
    return backup


def make_backup(site: Site, version: str, now: datetime, tell: Listener, since: Backup | None = None) -> Backup:
    """Make a stand-alone backup of a site that may be serving: files that change under the reading are named.

    With `since`, only files that came or changed since that backup are stored; the rest is taken from it.
    """
    base = base_of(since) if since else None
    now = _after_the_newest(site, now)
    making = Making(
        site,
        version,
        backup_name(site, version, now),
        tell,
        base=base,
        started_ns=time.time_ns(),
        expected_bytes=_as_the_last_time(site) if since is None else 0,
    )
    try:
        archived = write_files(making)
        databases = [write_database(making, database) for database in site.databases().values()]
        return finish(making, archived, databases, now)
    except BaseException:
        remove_entry(making.folder)
        raise


def _as_the_last_time(site: Site) -> int:
    """The bytes of files in the newest backup of the site that lies here; 0 where there is none."""
    before = [one for one in list_backups(site.state.backups) if one.site == site.name]
    return before[-1].file_bytes if before else 0


def _after_the_newest(site: Site, now: datetime) -> datetime:
    """A moment after the newest backup's: they go by the second, and of two in one second retention would let the
    wrong one go. A backup from the future, of a clock that was wrong, moves nothing.
    """
    made = [moment_of(one.made_at) for one in list_backups(site.state.backups)]
    if made and now - timedelta(seconds=1) < max(made) < now + timedelta(minutes=1):
        return max(made) + timedelta(seconds=1)
    return now


def check_backup(path: Path, tell: Listener = silent, *, is_named: bool = True) -> Backup:
    """Read every byte of a finished backup again, and of those that it needs; raises AnswerNo naming the damage."""
    _drop_cached(path)
    check_sums(path, leave_out=(ARCHIVE_NAME,), tell=tell)
    backup = read_backup(path, is_named=is_named)
    for base in backup.bases:
        if not (path.parent / base).is_dir():
            text = f"the backup {backup.name} builds upon {base}, which is not there"
            raise AnswerNo(Problem("backup-incomplete", text, "bring it back, or use another backup", str(path)))
        check_backup(path.parent / base, tell)
    if read_back(backup, tell) != read_sums(path)[ARCHIVE_NAME]:
        raise damaged(backup.archive, "its content differs from what was written")
    return backup


def load_and_compare(backup: Backup, site: Site, tell: Listener) -> dict[str, DatabasePrint]:
    """Load every database of a backup into a scratch database and fingerprint it; raises AnswerNo where it differs from
    what was fingerprinted when the backup was made. The scratch databases are removed.
    """
    loaded = {}
    folder = private_folder(site.state.path / "scratch")
    _drop_forgotten(site, folder)
    for name, database in site.databases().items():
        copy = backup.database(name)
        wanted = backup.fingerprint(name).without(copy.moving)
        scratch = folder / f"{backup.name}-{name}"
        try:
            scratch.touch()  # tells the next run what a kill left behind
            tell(Progress(f"load {name}", 0, None, Unit.ROWS))
            fresh = database.copied_to(backup.path / copy.file, scratch)
            loaded[name] = take_fingerprint(fresh, Ties(apart=None)).without(copy.moving)
        finally:
            database.drop_scratch(scratch)
            remove_entry(scratch)
        # A sequence goes on outside of every transaction: of a serving site it is not known where the dump found it.
        left_out = _NOT_LOADED if backup.closed else (*_NOT_LOADED, "the sequence ")
        differing = [what for what in wanted.differences(loaded[name]) if not what.startswith(left_out)]
        if differing:
            more = f" and {len(differing) - 1:,} more" if len(differing) > 1 else ""
            text = f"loaded from the backup {backup.name}, {differing[0]}{more} of the database {name} is not as it was"
            remedy = "make another backup, and see what the server's own log says of this one"
            raise AnswerNo(Problem("backup-differs", text, remedy, str(backup.path / copy.file)))
    return loaded


def _drop_forgotten(site: Site, folder: Path) -> None:
    """Remove scratch databases that a killed run has left."""
    for left in folder.iterdir():
        for name, database in site.databases().items():
            if left.name.endswith(f"-{name}"):
                database.drop_scratch(left)
        remove_entry(left)


# What would start to work by itself is left out of a scratch database.
_NOT_LOADED = ("the event ",)


def read_back(backup: Backup, tell: Listener) -> str:
    """Read the newest archive through, hold what is in it against the manifest, and digest it; returns its SHA-256.

    What is not in it must have been in the part before it, with the same content. Raises AnswerNo.
    """
    before = f"{backup.parts[-2]}{MANIFEST_ENDING}" if len(backup.parts) > 1 else ""
    earlier = read_manifest(backup.path / before) if before else None
    return read_through(backup.archive, backup.manifest(), earlier, reading_of(backup.archive, tell))


def _drop_cached(path: Path) -> None:
    """Ask the kernel to forget what it holds of these files, so that reading back reads the disk."""
    for name in files_of(path):
        descriptor = os.open(path / name, os.O_RDONLY)
        try:
            os.fsync(descriptor)
            os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        finally:
            os.close(descriptor)
