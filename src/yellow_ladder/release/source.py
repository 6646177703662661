"""Where releases come from: a folder with archives, sheets in them or beside them, and digests; or an index."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.files.archives.read import ARCHIVE_ENDINGS, UNREAD_ENDINGS, is_archive_name, open_members, safe_path
from yellow_ladder.files.archives.unpack import UNANNOUNCED_LIMIT_BYTES, Limits
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.release.sheet import SHEET_NAME, ReleaseSheet, parse_sheet
from yellow_ladder.release.versions import Version

LONE_ENDINGS = ("jar", "war", "phar", "exe", "bin", "run", "AppImage")
DIGESTS_NAME = "SHA256SUMS"
_LARGEST_SHEET_BYTES = 1024 * 1024


@dataclass(frozen=True, slots=True)
class Beside:
    """A file that a release of an index needs besides its archive, and where to fetch it."""

    name: str
    url: str
    sha256: str
    size_bytes: int


@dataclass(frozen=True, slots=True)
class Release:
    """One release of a source: its sheet, its archive, and the digest that was published for it (empty: none).

    One of an index on the network has a `url`, and its archive is there only after it was fetched.
    """

    sheet: ReleaseSheet
    archive: Path
    published_sha256: str
    sheet_path: Path | None = None
    url: str = ""
    size_bytes: int = 0
    beside: tuple[Beside, ...] = ()

    @property
    def version(self) -> Version:
        """The release's version."""
        return self.sheet.version

    @property
    def is_built(self) -> bool:
        """Whether commands make it: its archive, where it has one, is no more than a part of it."""
        return self.sheet.archive.build is not None

    @property
    def has_archive(self) -> bool:
        """Whether there is anything to unpack; of a release that is a sheet alone, the sheet stands for the archive."""
        return self.archive != self.sheet_path

    @property
    def limits(self) -> Limits:
        """How much the archive may unpack to."""
        said = self.sheet.archive.unpacked_bytes
        return Limits(UNANNOUNCED_LIMIT_BYTES if said is None else said, announced=said is not None)


@dataclass(frozen=True, slots=True)
class Releases:
    """What a source offers: releases from old to new, and what could not be read there."""

    source: Path | str
    found: tuple[Release, ...]
    problems: tuple[Problem, ...] = ()
    addons: tuple[Release, ...] = ()
    clock_ahead_s: float = 0.0  # how far this machine's clock is ahead of the source's, where that tells the time

    def of(self, version: Version) -> Release | None:
        """The release of a version."""
        return next((release for release in self.found if release.version == version), None)

    def get(self, version: Version) -> Release:
        """The release of a version that a route came through."""
        release = self.of(version)
        if release is None:
            raise AnswerNo(Problem("release-gone", f"release {version} is no longer in {self.source}", "put it back"))
        return release


def read_source(source: Path, product: str) -> Releases:
    """Read all releases of `product` in a folder; a broken one is a problem of its own and never hides the others.

    Raises BadInput when the folder is missing, unreadable, or has no release of the product at all.
    """
    try:
        names = sorted(entry.name for entry in source.iterdir() if entry.is_file())
        digests = _read_digests(source / DIGESTS_NAME) if DIGESTS_NAME in names else {}
    except OSError as fault:
        text = f"the release source {source} cannot be reached: {fault.strerror}"
        raise BadInput(
            Problem(
                "source-unreachable",
                text,
                "correct releases.source in the site file, or mount it",
                str(source),
            )
        ) from fault
    releases, problems = _read_all(source, names, digests)
    told = {one.archive.name for one in releases}
    told |= {name for one in releases for name in _made_with(one)}
    problems += [*_passed_over(source, names, told), *_in_folders(source)]
    return sorted_out(source, product, releases, problems)


def _read_all(source: Path, names: Sequence[str], digests: Mapping[str, str]) -> tuple[list[Release], list[Problem]]:
    releases: list[Release] = []
    problems: list[Problem] = []
    alone = set(_sheets_alone(source, names))
    # Sheets first: an archive that another release is made with is no release, and is not read to its end to see that.
    made_with: set[str] = set()
    for name in sorted(names, key=lambda one: one not in alone):
        if not is_archive_name(name) and name not in alone:
            continue
        if name in made_with and not sheet_path_beside(source / name).is_file():
            continue
        try:
            if name in alone:
                releases.append(_read_sheet_alone(source / name, digests))
            else:
                releases.append(_read_release(source / name, digests.get(name, "")))
            made_with.update(_made_with(releases[-1]))
        except LadderError as fault:
            problems.extend(fault.problems)
    return releases, problems


