"""Settings files as releases ship them: looked for in a release's archive, and beside its sheet."""

from __future__ import annotations

import base64
import contextlib
import errno
import hashlib
import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.durable import write_memo
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.files.archives.unpack import read_files
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.moves import moved
from yellow_ladder.release.settings import SettingsChanges
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version
from yellow_ladder.settings.choices import Choices
from yellow_ladder.settings.forecast import Forecast, OnTheWay, OwnFile, Prepared, Shipped, foresee
from yellow_ladder.settings.script import LARGEST_BYTES
from yellow_ladder.site.keep_records import ReplacedFile
from yellow_ladder.site.scratch import Wanted, made_by
from yellow_ladder.site.site import Site

FORMAT = 1
_DEFAULTS_WITHIN_S = 60.0


def own_files(site: Site) -> list[OwnFile]:
    """The site's settings files and templates as they are; one that is not there yet is new, and empty.

    Raises OSError for one that cannot be read, BadInput for one that is a link.
    """
    prepared = {one.file: _prepared(site, one) for one in site.record.keep.replaced}
    for spec in site.record.keep.merged:
        path = site.root / spec.file
        if path.is_symlink():
            text = f"the settings file {path} is a link, and merging would put a file in its place"
            remedy = "put the file itself there, or name what the link leads to under keep.outside"
            raise BadInput(Problem("settings-link", text, remedy, spec.file))
    found = []
    for spec in site.record.keep.merged:
        is_there = nolinks.is_there(nolinks.trusted(site.root / spec.file))
        raw = read_regular(site.root / spec.file, LARGEST_BYTES) if is_there else b""
        found.append(
            OwnFile(
                spec.file, raw, spec.format, spec.encoding, spec.on_conflict, spec.keys,
                not is_there, prepared.get(spec.file), spec.in_release,
            )
        )  # fmt: skip
    return found


def _prepared(site: Site, one: ReplacedFile) -> Prepared:
    """What the administrator has made ready; raises BadInput where it is not there."""
    path = site.resolve(site.filled(one.by))
    try:
        return Prepared(read_regular(path, LARGEST_BYTES), one.by, one.for_)
    except OSError as fault:
        text = f"{path}, which is to stand in for {one.file}, cannot be read: {fault.strerror}"
        raise BadInput(
            Problem("prepared-unreadable", text, "put it there, or correct keep.replaced", one.file)
        ) from fault


@dataclass(frozen=True, slots=True)
class Ahead:
    """A release on the way, and the version of the runtime that it will run with, empty where nothing tells it."""

    version: str
    release: Release
    runtime: str = ""


@dataclass(frozen=True, slots=True)
class Installed:
    """The installed version, and its release where the source still has it."""

    version: str
    release: Release | None = None


def shipped_along(
    site: Site, installed: Installed | None, way: Sequence[Ahead]
) -> tuple[dict[str, Shipped], list[OnTheWay]]:
    """The settings files of the installed release, and of each on the way, by their path here.

    A package that cannot be read ships none; a check says what is wrong with it. What a release shipped is remembered,
    for the day when it is the installed one and its package is gone.
    """
    specs = site.record.keep.merged
    where = {spec.file: spec.in_release for spec in specs}
    named = {spec.file: spec.shipped for spec in specs}
    base = {}
    if installed is not None and installed.release is not None:
        base = _of(installed.release, where, named, site.state.memory)
    if installed is not None:
        base = {**_made(site, installed.version, set(base)), **base}
    if installed is not None and len(base) < len(specs):
        known = _remembered(site, installed.version)
        base = {**{file: known[path] for file, path in where.items() if path in known}, **base}
    steps = []
    for ahead in way:
        release = ahead.release
        where = {file: moved(path, release.sheet.files.moved) for file, path in where.items()}
        shipped = _of(release, where, named, site.state.memory)
        _remember(site, ahead.version, {where[file]: one for file, one in shipped.items()})
        said = [one for one in release.sheet.settings if _holds(ahead, one)]
        steps.append(OnTheWay(ahead.version, release.sheet.model_copy(update={"settings": said}), shipped))
    return base, steps


