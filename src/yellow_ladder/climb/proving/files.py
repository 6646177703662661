"""Holds the files against what should be there, and tells what became of each: owner and mode, content, place."""

from __future__ import annotations

import os
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.backup.outside import as_it_is
from yellow_ladder.climb.proving.closed import only_closes
from yellow_ladder.climb.proving.expected import (
    beside_expected,
    beside_outside,
    data_folders_after,
    expected_tree,
    settings_elsewhere,
)
from yellow_ladder.climb.proving.in_short import Became, FileFault, became
from yellow_ladder.climb.proving.machine import in_effect_after, wants_a_start
from yellow_ladder.climb.record.commands import written_by_commands
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.events import Listener, counted
from yellow_ladder.files.attributes import attributes_changed
from yellow_ladder.files.entry import Entry, Kind, within
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import Difference, FileChange, TreeSum, differing, digest_file
from yellow_ladder.files.names import NamesOfOneFile, regrouped
from yellow_ladder.words import count_of, moment_in_words, moment_of, some_of

Found = tuple[Difference, Entry | None, Entry | None]
_NAMED_A_FOLDER, _NAMED_FOLDERS = 3, 5


class FilesSeen:
    """What is counted while the files are compared, since they are gone through once."""

    def __init__(self, plan: Plan, tell: Listener) -> None:
        """Begin with nothing seen of what should be there after a climb."""
        self._plan, self._expected, self._tell = plan, expected_tree(plan), tell
        self.found = TreeSum()
        self.files = self.data_files = 0
        self._before, self._now = NamesOfOneFile(), NamesOfOneFile()
        self._written = written_by_commands(plan)
        self._with_another_time: dict[str, tuple[int, Entry, Entry]] = {}

    def differences(self) -> Iterator[Found]:
        """What differs between what is expected and what is there."""
        return differing(counted(self._pairs(), self._tell, "compare"))

    def _pairs(self) -> Iterator[tuple[Entry | None, Entry | None]]:
        is_data = self._expected.is_data
        for old, new in beside_expected(self._plan, self._expected):
            if old is not None:
                self.files += old.kind is not Kind.FOLDER
                self.data_files += old.kind is not Kind.FOLDER and is_data(old.path)
            if new is not None:
                self.found.add(new)
            self._before.see(old)
            self._now.see(new)
            if old is new:
                yield old, new
                continue
            if old is not None and new is not None and old.modified_ns != new.modified_ns and is_data(old.path):
                self._see_times(old, new)
            yield old, new

    def _see_times(self, old: Entry, new: Entry) -> None:
        if old.kind is Kind.FILE and old.same_content(new) and not within(old.path, self._written):
            folder = self._expected.data_folder_of(old.path)
            count, first, now = self._with_another_time.get(folder, (0, old, new))
            self._with_another_time[folder] = (count + 1, first, now)

    def times(self) -> Iterator[str]:
        """By folder, how many data files have their content and another time."""
        for folder, (count, old, new) in sorted(self._with_another_time.items()):
            which = f"{count_of(count, 'file')} in {folder}, first {old.path}:" if count > 1 else f"{old.path}:"
            then, now = (moment_in_words(datetime.fromtimestamp(one.modified_ns / 1e9, UTC)) for one in (old, new))
            yield f"same content and another time: {which} {then} → {now}"

    def brought(self) -> Iterator[str]:
        """What releases have brought into data folders."""
        files = [path for path, one in sorted(self._expected.brought.items()) if one.kind is not Kind.FOLDER]
        if files:
            named = some_of(files, _NAMED_A_FOLDER)
            yield f"brought into data folders, new or in place of what nobody had changed: {named}"

    def regrouped(self) -> Iterator[tuple[str, str]]:
        """Data files whose names are no longer those of one file, or have become so, with what happened."""

        def is_in_both(path: str) -> bool:
            is_data = path in self._expected and self._expected.is_data(path)
            return is_data and nolinks.is_there(self._plan.site.root / path)

        for path, other, were_one in regrouped(self._before, self._now, is_in_both):
            yield path, name_became(other, were_one=were_one)


@dataclass(slots=True)
class FilesJudged:
    """Faults; remarks about what may be, since a new release writes new files of its own into data folders; and data
    files that were written again after the climb had ended whole.
    """

    faults: list[FileFault] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    written_since: list[str] = field(default_factory=list)


def judge_files(run: Run, seen: FilesSeen, ended_ns: int | None = None) -> FilesJudged:
    """Judge what differs. `ended_ns`: when a climb ended that had found no difference; None while it is under way."""
    judging = _Judging(run, ended_ns)
    found, renamed = _renames_apart(sorted(seen.differences(), key=lambda one: one[0].path))
    for old, new in renamed:
        judging.take_rename(old, new)
    judging.see_logs(found)
    for one, expected, present in found:
        judging.take(one, expected, present)
    told = {one.path for one, _, _ in found}
    for path, what in seen.regrouped():
        if path not in told:
            judging.take_names(path, what)
    judged = judging.judged
    judged.faults += _settings_elsewhere(run)
    judged.remarks += [*seen.times(), *seen.brought(), *judging.counted(), *_outside(run)]
    return judged


