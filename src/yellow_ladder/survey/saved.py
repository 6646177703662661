"""Surveys that are kept by name, and what changed since: files, settings, schema, rows."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from yellow_ladder.durable import private_folder, write_json
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.files.entry import Kind, Manifest
from yellow_ladder.files.listing import Listing, in_order, write_listing
from yellow_ladder.files.manifest import FileChange, compare_manifests
from yellow_ladder.masking import masked_value
from yellow_ladder.release.versions import Version
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.reading import read_settings_file
from yellow_ladder.site.site import Site
from yellow_ladder.survey.drift.reference import Reference, recorded_contents
from yellow_ladder.survey.records import Survey
from yellow_ladder.survey.take import RecordFinder
from yellow_ladder.words import day_in_words, stamp_of

FORMAT = 3
NAME = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$")


SettingsByFile = Mapping[str, Mapping[str, str]]


@dataclass(frozen=True, slots=True)
class Snapshot:
    """A site at one moment: versions, files, settings (secrets as digests), tables with columns and rows, objects.

    `files_read` says whether files in data folders have digests; where not, size and time stand in.
    """

    name: str
    taken_at: str
    version: str
    answers: Mapping[str, str]
    files: Manifest
    settings: SettingsByFile
    tables: Mapping[str, tuple[str, ...]]
    rows: Mapping[str, int]
    objects: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class SiteChanges:
    """What differs between two snapshots, each as (what, before, now) or by kind of change."""

    since: str
    since_when: str
    versions: tuple[tuple[str, str, str], ...] = ()
    files: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    settings: tuple[tuple[str, str, str, str], ...] = ()  # (file, key, before, now)
    schema: tuple[str, ...] = ()
    rows: tuple[tuple[str, int, int], ...] = ()

    @property
    def is_nothing(self) -> bool:
        """Whether nothing differs."""
        return not (self.versions or any(self.files.values()) or self.settings or self.schema or self.rows)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


def snapshot_of(site: Site, survey: Survey, name: str, now: datetime) -> Snapshot:
    """The survey as a snapshot, with settings and the schema's objects."""
    tables: dict[str, tuple[str, ...]] = {}
    rows: dict[str, int] = {}
    objects: dict[str, str] = {}
    for surveyed in survey.databases:
        tables |= {f"{surveyed.name}.{table.name}": table.columns for table in surveyed.columns}
        rows |= {f"{surveyed.name}.{table}": count for table, count in surveyed.tables.items()}
    for database_name, database in site.databases().items():
        try:
            objects |= {object_name(database_name, key): text for key, text in database.objects().items()}
        except LadderError:
            continue  # a finding of the survey says so
    return Snapshot(
        name,
        stamp_of(now),
        str(survey.version or ""),
        {f"{one.of} {one.part} ({one.where})".replace("  ", " "): one.says for one in survey.answers},
        survey.manifest,
        settings_of(site),
        tables,
        rows,
        objects,
    )


def object_name(database: str, key: str) -> str:
    """`index main.by_owner` from a database's name and `index by_owner`."""
    kind, _, name = key.partition(" ")
    return f"{kind} {database}.{name}"


def settings_of(site: Site) -> dict[str, dict[str, str]]:
    """Every settings file's keys with their values; a digest stands in for a secret."""
    found = {}
    for spec in site.record.keep.merged:
        with contextlib.suppress(OSError, LadderError):
            found[spec.file] = told(read_settings_file(site.root / spec.file, spec.format, spec.file, spec.encoding))
    return found


def told(settings: Document) -> dict[str, str]:
    """The keys of a settings file with values that may be written down."""
    return {key: masked_value(key, value) for key, value in settings.values().items()}


def keep_snapshot(site: Site, snapshot: Snapshot) -> None:
    """Write a snapshot into the state folder; raises BadInput for a name that is taken or none."""
    if not NAME.match(snapshot.name):
        text = f"{snapshot.name!r} is no name for a survey"
        raise BadInput(Problem("bad-name", text, "take letters, digits, dot, dash and underscore"))
    folder = site.state.surveys / snapshot.name
    if (folder / "survey.json").exists():
        text = f"there is a survey {snapshot.name} already"
        raise BadInput(Problem("name-taken", text, f"take another name, or remove {folder}"))
    private_folder(folder)
    write_listing(folder / "files.jsonl", in_order(snapshot.files))
    record = asdict(replace(snapshot, files={}))
    del record["files"]
    write_json(folder / "survey.json", {"format": FORMAT, **record})


def kept_names(site: Site) -> list[str]:
    """Names of the surveys that are kept."""
    folder = site.state.surveys
    return sorted(path.parent.name for path in folder.glob("*/survey.json")) if folder.is_dir() else []


def load_snapshot(site: Site, name: str) -> Snapshot:
    """Read a snapshot; raises BadInput where there is none and AnswerNo where it is damaged."""
    folder = site.state.surveys / name
    if name not in kept_names(site):
        known = ", ".join(kept_names(site)) or "none"
        text = f"there is no survey and no climb {name}"
        raise BadInput(Problem("no-survey", text, f"kept surveys: {known}; climbs: yl history"))
    try:
        record = json.loads((folder / "survey.json").read_bytes())
        if record.pop("format") != FORMAT:
            raise ValueError("it is in the format of an earlier yl")
        files = Listing.opened(folder / "files.jsonl", lambda why: _damaged(folder, why))
        tables = {table: tuple(columns) for table, columns in record.pop("tables").items()}
        return Snapshot(**record, tables=tables, files=files)
    except (OSError, ValueError, KeyError, TypeError) as fault:
        raise _damaged(folder, str(fault)) from fault


