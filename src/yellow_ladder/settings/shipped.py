"""Settings files as releases ship them: looked for in a release's archive, and beside its sheet."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.durable import write_memo
from yellow_ladder.errors import BadInput, LadderError, Problem
from yellow_ladder.files.archives.unpack import read_files
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.moves import moved
from yellow_ladder.release.source import Release
from yellow_ladder.settings.choices import Choices
from yellow_ladder.settings.forecast import Forecast, OnTheWay, OwnFile, Shipped, foresee
from yellow_ladder.settings.script import LARGEST_BYTES
from yellow_ladder.site.site import Site

FORMAT = 1


def own_files(site: Site) -> list[OwnFile]:
    """The site's settings files and templates as they are; raises OSError for one that is not there, BadInput for one
    that is a link.
    """
    for spec in site.record.keep.merged:
        path = site.root / spec.file
        if path.is_symlink():
            text = f"the settings file {path} is a link, and merging would put a file in its place"
            remedy = "put the file itself there, or name what the link leads to under keep.outside"
            raise BadInput(Problem("settings-link", text, remedy, spec.file))
    return [
        OwnFile(
            spec.file, read_regular(site.root / spec.file, LARGEST_BYTES), spec.format, spec.encoding,
            spec.on_conflict, spec.keys,
        )
        for spec in site.record.keep.merged
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Installed:
    """The installed version, and its release where the source still has it."""

    version: str
    release: Release | None = None


def shipped_along(
    site: Site, installed: Installed | None, way: Sequence[tuple[str, Release]]
) -> tuple[dict[str, Shipped], list[OnTheWay]]:
    """The settings files of the installed release, and of each on the way (version, release), by their path here.

    A package that cannot be read ships none; a check says what is wrong with it. What a release shipped is remembered,
    for the day when it is the installed one and its package is gone.
    """
    specs = site.record.keep.merged
    where = {spec.file: spec.file for spec in specs}
    named = {spec.file: spec.shipped for spec in specs}
    base = {}
    if installed is not None and installed.release is not None:
        base = _of(installed.release, where, named, site.state.memory)
    if installed is not None and len(base) < len(specs):
        base = {**_remembered(site, installed.version), **base}
    steps = []
    for version, release in way:
        where = {file: moved(path, release.sheet.files.moved) for file, path in where.items()}
        shipped = _of(release, where, named, site.state.memory)
        _remember(site, version, {where[file]: one for file, one in shipped.items()})
        steps.append(OnTheWay(version, release.sheet, shipped))
    return base, steps


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
    key = hashlib.sha256(repr((FORMAT, marks, release.sheet.archive.top)).encode()).hexdigest()[:24]
    path = memory / "shipped" / f"{key}.json"
    with contextlib.suppress(OSError, ValueError, TypeError, AttributeError):
        return {name: base64.b64decode(text) for name, text in json.loads(path.read_bytes()).items()}
    found = read_files(release.archive, release.limits, release.sheet.archive.top, wanted, LARGEST_BYTES)
    with contextlib.suppress(OSError):
        write_memo(path, [json.dumps({name: base64.b64encode(raw).decode() for name, raw in found.items()}).encode()])
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


def forecast_of(
    site: Site, installed: Installed | None, way: Sequence[tuple[str, Release]], choices: Choices
) -> Forecast:
    """What becomes of the settings on a way, with what was decided so far. Raises BadInput, AnswerNo, OSError."""
    base, steps = shipped_along(site, installed, way)
    return foresee(own_files(site), base, steps, choices.answer)


def secret_files(site: Site) -> set[str]:
    """Settings files of which no value is told: environment files."""
    named = {site.tree_path(site.resolve(path.removeprefix("-"))) for path in site.record.environment.files}
    return named & {spec.file for spec in site.record.keep.merged}
