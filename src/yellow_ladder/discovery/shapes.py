"""Recognises what shape an installation has: releases behind a link, environments, a folder that others use too."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.versions import Version

_VERSION_IN_NAME = re.compile(r"v?(\d+(?:\.\d+)+[\w.+-]*|\d{4}-\d\d-\d\d[\w-]*|\d+)$")
_OWN_PRODUCT = ("composer.json", "package.json", "PKG-INFO", "VERSION", "version.php", "pyproject.toml")
_LARGEST_BYTES = 64 * 1024
_PROGRAMS = {".php": "php", ".py": "python3", ".rb": "ruby", ".pl": "perl"}
_NEAR_TOP, _ENOUGH_CODE = 3, 3
_MOST_SCRIPTS, _LONGEST_START = 2, 4096
# What an installer is given: anything else could name another place to install from, or begin a line of its own.
_PACKAGE = re.compile(r"(?:@[\w-][\w.-]*/)?[\w-][\w.-]*\Z", re.ASCII)
_ITS_VERSION = re.compile(r"\d[\w.+!-]*\Z", re.ASCII)
_SERIES = re.compile(r"\d+\.\d+(?!\d)")
_REQUIRES = re.compile(r"Requires-Dist:\s*([\w.-]+)")
_CODE_OF_NODE = {".js", ".mjs", ".cjs", ".ts"}
_WHERE_CODE_IS = {"src", "lib", "dist", "build", "server", "bin"}
# What tells which libraries there are, and goes with them.
LISTS_OF_LIBRARIES = ("package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml")
# Servers and workers that run an application, and what talks to databases for one.
RUN_OTHERS = {
    "asyncpg", "better-sqlite3", "celery", "daphne", "gevent", "gunicorn", "hypercorn", "mod-wsgi", "mysqlclient",
    "psycopg", "psycopg-binary", "psycopg2", "psycopg2-binary", "pymysql", "uvicorn", "uwsgi", "waitress",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Behind:
    """Releases in folders of their own: the link to the one in use, where they lie, and the version in its name."""

    link: str
    releases: str
    release: str
    version: str


Packages = tuple[tuple[str, str], ...]
"""Names with versions."""


@dataclass(frozen=True, slots=True)
class Environment:
    """A language environment of the release: which runtime, its program in there, and the one that it was made with;
    in which folder it is, and which packages somebody has asked for, with their versions; `held`: of those that others
    bring anyway; `maker`: the program that made it, where that is not the runtime itself.
    """

    runtime: str
    program: str
    made_with: str
    packages: tuple[str, ...] = ()
    folder: str = ""
    asked_for: Packages = ()
    held: Packages = ()
    maker: str = ""


def find_link(root: Path) -> Behind | None:
    """A link in the folder that leads to a folder named for a version, beside others or alone."""
    for link in sorted(root.iterdir()):
        if not link.is_symlink():
            continue
        target = Path(os.path.normpath(link.parent / link.readlink()))
        match = _VERSION_IN_NAME.search(target.name)
        if match is None or not target.is_dir() or not target.is_relative_to(root) or target.parent == root:
            continue
        try:
            Version(match[1])
        except ValueError:
            continue
        release = str(target.relative_to(root))
        pattern = release[: len(release) - len(match[1])] + "{version}"
        return Behind(str(link.relative_to(root)), pattern, release, match[1])
    return None


def find_environment(release: Path) -> Environment | None:
    """The environment in a release's folder, there or one folder below."""
    folders = [release, *sorted(one for one in release.iterdir() if one.is_dir() and not one.is_symlink())]
    for folder in folders:
        inside = "" if folder == release else f"{folder.name}/"
        if (folder / "pyvenv.cfg").is_file():
            text = text_of(folder / "pyvenv.cfg")
            home = re.search(r"^home\s*=\s*(\S+)", text, re.MULTILINE)
            version = re.search(r"^version(?:_info)?\s*=\s*(\d+\.\d+)", text, re.MULTILINE)
            name = f"python{version[1]}" if version else "python3"
            program = f"{{release}}/{inside}bin/python"
            listing = (program, "-m", "pip", "list", "--format=freeze") if _has_pip(folder) else ()
            made_with = str(Path(home[1]) / name) if home else "python3"
            asked, held = _asked_for(folder)
            maker = "virtualenv" if re.search(r"^virtualenv\s*=", text, re.MULTILINE) else ""
            return Environment("python", program, made_with, listing, inside.rstrip("/"), asked, held, maker)
        if (folder / "node_modules").is_dir():
            return Environment("node", "node", "node", (), inside.rstrip("/"), tuple(_depended_on(folder)))
    return None