def _damaged(folder: Path, why: str) -> AnswerNo:
    text = f"the survey {folder.name} is damaged: {why}"
    return AnswerNo(Problem("survey-damaged", text, f"remove {folder} and keep another", str(folder)))


def compare(before: Snapshot, now: Snapshot) -> SiteChanges:
    """What changed from one moment to the other."""
    versions = [(key, before.answers.get(key, ""), says) for key, says in now.answers.items()]
    if before.version != now.version:
        versions.insert(0, ("the site", before.version, now.version))
    rows = [
        (table, before.rows.get(table, 0), now.rows.get(table, 0))
        for table in sorted(before.rows.keys() | now.rows.keys())
    ]
    return SiteChanges(
        before.name,
        before.taken_at,
        tuple(one for one in versions if one[1] != one[2] and one[1]),
        _file_changes(before.files, now.files),
        tuple(_setting_changes(before.settings, now.settings)),
        tuple(_schema_changes(before, now)),
        tuple(one for one in rows if one[1] != one[2]),
    )


def _setting_changes(before: SettingsByFile, now: SettingsByFile) -> Iterator[tuple[str, str, str, str]]:
    moved = _moved_files(before, now)
    before = {moved.get(file, file): values for file, values in before.items()}
    for file in sorted(before.keys() | now.keys()):
        old, new = before.get(file, {}), now.get(file, {})
        for key in sorted(old.keys() | new.keys()):
            if old.get(key, "") != new.get(key, ""):
                yield file, key, old.get(key, ""), new.get(key, "")


def _moved_files(before: SettingsByFile, now: SettingsByFile) -> dict[str, str]:
    """Settings files that are the same under another path: the only one of its name that went, and that came."""
    gone, new = before.keys() - now.keys(), now.keys() - before.keys()
    names = [path.rsplit("/", 1)[-1] for path in (*gone, *new)]
    return {
        old: path
        for old in gone
        for path in new
        if old.rsplit("/", 1)[-1] == path.rsplit("/", 1)[-1] and names.count(path.rsplit("/", 1)[-1]) == 2
    }


def _file_changes(before: Manifest, now: Manifest) -> dict[str, tuple[str, ...]]:
    found: dict[str, list[str]] = {}
    for one in compare_manifests(before, now):
        old, new = before.get(one.path), now.get(one.path)
        there = new or old
        if one.change in (FileChange.ADDED, FileChange.MISSING) and there and there.kind is Kind.FOLDER:
            continue  # what lies in it is listed
        if (
            one.change is FileChange.CONTENT
            and old
            and new
            and old.kind == new.kind
            and not (old.digest and new.digest)
        ):
            continue  # one of the two looks did not read it: judged by size and time, below
        found.setdefault(str(one.change), []).append(one.path)
    for path, new in now.items():
        old = before.get(path)
        if old is None or (old.digest and new.digest) or not old.kind is new.kind is Kind.FILE:
            continue
        if (old.size, old.modified_ns) != (new.size, new.modified_ns):
            found.setdefault(str(FileChange.CONTENT), []).append(path)
    return {kind: tuple(sorted(paths)) for kind, paths in found.items()}


def _schema_changes(before: Snapshot, now: Snapshot) -> list[str]:
    found = [f"new table {table}" for table in now.tables if table not in before.tables]
    found += [f"table {table} is gone" for table in before.tables if table not in now.tables]
    for table in before.tables.keys() & now.tables.keys():
        old, new = before.tables[table], now.tables[table]
        found += [f"new column {table}.{column}" for column in new if column not in old]
        found += [f"column {table}.{column} is gone" for column in old if column not in new]
    # A survey of an earlier build had no definitions of SQLite's tables: these are not new by that.
    here = [name for name in now.objects if name.removeprefix("table ") not in before.tables]
    found += [f"new {name}" for name in here if name not in before.objects]
    found += [f"{name} is gone" for name in before.objects if name not in now.objects]
    found += [f"{n} is another" for n in now.objects if n in before.objects and before.objects[n] != now.objects[n]]
    return sorted(set(found))


def find_saved(site: Site, version: Version) -> tuple[str, Callable[[], Reference]] | None:
    """The newest kept survey of a version, as a record of what its files were."""
    found = None
    for name in kept_names(site):
        try:
            snapshot = load_snapshot(site, name)
            if Version(snapshot.version) == version and (found is None or snapshot.taken_at > found.taken_at):
                found = snapshot
        except (LadderError, ValueError):
            continue
    if found is None:
        return None
    files, label = found.files, f"the survey {found.name} of {day_in_words(found.taken_at)}"
    return label, lambda: Reference(label, recorded_contents(files), is_package=False)


SAVED_RECORDS = RecordFinder(find_saved)