def _made_with(release: Release) -> list[str]:
    build = release.sheet.archive.build
    return build.files if build is not None else []


def product_of(source: Path) -> str:
    """The product whose releases and add-ons lie in a folder; raises BadInput where there is not exactly one."""
    try:
        names = sorted(entry.name for entry in source.iterdir() if entry.is_file())
    except OSError as fault:
        text = f"the folder {source} cannot be read: {fault.strerror}"
        raise BadInput(Problem("source-unreachable", text, "name the folder of the releases", str(source))) from fault
    about = [one.sheet.release for one in _read_all(source, names, {})[0]]
    products = sorted({one.addon_of or one.product for one in about})
    if len(products) != 1:
        what = f"releases of {', '.join(products)}" if products else "no release that can be read"
        text = f"there is {what} in {source}, and an index is of one product"
        raise BadInput(Problem("not-one-product", text, "keep each product's releases in a folder", str(source)))
    return products[0]


def _passed_over(source: Path, names: Sequence[str], told: Collection[str]) -> Iterator[Problem]:
    """What lies in a source and is no release here, each with the reason: nothing is passed over without a word."""
    for name in names:
        if name.endswith(UNREAD_ENDINGS):
            text = f"{source / name} is an archive of a kind that cannot be read here"
            remedy = "unpack it, and make a release of the tree with `yl pack`"
            yield Problem("archive-unread", text, remedy, str(source / name))
        elif is_lone_file(name) and not (source / f"{name}.{SHEET_NAME}").exists() and name not in told:
            text = f"{source / name} is no archive, and no sheet says what it is"
            remedy = f"where it is the release by itself: `yl sheet {name}`"
            yield Problem("no-sheet", text, remedy, str(source / name))


def is_lone_file(name: str) -> bool:
    """Whether a file's name is like that of a release that is one file: what a runtime reads (`quaybook.jar`), or a
    program with a version in its name, like `quaybook-3.0-linux-amd64`.
    """
    stem, dot, ending = name.rpartition(".")
    if ending in ("jar", "war"):
        return True
    has_version = re.search(r"(?:^|[-_.])[vV]?\d+(?:\.\d+)+", stem if dot and ending in LONE_ENDINGS else name)
    is_plain = not dot or ending in LONE_ENDINGS or not ending.isalpha()
    return bool(has_version) and is_plain and not is_archive_name(name)


def _in_folders(source: Path) -> Iterator[Problem]:
    """Sheets that lie in folders of their own, as in the tree of a release that nobody has packed."""
    for sheet in sorted(source.glob(f"*/{SHEET_NAME}")):
        text = f"{sheet} is the sheet of a release that is not packed"
        remedy = f"`yl pack` makes an archive of a tree; a sheet alone lies in {source}, as NAME.{SHEET_NAME}"
        yield Problem("not-packed", text, remedy, str(sheet))


def _sheets_alone(source: Path, names: Sequence[str]) -> Iterator[str]:
    """Sheets without an archive beside them."""
    beside = {sheet_path_beside(source / name).name for name in names if is_archive_name(name)}
    yield from (name for name in names if name.endswith(f".{SHEET_NAME}") and name not in beside)


def _read_sheet_alone(path: Path, digests: Mapping[str, str]) -> Release:
    """The release that a sheet without an archive describes: commands make all of it, or a file beside it is all of it.

    Raises BadInput where neither is so.
    """
    sheet = parse_sheet(path.read_bytes(), str(path))
    if sheet.archive.becomes:
        file = path.with_name(sheet.archive.file or path.name.removesuffix(f".{SHEET_NAME}"))
        if file.is_file():
            return Release(sheet, file, sheet.archive.sha256 or digests.get(file.name, ""), path)
        text = f"the sheet {path} is of the file {file.name}, which is not beside it"
        raise BadInput(Problem("no-archive", text, "put it there, or correct archive.file", str(path)))
    if sheet.archive.build is None:
        text = f"the sheet {path} has no archive beside it, and no [archive.build]"
        stem = path.name.removesuffix(f".{SHEET_NAME}")
        remedy = f"put {stem}.tar.zst (or .zip, .tar.gz, …) there too"
        raise BadInput(Problem("no-archive", text, remedy, str(path)))
    return Release(sheet, path, digests.get(path.name, ""), path)