def _asked_for(environment: Path) -> tuple[Packages, Packages]:
    """Packages that somebody has asked for, as the installer marks them, without those of every environment; and apart
    from them what another one brings anyway, like a library whose version somebody had to hold down. What has parts
    that bring it is none of these.
    """
    marked = list(_marked(environment))
    brought = {plain_name(one) for one in _required(environment)}
    held = [
        one for one in marked if plain_name(one[0]) in brought and not any(is_of_series(other, one) for other in marked)
    ]
    return tuple(one for one in marked if one not in held), tuple(held)


def is_part_of(one: tuple[str, str], whole: tuple[str, str]) -> bool:
    """Whether a package is named for another one, has its version, and so comes from the same hands: `quaybook-web`."""
    return one[1] == whole[1] and plain_name(one[0]).startswith(f"{plain_name(whole[0])}-")


def is_of_series(one: tuple[str, str], whole: tuple[str, str]) -> bool:
    """Whether a package is named for another one and of the same series: both 7.6, whatever their last numbers are."""
    return series(one[1]) == series(whole[1]) != "" and plain_name(one[0]).startswith(f"{plain_name(whole[0])}-")


def series(version: str) -> str:
    """The first two numbers of a version, like 7.6 of 7.6.20; empty where there are no two."""
    found = _SERIES.match(version)
    return found[0] if found else ""


def _marked(environment: Path) -> Iterator[tuple[str, str]]:
    for mark in sorted(environment.glob("lib/*/site-packages/*.dist-info/REQUESTED")):
        name, _, version = mark.parent.name.removesuffix(".dist-info").rpartition("-")
        is_own = name.lower() not in ("pip", "setuptools", "wheel")
        if is_own and _PACKAGE.match(name) and _ITS_VERSION.match(version):
            yield name, version


def _depended_on(folder: Path) -> Iterator[tuple[str, str]]:
    """Packages that a folder of libraries was made for, as its `package.json` asks for them, with the versions that are
    there. A program that has a version and code of its own is no such folder: what it depends on is no application.
    """
    asked = _json(folder / "package.json")
    names = asked.get("dependencies")
    for name in names if isinstance(names, dict) and not ("version" in asked and has_own_code(folder)) else ():
        version = _json(folder / "node_modules" / name / "package.json").get("version") if _PACKAGE.match(name) else ""
        if isinstance(version, str) and _ITS_VERSION.match(version):
            yield name, version


def has_own_code(folder: Path) -> bool:
    """Whether beside a list of JavaScript libraries lies a program that uses them; `berths.config.js` is none."""
    return any(
        (one.suffix in _CODE_OF_NODE and not one.stem.endswith(".config")) or one.name in _WHERE_CODE_IS
        for one in folder.iterdir()
    )


def is_started_by_little(folder: Path) -> bool:
    """Whether all the code beside a list of libraries is a short script that starts the only one that is asked for, as
    a vendor's instructions have an administrator write it.
    """
    asked = _json(folder / "package.json")
    names = list(asked["dependencies"]) if isinstance(asked.get("dependencies"), dict) else []
    own = [one for one in folder.iterdir() if one.suffix in _CODE_OF_NODE and not one.stem.endswith(".config")]
    is_little = 0 < len(own) <= _MOST_SCRIPTS and not any((folder / one).is_dir() for one in _WHERE_CODE_IS)
    if len(names) != 1 or "version" in asked or not is_little:
        return False
    loads = re.compile(rf"(?:require\(|import\(|from|import)\s*['\"]{re.escape(names[0])}['\"/]")
    texts = [text_of(one) for one in own]
    return sum(map(len, texts)) <= _LONGEST_START and any(map(loads.search, texts))


