"""Unpacks a release archive into a fresh folder, within announced limits; refuses all that is not plain content."""

from __future__ import annotations

import os
import tarfile
from collections.abc import Callable, Collection, Container
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, cast

from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.archives.read import (
    AS_FOUND,
    Inside,
    check_link,
    check_links,
    open_members,
    refused,
    safe_path,
)
from yellow_ladder.files.looking import READ_BYTES

UNANNOUNCED_LIMIT_BYTES = 8 * 1024**3
MOST_MEMBERS = 2_000_000
_ROOM_TO_LEAVE_BYTES, _LOOK_FOR_ROOM_BYTES, _DISK_BLOCK_BYTES = 16 * 1024**2, 1024**2, 4096
_MOST_HOLES_BYTES = 16 * 1024**2
_MOST_LOOKED_AT_BYTES = 16 * 1024**2


@dataclass(frozen=True, slots=True)
class Limits:
    """How much an archive may unpack to, in bytes; `announced` when its sheet says so."""

    most_bytes: int = UNANNOUNCED_LIMIT_BYTES
    announced: bool = False


@dataclass(slots=True)
class _Budget:
    """Counts what has been seen so far of one archive."""

    path: Path
    limits: Limits
    names: set[str]
    links: dict[str, str]
    used_bytes: int = 0
    folders: set[Path] = field(default_factory=set)  # that are there by now
    since_room_was_seen: int = _LOOK_FOR_ROOM_BYTES  # on the disk, about

    def admit(self, member: tarfile.TarInfo) -> str:
        """The member's tree path, or BadInput with the reason why it cannot come in."""
        name = safe_path(self.path, member.name)
        if not (member.isreg() or member.isdir() or member.issym() or member.islnk()):
            raise refused(self.path, f"the member {member.name!r} is a device, pipe or other special file")
        if name in self.names and not member.isdir():
            raise refused(self.path, f"two members have the name {name!r}")
        parts = name.split("/")
        parents = {"/".join(parts[:depth]) for depth in range(1, len(parts))}
        if parents & self.links.keys() or (member.isdir() and name in self.links):
            raise refused(self.path, f"the member {name!r} lies behind a link")
        if member.issym():
            check_link(self.path, name, member.linkname)
            self.links[name] = member.linkname
        elif member.isreg():
            self._refuse_too_large(member, name)
        self.names.add(name)
        if len(self.names) > MOST_MEMBERS:
            raise refused(self.path, f"it has more than {MOST_MEMBERS:,} members")
        return name

    def _refuse_too_large(self, member: tarfile.TarInfo, name: str) -> None:
        """Before a byte of it is read: a few bytes can claim terabytes, and holes are written out as zeros."""
        self.spend(member.size)
        self.used_bytes -= member.size
        parts = cast("list[tuple[int, int]]", getattr(member, "sparse", None) or [(0, member.size)])
        stored = sum(length for _, length in parts)
        if member.size - stored > _MOST_HOLES_BYTES:
            raise refused(self.path, f"the member {name!r} has holes of {member.size - stored:,} bytes")

    def spend(self, count: int) -> None:
        """Count bytes about to be written; raises BadInput past the limit."""
        self.used_bytes += count
        if self.used_bytes > self.limits.most_bytes:
            said = "it says" if self.limits.announced else "is allowed without a sheet that says its size"
            raise refused(self.path, f"it unpacks to more than {said} ({self.limits.most_bytes:,} bytes)")


@dataclass(frozen=True, slots=True)
class Unpacked:
    """What came out: BLAKE3 by tree path for files, and the bytes written."""

    digests: dict[str, str]
    written_bytes: int


def unpack_archive(path: Path, target: Path, limits: Limits, inside: Inside = AS_FOUND) -> Unpacked:
    """Unpack `path` into the existing empty folder `target`, files owned by the running account.

    `inside` says how the release lies in it. Raises BadInput for a damaged, hostile or oversized archive and AnswerNo
    when the disk is full; what was unpacked by then is the caller's to remove.
    """
    budget = _Budget(path, limits, set(), {})
    digests: dict[str, str] = {}
    with open_members(path, inside.becomes) as members:
        for member, content in members:
            name = budget.admit(member)
            if name:
                _place(member, name, content, target, budget, digests)
    strip = inside.strip(_single_top(target))
    check_links(path, budget.links, strip)
    if not strip:
        return Unpacked(digests, budget.used_bytes)
    _lift(path, target, strip)
    lifted = {name[len(strip) + 1 :]: value for name, value in digests.items() if name.startswith(strip + "/")}
    return Unpacked(lifted, budget.used_bytes)


@dataclass(frozen=True, slots=True)
class Content:
    """What a file or link should be: `what` is its BLAKE3, or `link:` and the target; owner -1 where nobody says."""

    what: str
    mode: int
    uid: int = -1
    gid: int = -1


def read_contents(path: Path, limits: Limits, inside: Inside = AS_FOUND) -> dict[str, Content]:
    """What an archive would unpack to, by tree path; nothing is written."""
    budget = _Budget(path, limits, set(), {})
    found: dict[str, Content] = {}
    with open_members(path, inside.becomes) as members:
        for member, content in members:
            name = budget.admit(member)
            if member.issym():
                found[name] = Content(f"link:{member.linkname}", 0o777)
            elif member.islnk():
                found[name] = found[_first_name(budget, member, name, found)]
            elif content is not None:
                found[name] = Content(_digest(content, budget), member.mode & 0o777)
    strip = inside.strip(_single_of(budget.names, found))
    check_links(path, budget.links, strip)
    if not strip:
        return found
    return {name[len(strip) + 1 :]: value for name, value in found.items() if name.startswith(strip + "/")}


