"""Backups as they lie in the state folder."""

from __future__ import annotations

import json
import re
from collections.abc import Collection, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from yellow_ladder.durable import sync_folder
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.events import Listener, Unit, counting, silent
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.files.entry import Manifest, within
from yellow_ladder.files.listing import Chosen, Listing
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.fingerprints.records import DatabasePrint

FORMAT = 2
INDEX_NAME, SUMS_NAME = "backup.json", "SHA256SUMS"
FILES_STEM, FIRST_STEM, ARCHIVE_ENDING, MANIFEST_ENDING = "files", "files-first", ".tar.zst", ".jsonl"
ARCHIVE_NAME, MANIFEST_NAME = FILES_STEM + ARCHIVE_ENDING, FILES_STEM + MANIFEST_ENDING
UNFINISHED = ".unfinished"
_SUM_LINE = re.compile(r"([0-9a-f]{64})  ([A-Za-z0-9._-]+(?:/[A-Za-z0-9._-]+)?)")
ROOT_PREFIX, OUTSIDE_PREFIX = "root", "outside"


@dataclass(frozen=True, slots=True)
class Ground:
    """Where the paths of a backup's manifest lie: tree paths below `root`, absolute ones below `outside`."""

    root: Path
    outside: Path = Path("/")

    def at(self, path: str) -> Path:
        """The place of one entry."""
        return self.outside / path[1:] if path.startswith("/") else self.root / path


def print_name(database: str) -> str:
    """The file with a database's fingerprint."""
    return f"fingerprint-{database}.json"


@dataclass(frozen=True, slots=True)
class DatabaseBackup:
    """One database's copy: a file, or a folder where the server's own program writes one.

    `details` are owner and rights, as the engine puts them back; `moving` are tables that were written to while the
    backup was made, so that there is no fingerprint of them.
    """

    name: str
    file: str
    source: str
    size_bytes: int
    engine: str
    server: str
    details: Mapping[str, Any]
    moving: tuple[str, ...] = ()

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> DatabaseBackup:
        """Read what `asdict` gave."""
        return DatabaseBackup(**{**record, "moving": tuple(record["moving"])})


@dataclass(frozen=True, slots=True)
class Backup:
    """A backup that was written whole and read back.

    `outside` is what it has of what lies outside root, as the site file names it; `data` are the data folders in that.
    """

    path: Path
    site: str
    version: str
    made_at: str
    root: str
    files: int
    file_bytes: int
    databases: tuple[DatabaseBackup, ...]
    outside: tuple[str, ...] = ()
    data: tuple[str, ...] = ()
    unsteady: tuple[str, ...] = ()
    read_back_at: str = ""
    closed: bool = False
    facts: Mapping[str, Any] = field(default_factory=dict)
    parts: tuple[str, ...] = (FILES_STEM,)
    started_ns: int = 0

    @property
    def name(self) -> str:
        """Its folder's name."""
        return self.path.name

    @property
    def archive(self) -> Path:
        """The archive of its files, or of those that came or changed since the parts before it."""
        return self.path / ARCHIVE_NAME

    @property
    def archives(self) -> list[Path]:
        """Every archive that its files lie in, the newest first: what is in one hides what is in those behind it."""
        return [self.path / f"{part}{ARCHIVE_ENDING}" for part in reversed(self.parts)]

    @property
    def bases(self) -> list[str]:
        """Names of other backups that this one needs: they hold what had not changed since."""
        return list(dict.fromkeys(Path(part).parent.name for part in self.parts if part.startswith("../")))

    def size_bytes(self) -> int:
        """What it takes on disk."""
        return sum((self.path / name).stat().st_size for name in files_of(self.path))

    def database(self, name: str) -> DatabaseBackup:
        """The copy of a database; raises BadInput where there is none of that name."""
        found = next((one for one in self.databases if one.name == name), None)
        if found is None:
            text = f"the backup {self.name} has no database `{name}`"
            raise BadInput(Problem("no-such-database", text, "use another backup, or correct [[databases]]"))
        return found

    def fingerprint(self, name: str) -> DatabasePrint:
        """The fingerprint of a database, taken when the backup was made; raises AnswerNo where it is damaged."""
        path = self.path / print_name(name)
        try:
            return DatabasePrint.from_record(json.loads(path.read_bytes())["database"])
        except (OSError, ValueError, KeyError, TypeError) as fault:
            raise damaged(path, str(fault)) from fault

    def manifest(self) -> Listing:
        """Every entry as it was: below root by tree path, outside root by absolute path.

        Raises AnswerNo when the list is damaged.
        """
        return read_manifest(self.path / MANIFEST_NAME)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {"format": FORMAT, **asdict(self), "path": str(self.path)}


