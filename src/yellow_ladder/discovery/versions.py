"""Finds the file that tells an installed application's version: one named so, or that of the package that runs."""

from __future__ import annotations

import contextlib
import os
import posixpath
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from yellow_ladder import nolinks
from yellow_ladder.discovery.data import CODE
from yellow_ladder.discovery.running import Running
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.versions import Version, told_by

_VERSION_FILES = (
    ("VERSION", ""), ("version.txt", ""), ("VERSION.txt", ""), ("RELEASE", ""), ("version", ""),
    ("PKG-INFO", r"^Version:\s*(\S+)"),
    ("package.json", r'"version"\s*:\s*"([^"]+)"'), ("composer.json", r'"version"\s*:\s*"([^"]+)"'),
    ("version.php", r"""['"]?\$?\w*[vV]ersion\w*['"]?\s*(?:=|=>|,)\s*['"]([^'"]+)"""),
    *((name, r"""(?i)define\(\s*['"]\w*version['"]\s*,\s*['"](\d[^'"]*)""") for name in
      ("Defines.php", "defines.php", "define.php", "constants.php", "init.php", "index.php")),
    *((name, r"""^(?:__version__|VERSION)\s*=\s*['"](\d[^'"]*)""") for name in
      ("version.py", "_version.py", "__version__.py", "version.rb", "__init__.py")),
    ("release.toml", r'^version\s*=\s*"([^"]+)"'), ("pyproject.toml", r'^version\s*=\s*"([^"]+)"'),
)  # fmt: skip
_NEAR_TOP = 2
# In code that is named so, whatever else it holds: the first variable of that name with a version in it.
_IN_CODE = re.compile(r"""(?im)^\s*(?:const\s+|public\s+)?\$?(\w*version\w*)\s*=\s*['"]\d+\.\d[^'"]*['"]""")
# The parts of a version in constants of their own, one after the other.
_IN_PARTS = re.compile(
    r"(?i)\b(?P<major>\w*(?-i:MAJOR|Major|major)\w*)\W+\d+\b[\s\S]{0,200}?"
    r"\b(?P<minor>\w*(?-i:MINOR|Minor|minor)\w*)\W+\d+\b"
    r"(?:[\s\S]{0,200}?\b(?P<patch>\w*(?:tiny|patch|micro|teeny|revision|bugfix|fix)\w*)\W+\d+\b)?"
)
_CODE_READ_BYTES = 64 * 1024
_SHORT_BYTES = 256
_A_VERSION = re.compile(r"(?<![\w.])(?:\d{4}-\d\d-\d\d[a-z]?(?![\w-])|\d+(?:\.\d+)+[\w.+-]*)")
_MOST_BEFORE = 24
_PACKAGES, _PACKAGE_FILE = "node_modules", "package.json"


class FoundVersion(NamedTuple):
    """The version, and where it stands; the pattern is empty where the file holds nothing else."""

    file: str = ""
    pattern: str = ""
    says: str = ""


def find_version(root: Path, files: Mapping[str, os.stat_result], running: Sequence[Running]) -> FoundVersion:
    """Where the version stands; empty where nothing was found."""
    for path, pattern in (*_packages_that_run(root, files, running), *_version_files(files)):
        try:
            text = read_regular(root / path, _CODE_READ_BYTES, cut=True).decode(errors="replace")
        except OSError:
            continue
        says = (text.strip().splitlines() or [""])[0].strip()
        if not pattern and not _is_version(says):
            pattern = _pattern_in_code(text) if Path(path).suffix in CODE else _pattern_for(text)
        match = re.search(pattern, text, re.MULTILINE) if pattern else None
        says = told_by(match) if match else "" if pattern else says
        parts = _IN_PARTS.search(text) if "." not in says and Path(path).suffix in CODE else None
        if parts is not None:
            pattern = _pattern_of_parts(parts)
            says = told_by(re.search(pattern, text, re.MULTILINE) or parts)
        if _is_version(says):
            return FoundVersion(path, pattern, says)
    return FoundVersion()