def look_through(
    path: Path, limits: Limits, is_wanted: Callable[[str], bool], most_bytes: int
) -> tuple[dict[str, int], dict[str, bytes]]:
    """An archive's files as they are named in it, with their sizes, and what is in those that are wanted and no larger
    than `most_bytes`; nothing is written.

    Raises BadInput for an archive that is refused or damaged.
    """
    budget = _Budget(path, limits, set(), {})
    sizes: dict[str, int] = {}
    found: dict[str, bytes] = {}
    left = _MOST_LOOKED_AT_BYTES  # an archive may have any number of files by such names
    with open_members(path) as members:
        for member, content in members:
            name = budget.admit(member)
            if content is None:
                continue
            sizes[name] = member.size
            if is_wanted(name) and member.size <= min(most_bytes, left):
                left -= member.size
                budget.spend(member.size)
                found[name] = content.read()
    return sizes, found


def read_files(
    path: Path, limits: Limits, inside: Inside, wanted: Collection[str], most_bytes: int
) -> dict[str, bytes]:
    """Some files of an archive, by tree path, as far as it has them and they are no larger than `most_bytes`.

    Raises BadInput for an archive that is refused or damaged.
    """
    budget = _Budget(path, limits, set(), {})
    found: dict[str, bytes] = {}
    files: set[str] = set()
    with open_members(path, inside.becomes) as members:
        for member, content in members:
            name = budget.admit(member)
            if content is None:
                continue
            files.add(name)
            if (name in wanted or inside.below(name) in wanted) and member.size <= most_bytes:
                budget.spend(member.size)
                found[name] = content.read()
    strip = inside.strip(_single_of(budget.names, files))
    if not strip:
        return {name: raw for name, raw in found.items() if name in wanted}
    lifted = {name[len(strip) + 1 :]: raw for name, raw in found.items() if name.startswith(strip + "/")}
    return {name: raw for name, raw in lifted.items() if name in wanted}


def _first_name(budget: _Budget, member: tarfile.TarInfo, name: str, known: Container[str]) -> str:
    """The earlier member that a hard link names; raises BadInput when there is none."""
    first = safe_path(budget.path, member.linkname)
    if first not in known:
        raise refused(budget.path, f"the hard link {name!r} names {first!r}, which is not in it")
    return first


def _digest(content: IO[bytes], budget: _Budget) -> str:
    digest = blake3()
    while block := content.read(READ_BYTES):
        budget.spend(len(block))
        digest.update(block)
    return digest.hexdigest()


def _place(
    member: tarfile.TarInfo,
    name: str,
    content: IO[bytes] | None,
    target: Path,
    budget: _Budget,
    digests: dict[str, str],
) -> None:
    location = target / name
    if location.parent not in budget.folders:
        nolinks.make_folders(location.parent)
        budget.folders.add(location.parent)
    if member.isdir():
        nolinks.make_folder(location, exist_ok=True)
        nolinks.set_mode(location, (member.mode & 0o777) | 0o700)
    elif member.issym():
        nolinks.make_link(location, member.linkname)
    elif member.islnk():
        first = _first_name(budget, member, name, digests)
        nolinks.make_second_name(location, target / first)
        digests[name] = digests[first]
    elif content is not None:
        digests[name] = _write(content, location, member.mode & 0o777, budget)


def _write(content: IO[bytes], location: Path, mode: int, budget: _Budget) -> str:
    digest = blake3()
    descriptor = nolinks.open_file(location, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
    with os.fdopen(descriptor, "wb") as stream:
        while block := content.read(READ_BYTES):
            budget.spend(len(block))
            _check_room(location, len(block), budget)
            digest.update(block)
            stream.write(block)
        os.fchmod(stream.fileno(), mode)
    return digest.hexdigest()


def _check_room(location: Path, count: int, budget: _Budget) -> None:
    """Refuse to fill the disk to the brim: others write to it too. Small files are looked at together, each as a block
    of the disk, which is what it takes there however small it is.
    """
    budget.since_room_was_seen += max(count, _DISK_BLOCK_BYTES)
    if budget.since_room_was_seen < _LOOK_FOR_ROOM_BYTES:
        return
    budget.since_room_was_seen = 0
    status = os.statvfs(location.parent)
    if status.f_bavail * status.f_frsize < count + _ROOM_TO_LEAVE_BYTES:
        full = Problem("disk-full", f"no space left to unpack into {location.parent}", "free space and try again")
        raise AnswerNo(full)


def _single_of(names: Collection[str], files: Container[str]) -> str:
    tops = {name.split("/", 1)[0] for name in names if name}
    top = tops.pop() if len(tops) == 1 else ""
    return "" if top in files else top


def _single_top(target: Path) -> str:
    """The name of the only folder at the top, or nothing where the tree starts right there."""
    entries = list(target.iterdir())
    only = entries[0] if len(entries) == 1 else None
    return only.name if only is not None and only.is_dir() and not only.is_symlink() else ""


def _lift(path: Path, target: Path, strip: str) -> None:
    """Make the folder `strip` of an unpacked tree the tree itself."""
    inner = target / strip
    if not nolinks.is_folder(inner):
        raise refused(path, f"its sheet names the top folder {strip!r}, which is not in it")
    aside = target.with_name(target.name + ".lifted")
    nolinks.remove_all(aside)  # of a run that was killed between the two renames
    nolinks.rename(inner, aside)
    mode = nolinks.status_of(aside).st_mode & 0o777
    nolinks.remove_all(target)
    nolinks.rename(aside, target)
    nolinks.set_mode(target, mode | 0o700)
