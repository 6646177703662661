"""What is in a vendor's archive that tells something of the release: its tree, what it needs, what may migrate."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.files.archives.unpack import UNANNOUNCED_LIMIT_BYTES, Limits, look_through

# Where packages of the language runtimes say what they need.
PACKAGE_FILES = ("composer.json", "package.json", "pyproject.toml", "PKG-INFO", "Gemfile")
LARGEST_FILE_BYTES = 256 * 1024
_FAR_DOWN = 3
_PROGRAM = re.compile(
    r"(?i)(?:(?:^|[-_./])(?:upgrade|migrate|migration|dbupgrade|dbmigrate|update[-_.]?(?:db|database|schema))"
    r"(?:[-_.][^/]*)?|(?:^|/)(?:update|dbupdate|updatedb))$"
)
_FIRST_LINE = re.compile(r"#!\s*(?:/usr/bin/env +|/\S*/)([\w.-]+)")
_PLAIN_NAMES = ("upgrade", "update", "migrate")
_RUN_BY = {".php": "php", ".py": "python3", ".sh": "sh", ".pl": "perl", ".js": "node", ".rb": "ruby"}
_STEP = re.compile(r"(?i)(?:^|/)(?:upgrades?|updates?|migrations?|migrate|patches)/(?:.*/)?[^/]+$")
_SQL = re.compile(r"(?i)(?:up(?:grad|dat)|migrat|alter|from|to)[^/]*\.sql$")
_WORDS_ON_IT = re.compile(r"(?i)(?:^|/)(?:upgrad|updat|migrat|release.?notes|changelog|changes|news|history)[^/]*$")
_TEXTS = {"", ".md", ".txt", ".rst", ".html", ".htm", ".adoc"}
_TESTS = re.compile(r"(?i)(?:^|/)(?:tests?|spec|node_modules|vendor|site-packages|examples?|locales?|lang)/")
_MANY = 4


@dataclass(frozen=True, slots=True)
class Contents:
    """An archive's files with their sizes by tree path, the folder of the archive that is the tree, and the texts that
    were read.

    `top` is empty where it is found by itself.
    """

    sizes: Mapping[str, int]
    top: str
    texts: Mapping[str, str]

    def programs(self) -> list[tuple[str, str]]:
        """What may be run to migrate, and by what: a few files near the top that are named so."""
        found = []
        for name in self.sizes:
            path = Path(name)
            near = name.count("/") < _FAR_DOWN and not _TESTS.search(name) and not _STEP.search(name)
            if near and _PROGRAM.search(name.removesuffix(path.suffix)) and path.suffix in _RUN_BY:
                by_first_line = _FIRST_LINE.match(self.texts.get(name, ""))
                found.append((by_first_line[1] if by_first_line else _RUN_BY[path.suffix], name))
        found.sort(key=lambda one: (Path(one[1]).stem.lower() not in _PLAIN_NAMES, one[1].count("/")))
        return found[:_MANY]

    def steps(self) -> dict[str, int]:
        """Folders of migrations with the number of files in them, and files of SQL that are named so."""
        found: dict[str, int] = {}
        for name in self.sizes:
            if _TESTS.search(name):
                continue
            if _STEP.search(name):
                folder = name.rpartition("/")[0]
                found[folder] = found.get(folder, 0) + 1
            elif _SQL.search(name.rpartition("/")[2]):
                found[name] = 1
        return found

    def words_on_it(self) -> list[str]:
        """Files near the top in which the vendor may say what an administrator should know."""
        near = [one for one in self.sizes if one.count("/") < _FAR_DOWN - 1 and not _TESTS.search(one)]
        return [one for one in near if _WORDS_ON_IT.search(one) and Path(one).suffix.lower() in _TEXTS][:_MANY]


def look_into(archive: Path, wanted: Collection[str]) -> Contents:
    """Read an archive to its end without unpacking it. `wanted` are files of the installed tree that tell its version:
    the tree is where the first of them lies.

    Raises BadInput for an archive that is refused or damaged.
    """
    ends = tuple(f"/{one}" for one in (*wanted, *PACKAGE_FILES))

    def is_wanted(name: str) -> bool:
        return f"/{name}".endswith(ends) or _PROGRAM.search(name.removesuffix(Path(name).suffix)) is not None

    found, raw = look_through(archive, Limits(UNANNOUNCED_LIMIT_BYTES), is_wanted, LARGEST_FILE_BYTES)
    single = _single_top(found)
    top = _top(found, wanted, single)
    start = f"{top}/" if top else ""
    sizes = {name[len(start) :]: size for name, size in found.items() if name.startswith(start)}
    texts = {name[len(start) :]: text for name, text in raw.items() if name.startswith(start)}
    decoded = {name: text.decode(errors="replace") for name, text in texts.items()}
    return Contents(sizes, "" if top == single else top, decoded)


def _single_top(names: Iterable[str]) -> str:
    tops = {name.partition("/")[0] if "/" in name else "" for name in names}
    return tops.pop() if len(tops) == 1 else ""


def _top(names: Collection[str], wanted: Collection[str], single: str) -> str:
    """The folder of the archive in which what tells the version lies: the one that is nearest to its top. Far down it
    is another product's, which came along.
    """
    for one in wanted:
        lies = [name[: -len(one) - 1] if name != one else "" for name in names if f"/{name}".endswith(f"/{one}")]
        lies = [folder for folder in lies if folder.count("/") < _FAR_DOWN - 1]
        if lies:
            return min(lies, key=lambda folder: (folder.count("/") if folder else -1, folder))
    return single
