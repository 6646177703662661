"""Rows that name files, held against a folder: files that are named and not there, and files that no row names."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from blake3 import blake3

from yellow_ladder.database import Database
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.files.entry import Kind, kind_of
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.site.site import Site
from yellow_ladder.words import count_of, some_of

MOST_KEPT = 10_000
_NUMBER_BYTES = 12  # of a million files, two have the same number with a chance of 10⁻¹⁷


_MISSING = ("row names a file that is not there", "rows name files that are not there")
_UNNAMED = ("file that no row names", "files that no row names")


@dataclass(slots=True)
class NamedFiles:
    """How many rows name a file and how many files there are; which are lacking, first ones by name."""

    rows: int = 0
    files: int = 0
    missing: int = 0
    unnamed: int = 0
    first_missing: list[str] = field(default_factory=list)
    first_unnamed: list[str] = field(default_factory=list)

    def as_record(self) -> dict[str, Any]:
        """What is kept so that a later look can be held against it."""
        return {
            "missing": self.missing, "unnamed": self.unnamed,
            "first_missing": self.first_missing, "first_unnamed": self.first_unnamed,
        }  # fmt: skip

    def worse_than(self, before: Mapping[str, Any]) -> list[str]:
        """What is lacking that was not `before`, in words; where more was lacking than is kept by name, by number."""
        told = []
        for which, count, names, words in (
            ("missing", self.missing, self.first_missing, _MISSING),
            ("unnamed", self.unnamed, self.first_unnamed, _UNNAMED),
        ):
            then, known = before.get(which, 0), set(before.get(f"first_{which}", ()))
            new = [one for one in names if one not in known]
            many = len(new) if max(count, then) <= MOST_KEPT else count - then
            if many > 0:
                told.append(f"{count_of(many, *words)}{f': {some_of(new, 3)}' if new else ''}")
        return told


def look_for_named(site: Site, database: Database, query: str, folder: str, *, both_ways: bool) -> NamedFiles:
    """Hold each value of a query's only column, a path in `folder` (of the site's tree) or an absolute one, against the
    files there. NULL and empty values name nothing. `both_ways`, files that no row names are looked for too.

    Raises ValueError where the query has several columns, the database's errors, and OSError where the folder cannot
    be read.
    """
    columns = database.query_columns(query)
    if len(columns) != 1:
        raise ValueError(f"the query has {len(columns)} columns; it should have one, with the names of files")
    there = {_number(path) for path in _files(site, folder)}
    found, named = NamedFiles(files=len(there)), set[bytes]()
    prefix = f"{site.root / folder}/"
    for chunk in database.read_selected(Selection((Field(columns[0]),), query=query), lenient=True):
        for (value,) in chunk:
            path = _path_of(value, prefix)
            if not path:
                continue
            found.rows += 1
            number = _number(path)
            if number in there:
                named.add(number)
                continue
            found.missing += 1
            if len(found.first_missing) < MOST_KEPT:
                found.first_missing.append(path)
    if both_ways:
        found.unnamed = len(there) - len(named)
        strays = (path for path in _files(site, folder) if _number(path) not in named) if found.unnamed else iter(())
        found.first_unnamed = [path for path, _ in zip(strays, range(MOST_KEPT), strict=False)]
    return found


def _files(site: Site, folder: str) -> Iterator[str]:
    """Every file and link below a folder, by its path in it; what the site file leaves out is left out."""
    skip = site.skipped()
    for path, found in walk_tree(site.root / folder, lambda path: skip(f"{folder}/{path}")):
        if kind_of(found.status.st_mode) in (Kind.FILE, Kind.LINK):
            yield path


def _path_of(value: object, prefix: str) -> str:
    if value is None:
        return ""
    text = os.fsdecode(value) if isinstance(value, bytes) else str(value)
    return text.removeprefix(prefix).removeprefix("./")


def _number(path: str) -> bytes:
    return blake3(os.fsencode(path) if path.isascii() else path.encode("utf-8", "surrogateescape")).digest(
        length=_NUMBER_BYTES
    )
