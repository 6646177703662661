"""Files of installed packages that somebody has edited: held against what their installer wrote down of each."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.files.reading import read_regular

_LARGEST_BYTES = 64 * 1024**2
_AT_ONCE_NS = 2 * 10**9  # an installer writes its list when all else is there


@dataclass(frozen=True, slots=True)
class PackagesSeen:
    """How many files have a digest written down, and which of them are others now, by their paths below the release."""

    files: int
    edited: tuple[str, ...]


def look_at_packages(release: Path) -> PackagesSeen:
    """Look at the Python packages in a release's folder. Contents are read where size or time give a reason to.

    What was edited and given back its size and its old time is not seen.
    """
    count, edited = 0, list[str]()
    for site in (*release.glob("lib/python*/site-packages"), *release.glob("*/lib/python*/site-packages")):
        for record in sorted(site.glob("*.dist-info/RECORD")):
            written_ns = nolinks.status_of(record).st_mtime_ns
            for path, digest, size in _written_down(record):
                count += 1
                if _is_another(site / path, digest, size, written_ns + _AT_ONCE_NS):
                    edited.append(str((site / path).relative_to(release)))
    return PackagesSeen(count, tuple(edited))


def _written_down(record: Path) -> Iterator[tuple[str, str, int]]:
    """Files below the folder of packages with SHA-256 and size; scripts outside it are made anew wherever they lie."""
    try:
        text = read_regular(record, _LARGEST_BYTES, cut=True).decode(errors="replace")
    except OSError:
        return
    for row in csv.reader(io.StringIO(text)):
        if len(row) == 3 and row[1].startswith("sha256=") and row[2].isdigit():
            path = row[0]
            if not path.startswith("/") and ".." not in path.split("/"):
                yield path, row[1].removeprefix("sha256="), int(row[2])


def _is_another(path: Path, digest: str, size: int, since_ns: int) -> bool:
    try:
        status = nolinks.status_of(path)
        if status.st_size != size:
            return True
        if status.st_mtime_ns <= since_ns:
            return False
        with os.fdopen(nolinks.open_regular(path), "rb") as stream:
            found = hashlib.file_digest(stream, "sha256").digest()
    except OSError:
        return False  # what is missing, or cannot be read, is no edit
    return base64.urlsafe_b64encode(found).rstrip(b"=").decode() != digest