def _holds(ahead: Ahead, changes: SettingsChanges) -> bool:
    """Whether what a sheet says of a file is said for this runtime; raises AnswerNo where nobody knows its version."""
    if changes.runtime and not ahead.runtime:
        text = f"{ahead.version} changes {changes.file} by the version of the runtime, which nothing tells"
        raise AnswerNo(Problem("runtime-unknown", text, "add [runtime] with its version command to the site file"))
    return not changes.runtime or Version(ahead.runtime).is_in(changes.runtime)


def _of(release: Release, where: Mapping[str, str], named: Mapping[str, str], memory: Path) -> dict[str, Shipped]:
    """The files of one release: where its sheet says, where the site file says, or at the file's own path."""
    wanted = {}
    for file, path in where.items():
        said = [one.shipped for one in release.sheet.settings if one.file == path and one.shipped]
        wanted[file] = [*said, *([named[file]] if named[file] else []), path]
    found: dict[str, bytes] = {}
    if release.has_archive and release.archive.is_file():
        with contextlib.suppress(LadderError, OSError):
            found = _members(release, [name for names in wanted.values() for name in names], memory)
    shipped = {}
    for file, names in wanted.items():
        for name in names:
            beside = release.archive.parent / name
            if name in found:
                shipped[file] = Shipped(found[name], f"{name} in {release.archive.name}")
            elif name != where[file] and beside.is_file():
                with contextlib.suppress(OSError):
                    shipped[file] = Shipped(
                        read_regular(beside, LARGEST_BYTES), f"{name} beside {release.archive.name}"
                    )
            if file in shipped:
                break
    return shipped


def _members(release: Release, names: Iterable[str], memory: Path) -> dict[str, bytes]:
    """Files of a package, read once and remembered."""
    wanted = sorted(set(names))
    status = release.archive.stat()
    marks = (release.archive, status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino, wanted)
    key = hashlib.sha256(repr((FORMAT, marks, release.sheet.archive.inside)).encode()).hexdigest()[:24]
    path = memory / "shipped" / f"{key}.json"
    with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
        return {name: base64.b64decode(text) for name, text in json.loads(path.read_bytes()).items()}
    found = read_files(release.archive, release.limits, release.sheet.archive.inside, wanted, LARGEST_BYTES)
    with contextlib.suppress(OSError):
        write_memo(path, [json.dumps({name: base64.b64encode(raw).decode() for name, raw in found.items()}).encode()])
    return found


def _made(site: Site, version: str, known: set[str]) -> dict[str, Shipped]:
    """Files that the installed release's own program writes as it ships them (`shipped_by`), run once for a version.

    Raises AnswerNo where it fails.
    """
    found = {}
    for spec in site.record.keep.settings:
        if not spec.shipped_by or spec.file in known:
            continue
        leaves = any("{folder}" in word for word in spec.shipped_by)
        key = hashlib.sha256(repr((FORMAT, version, spec.shipped_by, spec.file, spec.shipped)).encode()).hexdigest()
        memo = site.state.memory / "made" / f"{key[:24]}.json"
        where = f"what {spec.shipped_by[0].rpartition('/')[2]} of {version} writes as its default"
        with contextlib.suppress(OSError, ValueError, TypeError):
            found[spec.file] = Shipped(base64.b64decode(json.loads(memo.read_bytes())), where)
            continue
        wanted = Wanted(spec.shipped_by, _DEFAULTS_WITHIN_S, spec.shipped_name if leaves else "")
        raw = made_by(site, wanted, {})
        with contextlib.suppress(OSError):
            write_memo(memo, [json.dumps(base64.b64encode(raw).decode()).encode()])
        found[spec.file] = Shipped(raw, where)
    return found


