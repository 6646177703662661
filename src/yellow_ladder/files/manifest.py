"""What a tree holds, entry by entry, and how two trees differ."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import Any, NamedTuple

from yellow_ladder import nolinks
from yellow_ladder.files.attributes import Attributes
from yellow_ladder.files.looking import digest_of


class Kind(StrEnum):
    """What an entry is; `other` covers sockets, pipes and devices."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Entry:
    """One entry of a tree. Times in ns; `inode` and `changed_ns` (ctime) prove "not touched since" on one machine."""

    path: str
    kind: Kind
    mode: int
    uid: int
    gid: int
    size: int
    modified_ns: int
    digest: str = ""  # of the content: BLAKE3, in hex
    target: str = ""
    inode: int = 0
    changed_ns: int = 0
    same_as: str = ""  # the first path of the same file in this tree, for hard links
    attributes: Attributes | None = None  # extended ones; None where nobody looked

    def same_content(self, other: Entry) -> bool:
        """Whether kind, bytes and link target agree."""
        return (self.kind, self.digest, self.target) == (other.kind, other.digest, other.target)

    def same_rights(self, other: Entry) -> bool:
        """Whether owner, group and permission bits agree (a link's own bits mean nothing)."""
        own, their = (self.uid, self.gid), (other.uid, other.gid)
        return own == their and (self.mode == other.mode or self.kind is Kind.LINK)

    def untouched_since(self, other: Entry) -> bool:
        """Whether the same inode has had no write and no change of rights between the two looks."""
        return self.inode == other.inode != 0 and (self.changed_ns, self.size) == (
            other.changed_ns,
            other.size,
        )


_RECORD_KEYS = {"digest": "blake3"}
Manifest = Mapping[str, Entry]
Skip = Callable[[str], bool]


def keep_all(_path: str) -> bool:
    """Skip nothing."""
    return False


def within(path: str, folders: Iterable[str]) -> bool:
    """Whether a tree path is one of `folders` or lies below one."""
    return any(path == folder or path.startswith(folder + "/") for folder in folders)


class Found(NamedTuple):
    """An entry of a walk: its whole path, and what the file system says of it."""

    location: str
    status: os.stat_result


def walk_tree(root: Path, skip: Skip = keep_all) -> Iterator[tuple[str, Found]]:
    """Every entry below `root` as (tree path, what was found), folders before what they hold, names in byte order.

    Links are never followed, also not where one takes a folder's place meanwhile. `skip` drops an entry with everything
    below it.
    """
    pending = [("", str(root))]
    while pending:
        prefix, folder = pending.pop()
        below = []
        try:
            with nolinks.entries_of(folder) as found:
                found.sort(key=lambda entry: os.fsencode(entry.name))
                wanted = [entry for entry in found if not skip(prefix + entry.name)]
                entries = list(_still_there(folder, wanted))
        except (FileNotFoundError, NotADirectoryError, nolinks.LinkInTheWay):
            if not prefix:
                raise
            continue  # it went between listing and looking
        for name, one in entries:
            yield prefix + name, one
            if stat.S_ISDIR(one.status.st_mode):
                below.append((f"{prefix}{name}/", one.location))
        pending.extend(reversed(below))


def _still_there(folder: str, entries: Iterable[os.DirEntry[str]]) -> Iterator[tuple[str, Found]]:
    for entry in entries:
        with contextlib.suppress(FileNotFoundError):
            yield entry.name, Found(f"{folder}/{entry.name}", entry.stat(follow_symlinks=False))


def describe(path: str, location: str | Path) -> Entry:
    """The entry at `location` without its digest."""
    return entry_from(path, nolinks.status_of(location), location)


def entry_from(
    path: str,
    status: os.stat_result,
    location: str | Path = "",
    digest: str = "",
    attributes: Attributes | None = None,
) -> Entry:
    """An entry from what the system says of it; a link is read at its `location`."""
    kind = kind_of(status.st_mode)
    target = nolinks.target_of(location) if kind is Kind.LINK else ""
    return Entry(
        path, kind, stat.S_IMODE(status.st_mode), status.st_uid, status.st_gid,
        status.st_size if kind is Kind.FILE else 0, status.st_mtime_ns,
        digest, target, status.st_ino, status.st_ctime_ns, "", attributes,
    )  # fmt: skip


def kind_of(mode: int) -> Kind:
    """What an entry is, by its mode."""
    if stat.S_ISREG(mode):
        return Kind.FILE
    if stat.S_ISDIR(mode):
        return Kind.FOLDER
    return Kind.LINK if stat.S_ISLNK(mode) else Kind.OTHER