def _json(path: Path) -> dict[str, Any]:
    """A file's JSON object; an empty one where there is none."""
    try:
        read = json.loads(text_of(path) or "{}")
    except ValueError:
        return {}
    return read if isinstance(read, dict) else {}


def _required(environment: Path) -> Iterator[str]:
    """What installed packages need, by name; what only an extra of them needs is none of it."""
    for facts in environment.glob("lib/*/site-packages/*.dist-info/METADATA"):
        for line in text_of(facts).partition("\n\n")[0].splitlines():
            needed = _REQUIRES.match(line)
            if needed and "extra ==" not in line:
                yield needed[1]


def runtime_of(files: Iterable[str]) -> str:
    """The program that most of the code near the top is for, where it is installed here; of JavaScript only where a
    package is told, since pages of every application have some.
    """
    near = [path for path in files if path.count("/") < _NEAR_TOP]
    kinds = Counter(_PROGRAMS[ending] for path in near if (ending := Path(path).suffix) in _PROGRAMS)
    if not kinds and "package.json" in near:
        kinds["node"] = _ENOUGH_CODE
    program, count = kinds.most_common(1)[0] if kinds else ("", 0)
    return program if count >= _ENOUGH_CODE and shutil.which(program) else ""


def plain_name(name: str) -> str:
    """A package's name as installers compare it."""
    return re.sub(r"[-_.]+", "-", name).lower()


def applications_in(environment: Environment, words: Collection[str]) -> list[tuple[str, str]]:
    """The packages that may be the application, with their versions: what runs names one, like `berths.wsgi:app`; of
    others, servers that only run one are left out.
    """
    modules = {plain_name(re.split(r"[.:]", Path(word).name)[0]) for word in words}
    asked = [one for one in environment.asked_for if plain_name(one[0]) not in RUN_OTHERS]
    return [one for one in asked if plain_name(one[0]) in modules] or asked


def application_of(environment: Environment, version: str, words: Collection[str] = ()) -> str:
    """The package that is the application: the only one, or of several the one that has the release's version, or
    whose parts all others are that have it. What else is in a folder of JavaScript libraries may be anything. Empty
    where that does not tell it.
    """
    found = applications_in(environment, words)
    of_it = [one for one in found if one[1] == version]
    alike = [one[0] for one in of_it if all(other == one or is_part_of(other, one) for other in of_it)]
    is_only = len(found) == 1 and environment.runtime != "node"
    return found[0][0] if is_only else alike[0] if len(alike) == 1 else ""


def _has_pip(environment: Path) -> bool:
    return any(environment.glob("lib/*/site-packages/pip"))


def others_in(root: Path, named: Collection[str]) -> Iterator[str]:
    """Folders that look like products of their own, in a folder that has one itself."""
    if not any((root / name).is_file() for name in _OWN_PRODUCT):
        return
    for folder in sorted(root.iterdir()):
        is_candidate = folder.is_dir() and not folder.is_symlink() and folder.name not in named
        if is_candidate and any((folder / name).is_file() for name in _OWN_PRODUCT):
            yield folder.name


def unit_says(text: str, key: str) -> list[str]:
    """What a unit file says under a key; a leading dash, which forgives a missing file, is left away."""
    found = re.findall(rf"^{key}=-?(.*)$", text, re.MULTILINE)
    return [one.strip() for one in found if one.strip()]


def drop_ins(unit: Path) -> list[Path]:
    """Files that add to a unit."""
    folder = unit.with_name(f"{unit.name}.d")
    return sorted(folder.glob("*.conf")) if folder.is_dir() else []


def text_of(path: Path) -> str:
    """What stands in a file, as far as it is read here; nothing where it cannot be."""
    with contextlib.suppress(OSError):
        return read_regular(path, _LARGEST_BYTES, cut=True).decode(errors="replace")
    return ""