def _settings_elsewhere(run: Run) -> Iterator[FileFault]:
    """Settings outside root that are not what the climb was to make of them, or belong to others or are open to others
    than before.
    """
    plan, settings = run.plan, settings_elsewhere(run.plan)
    backed_up = read_backup(plan.site.state.backups / plan.backup_name).manifest() if settings else {}
    for file, wanted in settings.items():
        before = backed_up.get(file)
        if not nolinks.is_there(file):
            yield FileFault(file, "is missing", Became.GONE)
            continue
        now = as_it_is(file, Path(file), before)
        if now.digest != digest_file(wanted):
            sizes = f"{wanted.stat().st_size:,} → {now.size:,} bytes"
            yield FileFault(file, f"has another content than the climb gave it ({sizes})", Became.CONTENT)
        if before is not None and now.kind is before.kind and not before.same_rights(now):
            told = what_became(Difference(file, FileChange.RIGHTS), before, now)
            yield FileFault(file, told, became(FileChange.RIGHTS))


class _Judging:
    """What may become of files, by where they are, and what has."""

    def __init__(self, run: Run, ended_ns: int | None) -> None:
        moves = data_folders_after(run.plan)
        self._run, self._ended_ns = run, ended_ns
        self._folders = list(moves.values())
        self._logs = [_after(path, moves) for path in run.site.logs]
        self._written = written_by_commands(run.plan)
        self._counts: Counter[str] = Counter()
        self._new_in: dict[str, list[str]] = defaultdict(list)
        self._logs_that_came: dict[str, str] = {}
        self.judged = FilesJudged()

    def see_logs(self, found: Iterable[Found]) -> None:
        """Remember the logs that are new, by their content: what one held may have been turned over into another."""
        for one, _, present in found:
            is_new = one.change is FileChange.ADDED and within(one.path, self._logs)
            if is_new and present is not None and _is_telling(present):
                self._logs_that_came[present.digest] = one.path

    def take(self, one: Difference, expected: Entry | None, present: Entry | None) -> None:
        """Take what differs at one path."""
        path, judged = one.path, self.judged
        is_log = within(path, self._logs)
        if one.change is FileChange.ADDED and within(path, self._folders):
            self._new_in[path.rpartition("/")[0]].append(path)
        elif is_log and _has_only_grown(self._run.site.root / path, expected):
            judged.remarks.append(f"log {path}: has grown; its beginning is the same")
        elif is_log and expected is not None and expected.digest in self._logs_that_came:
            judged.remarks.append(f"log {path}: what it held is in {self._logs_that_came[expected.digest]}")
        elif is_log and self._ended_ns is not None and (present is None or present.changed_ns > self._ended_ns):
            # Programs begin their logs anew, and remove old ones.
            judged.written_since.append(f"log {path}: {what_became(one, expected, present)}")
        elif one.change is FileChange.CONTENT and only_closes(self._run.plan, expected, present):
            return
        elif within(path, self._folders) and not is_log and _is_written_since(one, present, self._ended_ns):
            judged.written_since.append(f"file {path}: {what_became(one, expected, present)}")
        elif within(path, self._written):
            self._counts[self._writer_of(path)] += 1
        else:
            judged.faults.append(FileFault(path, what_became(one, expected, present), became(one.change)))

    def take_rename(self, old: str, new: str) -> None:
        """Take a file that is there under another name."""
        if within(old, self._logs) and within(new, self._logs):
            self.judged.remarks.append(f"log {old}: was renamed to {new}")
        elif within(old, self._written) and within(new, self._written):
            self._counts[self._writer_of(old)] += 1
        else:
            self.judged.faults.append(FileFault(old, f"was renamed to {new}", Became.RENAMED))

    def take_names(self, path: str, what: str) -> None:
        """Take what became of the names of one file."""
        status = nolinks.status_or_none(self._run.plan.site.root / path)
        if status is not None and not within(path, self._written):
            is_since = self._ended_ns is not None and status.st_ctime_ns > self._ended_ns
            fault = FileFault(path, what, Became.OTHER)
            if is_since:
                self.judged.written_since.append(str(fault))
            else:
                self.judged.faults.append(fault)

    def counted(self) -> Iterator[str]:
        """What came new, by folder, and what commands wrote."""
        # A folder that came with something in it is told by that.
        told = {folder: [one for one in paths if one not in self._new_in] for folder, paths in self._new_in.items()}
        by_data: dict[str, dict[str, list[str]]] = defaultdict(dict)
        for folder, paths in told.items():
            if paths:
                data = min((one for one in self._folders if within(folder, [one])), key=len, default=folder)
                by_data[data][folder] = paths
        for data, new in by_data.items():
            # A record of each thing in a folder of its own may be new: thousands of folders with one file.
            if len(new) > _NAMED_FOLDERS:
                count = sum(map(len, new.values()))
                first = next(iter(new.values()))[0]
                yield f"new in the data folder {data}: {count_of(count, 'file')} in {len(new):,} folders, first {first}"
            else:
                yield from (_new_in_words(folder, paths) for folder, paths in new.items())
        yield from (f"written by `{name}`: {count_of(many, 'file')}" for name, many in self._counts.items())

    def _writer_of(self, path: str) -> str:
        return next(name for place, name in self._written.items() if within(path, [place]))