def _memo(site: Site, version: str) -> Path:
    key = hashlib.sha256(f"{FORMAT} {site.record.product} {version}".encode()).hexdigest()[:24]
    return site.state.memory / "bases" / f"{key}.json"


def _remember(site: Site, version: str, shipped: Mapping[str, Shipped]) -> None:
    """Write down what a release ships, by the path that a file has then."""
    record = {file: base64.b64encode(one.raw).decode() for file, one in shipped.items() if one.raw is not None}
    with contextlib.suppress(OSError):
        if record:
            write_memo(_memo(site, version), [json.dumps(record).encode()])


def _remembered(site: Site, version: str) -> dict[str, Shipped]:
    """What was written down of a version."""
    with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
        record = json.loads(_memo(site, version).read_bytes())
        where = f"what {version} shipped, as an earlier climb saw it"
        return {file: Shipped(base64.b64decode(text), where) for file, text in record.items()}
    return {}


def forecast_of(site: Site, installed: Installed | None, way: Sequence[Ahead], choices: Choices) -> Forecast:
    """What becomes of the settings on a way, with what was decided so far. Raises BadInput, AnswerNo, OSError."""
    base, steps = shipped_along(site, installed, way)
    releases = {one.version: one.release for one in way}

    def convert(step: OnTheWay, changes: SettingsChanges, raw: bytes) -> bytes:
        return _convert(site, releases[step.version], changes, raw)

    own = [_as_of(one, installed, base) for one in own_files(site)]
    forecast = foresee(own, base, steps, choices.answer, convert)
    missing = [one.file for one in forecast.files if one.is_new and not one.after]
    if missing and way:
        raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(site.root / missing[0]))
    return forecast


def _as_of(own: OwnFile, installed: Installed | None, base: Mapping[str, Shipped]) -> OwnFile:
    """A file as a way from the installed release has it. What was replaced at an earlier climb is not replaced again.

    Raises OSError for one that is not there although the installed release ships it.
    """
    if own.is_new and own.file in base:
        raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), own.file)
    is_past = own.prepared and installed and Version(installed.version).is_in(own.prepared.rungs)
    return replace(own, prepared=None) if is_past else own


def _convert(site: Site, release: Release, changes: SettingsChanges, raw: bytes) -> bytes:
    """Run a release's converter on a copy of a file; raises AnswerNo where it fails or a file of it is missing."""
    by = changes.converter
    if by is None:
        return raw
    programs = _files_of(release, by.files, site.state.memory)
    wanted = Wanted(by.run, by.within_s, "" if by.prints else by.result or changes.file, frozenset(programs))
    try:
        return made_by(site, wanted, {**programs, changes.file: raw})
    except AnswerNo as fault:
        text = f"the converter of {release.sheet.release.version} for {changes.file}: {fault.problems[0].message}"
        raise AnswerNo(Problem("settings-converter", text, fault.problems[0].remedy, changes.file)) from fault


def _files_of(release: Release, names: Sequence[str], memory: Path) -> dict[str, bytes]:
    """Files of a release, from its archive or beside it."""
    found = _members(release, names, memory) if names and release.has_archive and release.archive.is_file() else {}
    for name in names:
        if name not in found:
            beside = release.archive.parent / name
            try:
                found[name] = read_regular(beside, LARGEST_BYTES)
            except OSError as fault:
                text = f"{release.sheet.release.version} names {name}, and it is neither in its archive nor beside it"
                raise AnswerNo(Problem("settings-converter", text, "ask the vendor for it", name)) from fault
    return found


def secret_files(site: Site) -> set[str]:
    """Settings files of which no value is told: environment files."""
    named = {site.tree_path(site.resolve(path.removeprefix("-"))) for path in site.record.environment.files}
    return named & {spec.file for spec in site.record.keep.merged}