def read_manifest(path: Path) -> Listing:
    """A list of entries; raises AnswerNo when it is damaged, if need be when the damage is come upon."""
    try:
        return Listing.opened(path, lambda why: damaged(path, why))
    except OSError as fault:
        raise damaged(path, str(fault)) from fault


def compared_entries(manifest: Manifest, data: Collection[str]) -> Chosen:
    """The entries of a backup that a site is held against: below root, and in its `data` folders elsewhere."""
    return Chosen(manifest, lambda path: not path.startswith("/") or within(path, data))


def outside_root(manifest: Manifest) -> Chosen:
    """The entries of a backup that lie outside root."""
    return Chosen(manifest, lambda path: path.startswith("/"), first=(True, b"", b""))


def files_of(path: Path) -> list[str]:
    """The files of a backup, relative to it; folders are one deep."""
    found = []
    for entry in path.iterdir():
        if entry.is_dir() and not entry.is_symlink():
            found += [f"{entry.name}/{one.name}" for one in entry.iterdir()]
        else:
            found.append(entry.name)
    return sorted(found)


def damaged(path: Path, why: str) -> AnswerNo:
    """The error for a backup that is not what was written."""
    text = f"the backup file {path} is damaged: {why}"
    return AnswerNo(
        Problem("backup-damaged", text, "use another backup, and see whether the disk is failing", str(path))
    )


def read_backup(path: Path, *, is_named: bool = True) -> Backup:
    """Read a backup's index; raises BadInput when there is none and AnswerNo when it is damaged.

    One that has not got its name yet is no backup to anybody but who is about to name it.
    """
    index = path / INDEX_NAME
    if (is_named and path.name.endswith(UNFINISHED)) or not index.is_file():
        text = f"there is no finished backup at {path}"
        raise BadInput(Problem("no-backup", text, "see which there are with: yl backup list", str(path)))
    try:
        record = json.loads(index.read_bytes())
        if record.pop("format") != FORMAT:
            text = f"the backup {path.name} was made by an earlier yl, in another format"
            raise BadInput(
                Problem(
                    "other-format",
                    text,
                    "move its folder away; docs/formats.md says how to restore it by hand",
                    str(path),
                )
            )
        databases = tuple(map(DatabaseBackup.from_record, record.pop("databases")))
        record.setdefault("data", [])  # an earlier build knew none outside root
        lists = {name: tuple(record.pop(name)) for name in ("outside", "data", "unsteady", "parts")}
        return Backup(**{**record, **lists, "path": path, "databases": databases})
    except (ValueError, KeyError, TypeError, AttributeError) as fault:
        raise damaged(index, str(fault)) from fault


def remove_backup(backup: Backup) -> None:
    """Remove a backup: first its name, so that a half-removed one is never taken for whole."""
    going = backup.path.with_name(backup.name + UNFINISHED)
    remove_entry(going)
    backup.path.rename(going)
    sync_folder(going.parent)
    remove_entry(going)


def list_backups(folder: Path) -> list[Backup]:
    """All finished backups, oldest first; unfinished ones are never among them."""
    if not folder.is_dir():
        return []
    paths = [path for path in folder.iterdir() if path.is_dir() and not path.name.endswith(UNFINISHED)]
    found = [read_backup(path) for path in paths if (path / INDEX_NAME).is_file()]
    return sorted(found, key=lambda backup: (backup.made_at, backup.name))


def read_sums(path: Path) -> dict[str, str]:
    """The digests of a SHA256SUMS file by file name; raises AnswerNo when it is missing or garbled."""
    try:
        *lines, rest = (path / SUMS_NAME).read_text("ascii").split("\n")
        found = {match[2]: match[1] for match in map(_SUM_LINE.fullmatch, lines) if match}
        if rest or len(found) != len(lines):
            raise ValueError("a line in it is not a digest with a name")
        return found
    except (OSError, ValueError) as fault:
        raise damaged(path / SUMS_NAME, str(fault)) from fault


def check_sums(
    path: Path, *, every_file: bool = True, leave_out: Collection[str] = (), tell: Listener = silent
) -> None:
    """Read the files of a backup again and hold them against their digests.

    Raises AnswerNo naming the first that differs. With `every_file`, a file without a digest is a fault too.
    """
    sums = read_sums(path)
    present = set(files_of(path)) - {SUMS_NAME}
    total = sum((path / name).stat().st_size for name in present - {*leave_out})
    passed = counting(tell, f"digests of {path.name}", Unit.BYTES, total, READ_BYTES)
    for name in sorted(sums.keys() | (present if every_file else set())):
        if name not in sums:
            raise damaged(path / name, "no digest was noted for it")
        if name not in present:
            raise damaged(path / name, "it is missing")
        if name not in leave_out and sha256_of(path / name, passed=passed) != sums[name]:
            raise damaged(path / name, "its content differs from what was written")
