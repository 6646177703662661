"""What the installed files should be: the release's package, or a record of an earlier day where it is not at hand."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.durable import write_memo
from yellow_ladder.files.archives.unpack import Content, read_contents
from yellow_ladder.files.entry import Kind, Manifest
from yellow_ladder.release.source import Release

FORMAT = 2
Contents = Mapping[str, Content]


@dataclass(frozen=True, slots=True)
class Reference:
    """Files as they should be, and who says so. Only a package tells what came with the release."""

    name: str
    contents: Contents
    is_package: bool

    def below(self, folder: str) -> Reference:
        """The same files where they are installed: below `folder`, or in root itself where that is empty.

        What was recorded in an installation has its whole paths already, and more than the release's.
        """
        if not folder:
            return self
        if not self.is_package:
            inside = {path: one for path, one in self.contents.items() if path.startswith(f"{folder}/")}
            return Reference(self.name, inside, self.is_package)
        return Reference(self.name, {f"{folder}/{path}": one for path, one in self.contents.items()}, self.is_package)


def package_contents(release: Release, memory: Path) -> dict[str, Content]:
    """What a package holds, read once and remembered; raises BadInput for a package that is refused."""
    status = release.archive.stat()
    marks = (release.archive, status.st_size, status.st_mtime_ns, status.st_ctime_ns, status.st_ino, release.limits)
    key = hashlib.sha256(repr((marks, release.sheet.archive.inside)).encode()).hexdigest()[:24]
    path = memory / "packages" / f"{key}.json"
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
        record = json.loads(path.read_bytes())
        if record["format"] == FORMAT:
            return {name: Content(what, mode) for name, (what, mode) in record["contents"].items()}
    contents = read_contents(release.archive, release.limits, release.sheet.archive.inside)
    record = {"format": FORMAT, "contents": {name: (one.what, one.mode) for name, one in contents.items()}}
    with contextlib.suppress(OSError):
        write_memo(path, [json.dumps(record).encode()])
    return contents


def recorded_contents(manifest: Manifest) -> dict[str, Content]:
    """Files and links of a manifest that was taken earlier, owners included."""
    return {
        path: Content(f"link:{one.target}" if one.kind is Kind.LINK else one.digest, one.mode, one.uid, one.gid)
        for path, one in manifest.items()
        if one.kind in (Kind.FILE, Kind.LINK)
    }


def older_contents(
    older: Iterable[Release], memory: Path, wanted: Iterable[str], at_most: int = 8
) -> dict[str, dict[str, str]]:
    """For each wanted path that older packages or sheets had: version -> what it was ("" where only a sheet says so).

    `older` comes newest first and may begin with the installed release, whose sheet says what went. Packages that
    cannot be read, or are not here, say nothing.
    """
    paths = set(wanted)
    found: dict[str, dict[str, str]] = {}
    for number, release in enumerate(older):
        for path in paths.intersection(release.sheet.files.dropped):
            found.setdefault(path, {})[f"before {release.version}"] = ""
        if number >= at_most or release.is_built or not release.archive.is_file():
            continue
        with contextlib.suppress(Exception):  # a broken old package is the source's trouble, told elsewhere
            contents = package_contents(release, memory)
            for path in paths & contents.keys():
                found.setdefault(path, {})[str(release.version)] = contents[path].what
    return found