def _packages_that_run(
    root: Path, files: Mapping[str, os.stat_result], running: Sequence[Running]
) -> Iterator[tuple[str, str]]:
    """The file of a package that was started, where the application is a package among its libraries: nothing of its
    own lies beside them.
    """
    if any("/" not in path and Path(path).suffix in CODE for path in files):
        return
    for one in running:
        for word in one.words:
            folder = _package_of(root, os.path.normpath(Path(one.folder, word))) if "/" in word else ""
            if folder:
                yield f"{folder}/{_PACKAGE_FILE}", _pattern_of(_PACKAGE_FILE)


def _package_of(root: Path, path: str) -> str:
    """The folder of the package that a path lies in, as a tree path; nothing where it lies in none."""
    if not Path(path).is_relative_to(root):
        return ""
    tree_path = os.path.relpath(path, root)
    above = posixpath.dirname(tree_path)
    if posixpath.basename(above) == ".bin":
        with contextlib.suppress(OSError):
            tree_path = posixpath.normpath(posixpath.join(above, nolinks.target_of(root / tree_path)))
    parts = tree_path.split("/")
    if parts[0] == ".." or _PACKAGES not in parts:
        return ""
    start = len(parts) - parts[::-1].index(_PACKAGES)
    end = start + (2 if parts[start:] and parts[start].startswith("@") else 1)
    return "/".join(parts[:end]) if len(parts) > end else ""


def _pattern_of(name: str) -> str:
    return next(pattern for one, pattern in _VERSION_FILES if one == name)


def _version_files(files: Mapping[str, os.stat_result]) -> Iterator[tuple[str, str]]:
    """Files that may tell the version, each with the pattern of its line: the usual ones, then those that are named so
    and hold little else.
    """
    near = sorted((path for path in files if path.count("/") < _NEAR_TOP), key=len)
    for name, pattern in _VERSION_FILES:
        yield from ((path, pattern) for path in near if path.rsplit("/", 1)[-1] == name)
    for path in near:
        is_named_so = "version" in path.rsplit("/", 1)[-1].lower()
        if is_named_so and (files[path].st_size <= _SHORT_BYTES or Path(path).suffix in CODE):
            yield path, ""
    deeper = [path for path in files if path.count("/") == _NEAR_TOP and Path(path).suffix in CODE]
    yield from ((path, "") for path in sorted(deeper) if Path(path).stem.lower() in ("version", "_version"))


def _is_version(text: str) -> bool:
    try:
        Version(text)
    except ValueError:
        return False
    return True


def _pattern_in_code(text: str) -> str:
    match = _IN_CODE.search(text)
    if match is None:
        return _pattern_for(text) if len(text) <= _SHORT_BYTES else ""
    return rf"\b{match[1]}\s*=\s*\W(\d[\w.+-]*)"


def _pattern_of_parts(parts: re.Match[str]) -> str:
    named = (rf"\b{word}\W+(?P<{part}>\d+)" for part, word in parts.groupdict().items() if word)
    return r"[\s\S]{0,200}?".join(named)


def _pattern_for(text: str) -> str:
    """What finds the version in a short file that has it between other words; nothing where none stands there."""
    match = _A_VERSION.search(text)
    if match is None:
        return ""
    before = text[: match.start()].rpartition("\n")[2][-_MOST_BEFORE:]
    return re.escape(before).replace("\\ ", " ") + r"(\d[\w.+-]*)"


def product_of(root: Path, files: Iterable[str], version_file: str) -> str:
    """The name of the product in the metadata of its code; the folder's name where none tells it."""
    for name, pattern in (
        ("release.toml", r'^product\s*=\s*"([^"]+)"'),
        ("package.json", r'"name"\s*:\s*"([^"@/]+)"'),
        ("pyproject.toml", r'^name\s*=\s*"([^"]+)"'),
    ):
        with contextlib.suppress(OSError):
            place = version_file if version_file.endswith(f"/{name}") else name
            text = (
                read_regular(root / place, cut=True).decode(errors="replace") if place in {*files, version_file} else ""
            )
            match = re.search(pattern, text, re.MULTILINE)
            if match:
                return match[1]
    return re.sub(r"[^A-Za-z0-9._-]", "-", root.name).strip("-._") or "application"
