"""Finds the archive of the installed release among those at hand: by its version, or by what is installed."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.discovery.archives import look_into
from yellow_ladder.discovery.data import CODE, is_passed_over
from yellow_ladder.errors import LadderError
from yellow_ladder.files.archives.read import ARCHIVE_ENDINGS, is_archive_name
from yellow_ladder.files.archives.unpack import Limits, look_through
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.versions import Version

_AT_A_NUMBER = re.compile(r"(?:^|[-_.])[vV]?(?=\d)")
_A_WORD_BEHIND = re.compile(r"[-_.](?=[A-Za-z])")
# Each is read to its end to see which of them is installed.
_MOST_READ = 12
_MOST_SEARCHED = 3000
_MOST_LIKE_IT = 0.5
_LARGEST_BYTES, _LONGEST_BEFORE = 256 * 1024, 60


@dataclass(frozen=True, slots=True)
class Package:
    """An archive of a release: its version by its name, and the sizes of its files by tree path."""

    path: Path
    version: str
    files: Mapping[str, int]

    def unchanged(self, root: Path, paths: Collection[str]) -> set[str]:
        """Which of some files are in the archive just as they are here; few, since it is read for them once more."""
        alike = [path for path in paths if path in self.files and self.files[path] <= _LARGEST_BYTES]
        if not alike:
            return set()
        found = set()
        ends = tuple(f"/{one}" for one in alike)
        with contextlib.suppress(LadderError, OSError):
            _, raw = look_through(self.path, Limits(), lambda name: f"/{name}".endswith(ends), _LARGEST_BYTES)
            for path in alike:
                there = [text for name, text in raw.items() if f"/{name}".endswith(f"/{path}")]
                if read_regular(root / path, _LARGEST_BYTES) in there:
                    found.add(path)
        return found

    @property
    def product(self) -> str:
        """What stands before the version in its name."""
        before = self.path.name[: self.path.name.find(self.version)]
        return re.sub(r"[^A-Za-z0-9._-]", "-", before).rstrip("-_.vV") if before[:1].isalpha() else ""


def version_in_name(name: str) -> str:
    """The version in an archive's name, like 3.0 in `quaybook-3.0-linux.tar.gz`; empty where none stands there."""
    stem = name.removesuffix(next((one for one in ARCHIVE_ENDINGS if name.endswith(one)), ""))
    for match in (one for one in _AT_A_NUMBER.finditer(stem) if not stem[: one.start()].endswith("x86")):
        rest = stem[match.end() :]
        ends = [len(rest), *(one.start() for one in reversed(list(_A_WORD_BEHIND.finditer(rest))))]
        for end in ends:
            with contextlib.suppress(ValueError):
                Version(rest[:end])
                return rest[:end]
    return ""


def installed_package(
    files: Mapping[str, os.stat_result], releases: Path, version: str, wanted: Collection[str]
) -> Package | None:
    """The archive in a folder of releases that is installed as `files`: the one whose files are there with their sizes,
    more than of any other; of those with that version in their names, where it is known.
    """
    named = dict(_named(releases))
    if version:
        named = {path: its for path, its in named.items() if _are_one(its, version)}
    found: list[tuple[float, Package]] = []
    for path, its in list(named.items())[:_MOST_READ]:
        with contextlib.suppress(LadderError):
            contents = look_into(path, wanted)
            seen = {name: size for name, size in contents.sizes.items() if not is_passed_over(name)}
            alike = sum(name in files and files[name].st_size == size for name, size in seen.items())
            found.append((alike / max(1, len(seen)), Package(path, its, contents.sizes)))
    found.sort(key=lambda one: one[0])
    if not found or found[-1][0] < _MOST_LIKE_IT or (len(found) > 1 and found[-1][0] == found[-2][0]):
        return None
    return found[-1][1]


def _are_one(one: str, other: str) -> bool:
    """Whether two texts are one version, like 2.4 and release-2.4."""
    with contextlib.suppress(ValueError):
        return Version(one) == Version(other)
    return False


def _named(releases: Path) -> Iterator[tuple[Path, str]]:
    with contextlib.suppress(OSError):
        for path in sorted(releases.iterdir()):
            version = version_in_name(path.name) if is_archive_name(path.name) else ""
            if version:
                yield path, version


def where_it_says(root: Path, files: Collection[str], package: Package) -> tuple[str, str]:
    """The file of the release that has its version beside a name for it, with what finds it there; the nearest to the
    top. Empty where none has.
    """
    says = re.compile(rf"(?im)^.*?version\w*['\"]?\s*(?:=>|[=,:])\s*['\"]v?(?={re.escape(package.version)}['\"])")
    near = sorted((path for path in files if path in package.files and Path(path).suffix in CODE), key=_place)
    for path in near[:_MOST_SEARCHED]:
        try:
            text = read_regular(root / path, _LARGEST_BYTES, cut=True).decode(errors="replace")
        except OSError:
            continue
        match = says.search(text)
        if match:
            before = match[0].rpartition("\n")[2][-_LONGEST_BEFORE:]
            return path, re.escape(before).replace("\\ ", " ") + r"(\d[\w.+-]*)"
    return "", ""


def _place(path: str) -> tuple[int, bool, str]:
    return path.count("/"), "version" not in path.rpartition("/")[2].lower(), path
