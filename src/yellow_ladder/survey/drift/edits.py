"""Edits of the release's own files, as differences of text."""

from __future__ import annotations

import difflib
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.files.archives.read import open_members, safe_path
from yellow_ladder.files.reading import read_regular
from yellow_ladder.masking import masked_line
from yellow_ladder.release.source import Release

LARGEST_BYTES = 256 * 1024
MOST_FILES, MOST_LINES = 50, 400


@dataclass(frozen=True, slots=True)
class Edit:
    """One edited file: lines of a unified difference with secrets masked, or why there are none."""

    path: str
    lines: tuple[str, ...] = ()
    trouble: str = ""


def read_edits(root: Path, release: Release, edited: Collection[str], folder: str = "") -> list[Edit]:
    """Differences of edited files to the package, which is installed in a `folder` below root; raises BadInput for a
    package that cannot be read.
    """
    wanted = sorted(edited)[:MOST_FILES]
    start = len(folder) + 1 if folder else 0
    originals = dict(_members(release, [path[start:] for path in wanted]))
    return [_edit(root, path, originals.get(path[start:])) for path in wanted]


def _members(release: Release, wanted: Collection[str]) -> Iterator[tuple[str, bytes]]:
    """The first bytes of each wanted file of the package."""
    missing = set(wanted)
    inside = release.sheet.archive.inside
    with open_members(release.archive, inside.becomes) as members:
        for member, content in members:
            name = safe_path(release.archive, member.name)
            names = [name, inside.below(name)] if inside.top is None else [inside.below(name)]
            found = next((one for one in names if one in missing), None)
            if found is not None and content is not None:
                missing.discard(found)
                yield found, content.read(LARGEST_BYTES + 1)


def _edit(root: Path, path: str, original: bytes | None) -> Edit:
    if original is None:
        return Edit(path, trouble="not found in the package")
    try:
        now = read_regular(root / path, LARGEST_BYTES + 1, cut=True)
    except OSError as fault:
        return Edit(path, trouble=f"cannot be read: {fault.strerror}")
    if max(len(now), len(original)) > LARGEST_BYTES:
        return Edit(path, trouble="too large to show line by line")
    try:
        before, after = original.decode().splitlines(), now.decode().splitlines()
    except UnicodeDecodeError:
        return Edit(path, trouble="not text")
    lines = list(difflib.unified_diff(before, after, "as released", "as it is here", lineterm="", n=2))
    shown = [masked_line(line) for line in lines[:MOST_LINES]]
    if len(lines) > MOST_LINES:
        shown.append(f"… {len(lines) - MOST_LINES:,} more lines")
    return Edit(path, tuple(shown))