def digest_file(location: str | Path) -> str:
    """BLAKE3 of a file's content, in hex; a link is not followed."""
    return digest_of(nolinks.open_regular(location))


def take_manifest(
    root: Path,
    skip: Skip = keep_all,
    *,
    known: Manifest | None = None,
    with_digests: bool = True,
    on_bytes: Callable[[int], None] | None = None,
) -> dict[str, Entry]:
    """Describe every entry below `root`.

    A file that `known` holds with the same inode, size and ctime is not read again: nobody can have written to
    it in between, since the kernel sets ctime and no program can choose it.
    """
    manifest: dict[str, Entry] = {}
    links = HardLinks()
    before = {entry.inode: entry for entry in (known or {}).values() if entry.kind is Kind.FILE}
    for path, found in walk_tree(root, skip):
        entry = links.mark(entry_from(path, found.status, found.location), found)
        if entry.kind is Kind.FILE and with_digests:
            seen = before.get(entry.inode)
            trusted = seen is not None and seen.digest and entry.untouched_since(seen)
            entry = replace(entry, digest=seen.digest if trusted and seen else digest_file(found.location))
            if on_bytes is not None:
                on_bytes(entry.size)
        manifest[path] = entry
    return manifest


class HardLinks:
    """Remembers files with several names, so that the second name is known as the same file."""

    def __init__(self) -> None:
        """Start with no name known."""
        self._first: dict[tuple[int, int], str] = {}

    def mark(self, entry: Entry, found: Found) -> Entry:
        """The entry, with `same_as` set when an earlier path of this walk is the same file."""
        status = found.status
        if entry.kind is not Kind.FILE or status.st_nlink < 2:
            return entry
        first = self._first.setdefault((status.st_dev, status.st_ino), entry.path)
        return entry if first == entry.path else replace(entry, same_as=first)


class FileChange(StrEnum):
    """How an entry of one tree stands in another."""

    ADDED = "added"
    MISSING = "missing"
    CONTENT = "content"
    RIGHTS = "rights"


@dataclass(frozen=True, slots=True)
class Difference:
    """One path that differs between a tree expected and a tree found."""

    path: str
    change: FileChange


def compare_manifests(expected: Manifest, found: Manifest) -> list[Difference]:
    """Every path whose presence, content, owner, group or mode differs, in path order; times are not compared."""
    differences = []
    for path in sorted(expected.keys() | found.keys()):
        old, new = expected.get(path), found.get(path)
        if old is None:
            differences.append(Difference(path, FileChange.ADDED))
        elif new is None:
            differences.append(Difference(path, FileChange.MISSING))
        elif not old.same_content(new):
            differences.append(Difference(path, FileChange.CONTENT))
        elif not old.same_rights(new):
            differences.append(Difference(path, FileChange.RIGHTS))
    return differences


def manifest_to_lines(manifest: Manifest) -> bytes:
    """The manifest as JSON Lines, one entry a line; names that are no UTF-8 survive as escapes."""
    encode = json.JSONEncoder(ensure_ascii=True).encode
    return "".join(f"{encode(_as_record(entry))}\n" for entry in manifest.values()).encode("ascii")


def _as_record(entry: Entry) -> dict[str, Any]:
    """An entry as JSON; the digest goes by the name of what it is."""
    return {_RECORD_KEYS.get(name, name): getattr(entry, name) for name in Entry.__slots__}


def manifest_from_lines(content: bytes) -> dict[str, Entry]:
    """Read what `manifest_to_lines` wrote; raises ValueError, KeyError or TypeError on anything else."""
    manifest = {}
    for line in content.splitlines():
        fields = json.loads(line)
        known = fields.pop("attributes", None)
        attributes = None if known is None else tuple((name, value) for name, value in known)
        kind, digest = Kind(fields.pop("kind")), fields.pop("blake3")
        entry = Entry(**fields, kind=kind, digest=digest, attributes=attributes)
        manifest[entry.path] = entry
    return manifest


def tree_digest(manifest: Manifest) -> str:
    """One SHA-256 over paths, kinds, contents, owners and modes: two trees agree in it or differ somewhere."""
    digest = hashlib.sha256()
    for path in sorted(manifest):
        entry = manifest[path]
        rights = "" if entry.kind is Kind.LINK else f"{entry.mode:o}"
        line = "\0".join((path, entry.kind, rights, str(entry.uid), str(entry.gid), entry.digest, entry.target))
        digest.update(line.encode("utf-8", "surrogateescape") + b"\n")
    return digest.hexdigest()