def _is_written_since(one: Difference, present: Entry | None, ended_ns: int | None) -> bool:
    """Whether a file is there whose content somebody has written after a moment: the kernel's own time says so."""
    is_file = present is not None and present.kind is Kind.FILE and one.change is FileChange.CONTENT
    return ended_ns is not None and is_file and present is not None and present.changed_ns > ended_ns


def _new_in_words(folder: str, paths: list[str]) -> str:
    if len(paths) <= _NAMED_A_FOLDER:
        return f"new in a data folder: {', '.join(paths)}"
    return f"new in the data folder {folder}: {count_of(len(paths), 'file')}, first {paths[0]}"


def what_became(one: Difference, expected: Entry | None, present: Entry | None) -> str:
    """What happened to one file, in words."""
    if expected is None or present is None:
        return "is missing" if present is None else "is there and is part of neither the release nor the site"
    if one.change is FileChange.RIGHTS:
        return "; ".join(_rights(expected, present))
    if expected.kind is not present.kind:
        return f"is not a {expected.kind} any more, but {_A[present.kind]}"
    if expected.kind is Kind.LINK:
        return f"leads to {present.target} and not to {expected.target}"
    if expected.size == present.size:
        return f"has another content of the same size ({count_of(expected.size, 'byte')})"
    return f"has another content ({expected.size:,} → {present.size:,} bytes)"


def name_became(other: str, *, were_one: bool) -> str:
    """What happened to one of a file's names, or to what has become one, in words."""
    return f"was one file with {other} and is another now" if were_one else f"has become one file with {other}"


_A = {Kind.FILE: "a file", Kind.FOLDER: "a folder", Kind.LINK: "a link", Kind.OTHER: "something else"}


def _rights(expected: Entry, present: Entry) -> Iterator[str]:
    if expected.mode != present.mode:
        yield f"has another mode: {expected.mode & 0o7777:04o} → {present.mode & 0o7777:04o}"
    if (expected.uid, expected.gid) != (present.uid, present.gid):
        yield f"has another owner: {expected.uid}:{expected.gid} → {present.uid}:{present.gid}"
    if expected.attributes is not None and present.attributes is not None:
        yield from attributes_changed(expected.attributes, present.attributes)


def _renames_apart(found: list[Found]) -> tuple[list[Found], list[tuple[str, str]]]:
    """What differs but for files that are there under another name with the same content, and these names."""
    gone: dict[str, list[Entry]] = defaultdict(list)
    for one, expected, _ in found:
        if one.change is FileChange.MISSING and expected is not None and _is_telling(expected):
            gone[expected.digest].append(expected)
    renamed: dict[str, str] = {}
    for one, _, present in found:
        if one.change is FileChange.ADDED and present is not None and gone.get(present.digest):
            renamed[gone[present.digest].pop(0).path] = present.path
    taken = {*renamed, *renamed.values()}
    return [one for one in found if one[0].path not in taken], sorted(renamed.items())


def _is_telling(entry: Entry) -> bool:
    """Whether a content is so much the file's own that the same one elsewhere is this file."""
    return entry.kind is Kind.FILE and entry.size > 0 and bool(entry.digest)


def _outside(run: Run) -> Iterator[str]:
    """Files outside root, but for data, that are not as they were backed up: told, since more than the application
    writes there. And what of that is not in effect before the machine reads it.
    """
    plan = run.plan
    settings = settings_elsewhere(plan)
    for one, expected, present in differing(beside_outside(plan)):
        if one.path in settings:
            continue  # held against what the climb was to make of it
        if present is None or present.kind is not Kind.FOLDER or one.change is FileChange.RIGHTS:
            when = in_effect_after(one.path) if one.change is not FileChange.RIGHTS else ""
            later = f"; in effect after {when}" if when else ""
            yield f"outside root, {one.path}: {what_became(one, expected, present)}{later}"
    wanted = wants_a_start(int(moment_of(plan.made_at).timestamp() * 1e9))
    if wanted:
        yield wanted


def _after(path: str, moves: Mapping[str, str]) -> str:
    """Where a path in a data folder lies after the climb."""
    return next((new + path[len(old) :] for old, new in moves.items() if within(path, [old])), path)


def _has_only_grown(path: Path, before: Entry | None) -> bool:
    """Whether a file begins with all that it held before."""
    if before is None or before.kind is not Kind.FILE:
        return False
    left, digest = before.size, blake3()
    try:
        with os.fdopen(nolinks.open_regular(path), "rb") as stream:
            while left and (block := stream.read(min(left, READ_BYTES))):
                digest.update(block)
                left -= len(block)
    except OSError:
        return False
    return not left and digest.hexdigest() == before.digest