def sorted_out(
    source: Path | str, product: str, releases: Iterable[Release], problems: list[Problem], clock_ahead_s: float = 0.0
) -> Releases:
    """The releases of a product and its add-ons, from old to new; raises BadInput where there is none."""
    found: dict[Version, Release] = {}
    addons = []
    for release in releases:
        about = release.sheet.release
        if about.addon_of == product:
            addons.append(release)
        if about.addon_of or about.product != product:
            continue
        if release.version in found:
            problems.append(_double(found[release.version], release))
        found[release.version] = release
    if not found:
        text = f"the release source {source} has no release of {product}"
        remedy = "put archives with their sheets there (yl pack makes them), or correct releases.source"
        raise BadInput([Problem("source-empty", text, remedy, str(source)), *problems])
    ordered = tuple(found[version] for version in sorted(found))
    return Releases(source, ordered, tuple(problems), tuple(addons), clock_ahead_s)


def _double(first: Release, second: Release) -> Problem:
    text = f"{first.archive.name} and {second.archive.name} both are release {second.version}; the latter is used"
    return Problem("release-twice", text, "take one of them out of the source", str(second.archive))


def sheet_path_beside(archive: Path) -> Path:
    """Where the sheet of a plain archive lies: `name.tar.zst` has `name.release.toml`."""
    ending = next(ending for ending in ARCHIVE_ENDINGS if archive.name.endswith(ending))
    return archive.with_name(archive.name.removesuffix(ending) + "." + SHEET_NAME)


def _read_release(archive: Path, digest: str) -> Release:
    beside = sheet_path_beside(archive)
    if beside.is_file():
        sheet = parse_sheet(beside.read_bytes(), str(beside))
        return Release(sheet, archive, sheet.archive.sha256 or digest, beside)
    raw = sheet_in(archive)
    if raw is None:
        text = f"{archive} has no release sheet, in it or beside it"
        remedy = f"`yl sheet` drafts {beside.name} beside it, to be read and completed"
        raise BadInput(Problem("no-sheet", text, remedy, str(archive)))
    return Release(parse_sheet(raw, f"{archive}!{SHEET_NAME}"), archive, digest)


def sheet_in(archive: Path) -> bytes | None:
    """The sheet at the top of an archive, or in its only top folder; None where there is none.

    `yl pack` writes it first, so that no more than the first block of an archive has to be read.
    """
    with open_members(archive) as members:
        for member, content in members:
            parts = safe_path(archive, member.name).split("/")
            if parts[-1] == SHEET_NAME and len(parts) <= 2 and content is not None:
                return content.read(_LARGEST_SHEET_BYTES)
    return None


def _read_digests(path: Path) -> dict[str, str]:
    digests = {}
    for line in path.read_text(errors="replace").splitlines():
        digest, _, name = line.partition(" ")
        if len(digest) == 64:
            digests[name.lstrip(" *")] = digest.lower()
    return digests


def check_build_files(release: Release) -> list[str]:
    """Files that building a release reads and for which no digest is published; raises BadInput for one that is not
    there, or not the one that was published.
    """
    folder, build = release.archive.parent, release.sheet.archive.build
    published = _read_digests(folder / DIGESTS_NAME) if (folder / DIGESTS_NAME).is_file() else {}
    published |= {one.name: one.sha256 for one in release.beside}
    unpublished = []
    for file in build.files if build else ():
        path = folder / file
        if not path.is_file():
            text = f"{release.version} is made with {file}, which is not in {folder}"
            remedy = "let its publisher put it into the index" if release.url else "put it there"
            raise BadInput(Problem("source-missing", text, remedy, str(path)))
        wanted = published.get(file, "")
        if wanted and sha256_of(path) != wanted:
            text = f"{path} is not the file that was published: its SHA-256 is another"
            raise BadInput(Problem("digest-differs", text, f"fetch it again; {wanted} was published", str(path)))
        if not wanted:
            unpublished.append(file)
    return unpublished


def check_digest(release: Release) -> str:
    """The archive's SHA-256; raises BadInput when it is not the one that was published."""
    digest = sha256_of(release.archive)
    if release.published_sha256 and digest != release.published_sha256:
        text = f"{release.archive} is not the archive that was published: its SHA-256 is {digest}"
        remedy = f"fetch it again; {release.published_sha256} was published"
        raise BadInput(Problem("digest-differs", text, remedy, str(release.archive)))
    return digest
