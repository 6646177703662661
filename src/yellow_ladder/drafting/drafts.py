"""Drafts a sheet for every archive of a release source that has none, or for a version that commands make."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.discovery.archives import Contents, look_into
from yellow_ladder.discovery.packages import version_in_name
from yellow_ladder.discovery.writing.databases import printable
from yellow_ladder.drafting.built import draft_built
from yellow_ladder.drafting.libraries import libraries_of, libraries_text
from yellow_ladder.drafting.needs import Need, modules_in, needs_in
from yellow_ladder.drafting.parts import Draft, Known, head, migrations, quoted
from yellow_ladder.errors import BadInput, LadderError, Problem
from yellow_ladder.files.archives.read import ARCHIVE_ENDINGS, is_archive_name
from yellow_ladder.files.entry import Kind, kind_of, within
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.release.sheet import SHEET_NAME, parse_sheet
from yellow_ladder.release.source import LONE_ENDINGS, is_lone_file, sheet_in, sheet_path_beside
from yellow_ladder.release.versions import Version
from yellow_ladder.site.records import VersionProbe
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import each_asked_once, matched, version_on_disk
from yellow_ladder.words import count_of

_MOST_FOLDERS = 6


@dataclass(frozen=True, slots=True)
class Drafts:
    """Sheets that can be written, from old to new; archives that have one, and those of which nothing can be told."""

    made: tuple[Draft, ...] = ()
    have_one: tuple[Path, ...] = ()
    problems: tuple[Problem, ...] = ()


@dataclass(frozen=True, slots=True)
class _Read:
    """An archive that has no sheet: what is in it, and its version with where that stands."""

    archive: Path
    contents: Contents
    version: Version
    where: str


@each_asked_once()
def draft_sheets(site: Site, archives: Sequence[Path] = (), built: Sequence[Version] = ()) -> Drafts:
    """Draft the sheets that are missing in the release source, or those of `archives` and of versions that commands
    make (`built`); nothing is written.

    Raises BadInput where the source is no folder, or where no command is known that makes a version.
    """
    source = _folder(site)
    files = sorted(one for one in source.iterdir() if one.is_file())
    there = [one for one in files if is_archive_name(one.name) or is_lone_file(one.name)]
    chosen = archives or ([] if built else there)
    have_one: list[Path] = []
    problems: list[Problem] = []
    read: list[_Read] = []
    sheets = [one.read_bytes() for one in source.glob(f"*.{SHEET_NAME}")]
    for archive in dict.fromkeys((*chosen, *there)):
        try:
            sheet = _sheet_of(archive)
            if sheet is not None:
                sheets.append(sheet)
                have_one += [archive] if archive in chosen else []
            elif archive in chosen:
                read.append(_look(site, archive))
        except LadderError as fault:
            problems += fault.problems if archive in chosen else ()
    known = Known(site, version_on_disk(site), (*(one.version for one in read), *built, *_versions(sheets)))
    made = [_draft(known, one) for one in read]
    made += [draft_built(known, version, source) for version in built]
    return Drafts(tuple(sorted(made, key=lambda one: one.version)), tuple(have_one), tuple(problems))


def _folder(site: Site) -> Path:
    source = site.source
    if isinstance(source, str):
        text = f"the releases come from {source}, and an index brings its sheets"
        raise BadInput(Problem("source-remote", text, "name a folder in releases.source to draft sheets in", source))
    if not source.is_dir():
        text = f"there is no folder {source} with the releases"
        remedy = "make it and put the archives of releases there, or correct releases.source"
        raise BadInput(Problem("source-unreachable", text, remedy, str(source)))
    return source


def _sheet_path(file: Path) -> Path:
    """Where the sheet of an archive lies, or of a file that is all of a release."""
    return sheet_path_beside(file) if is_archive_name(file.name) else file.with_name(f"{file.name}.{SHEET_NAME}")


def _sheet_of(file: Path) -> bytes | None:
    """The sheet beside a file, or at the top of it; None where it has none."""
    beside = _sheet_path(file)
    if beside.exists():
        return beside.read_bytes()
    return sheet_in(file) if is_archive_name(file.name) else None


def _versions(sheets: Collection[bytes]) -> list[Version]:
    found = []
    for raw in sheets:
        with contextlib.suppress(LadderError):  # told by `yl check`
            found.append(parse_sheet(raw, "").version)
    return found


def _disk_probe(site: Site) -> VersionProbe | None:
    return next((one for one in site.record.versions if one.of == "disk" and one.file and not one.part), None)


def _in_release(site: Site, file: str) -> str:
    """A file of the site as the release has it: without the link that leads to the release in use."""
    pointing = site.record.pointing
    if file.startswith("{release}/"):
        return file.removeprefix("{release}/")
    if pointing is not None and not pointing.file and within(file, [pointing.link]):
        return file[len(pointing.link) + 1 :]
    return file


def _look(site: Site, archive: Path) -> _Read:
    """Raises BadInput for an archive that cannot be read, and for one whose version nothing tells."""
    probe = _disk_probe(site)
    is_there = probe is not None and nolinks.is_there(site.place(probe.file))  # or it is a guess of the site file's
    file = _in_release(site, probe.file) if probe is not None and is_there else ""
    is_alone = not is_archive_name(archive.name)
    contents = Contents({}, "", {}) if is_alone else look_into(archive, [file] if file else [])
    if probe is not None and file and file in contents.texts:
        with contextlib.suppress(ValueError):  # its name may tell it
            return _Read(archive, contents, Version(matched(contents.texts[file], probe.pattern)), f"{file} says so")
    ending = next((one for one in ARCHIVE_ENDINGS if archive.name.endswith(one)), archive.suffix)
    try:
        version = Version(version_in_name(archive.name))
    except ValueError as fault:
        text = f"nothing tells which version {archive.name} is: neither its name nor a file in it"
        remedy = f"name it like {site.record.product}-3.0{ending}, or write its sheet: see docs/release-sheet.md"
        raise BadInput(Problem("no-version", text, remedy, str(archive))) from fault
    missing = f"; no {file} in it says one" if file and not is_alone else ""
    return _Read(archive, contents, version, f"guess: its name{missing}")


def _draft(known: Known, one: _Read) -> Draft:
    left: list[str] = []
    lines = head(known, one.version, one.archive.name, one.where, left)
    if not is_archive_name(one.archive.name):
        lines += [
            "",
            "[archive]",
            "# guess: it is no archive, and takes the place of that file",
            _becomes(known.site, one),
        ]
    elif one.contents.top:
        lines += [
            "",
            "[archive]",
            "# the tree that is installed lies there in the archive",
            f"top = {quoted(one.contents.top)}",
        ]
    lines += _needs(known.site, one.contents)
    libraries = list(libraries_of(known.site, one.contents.sizes))
    lines += libraries_text(libraries, is_to_come=known.is_to_come(one.version))
    if known.is_to_come(one.version):
        left += [f"{one.version}: how {each.folder} is made: [[commands]]" for each in libraries]
        steps = [
            f"# {printable(path)}: does it migrate?"
            if path.endswith(".sql")
            else f"# {printable(path)} has {count_of(count, 'file')}: steps of its migrations?"
            for path, count in sorted(one.contents.steps().items())[:_MOST_FOLDERS]
        ]
        lines += ["", *steps, *migrations(one.version, one.contents.programs(), left)]
    words = one.contents.words_on_it()
    if words:
        lines += ["", f"# Its own words: {', '.join(map(printable, words))}"]
    text = "\n".join(lines) + "\n"
    return Draft(_sheet_path(one.archive), one.version, text, tuple(left))


def _becomes(site: Site, one: _Read) -> str:
    """Which file of the site a release that is one file takes the place of: the one that begins with its name."""
    name = one.archive.name[: one.archive.name.find(str(one.version))].rstrip("-_.vV") or site.record.product
    ending = one.archive.suffix if one.archive.suffix[1:] in LONE_ENDINGS else ""
    tree = walk_tree(site.root / site.release_path, lambda path: path.count("/") > 1 or site.is_data(path))
    files = [path for path, found in tree if kind_of(found.status.st_mode) is Kind.FILE]
    like = [path for path in files if Path(path).stem.lower().startswith(name.lower()) and Path(path).suffix == ending]
    return f"becomes = {quoted(min(like, key=len, default=name + ending))}"


def _needs(site: Site, contents: Contents) -> list[str]:
    lines: list[str] = []
    runtime = site.record.runtime
    is_told = False
    for need in needs_in(contents.texts):
        called = [runtime.name, *(Path(word).name for word in runtime.command[:2])] if runtime is not None else []
        is_ours = any(need.runtime in one for one in called)
        lines.append(f"# {need.file}: {need.runtime} {printable(need.says)}")
        if need.range and is_ours and not is_told:
            lines.append(f"runtime = {quoted(need.range)}")
            is_told = True
        elif need.range and not is_ours:
            lines.append(_for_whom(need))
    modules = modules_in(contents.texts)
    if modules:
        lines.append(f"# composer.json: modules {printable(', '.join(modules))}")
    return ["", "[needs]", *lines] if lines else []


def _for_whom(need: Need) -> str:
    return f"# runtime = {quoted(need.range)} # where the site file has [runtime] for {need.runtime}"
