"""What one place in a tree is: the one record that lists, archives and comparisons share."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Mapping
from enum import StrEnum
from pathlib import Path

import msgspec

from yellow_ladder import nolinks
from yellow_ladder.files.attributes import Attributes


class Kind(StrEnum):
    """What an entry is; `other` covers sockets, pipes and devices."""

    FILE = "file"
    FOLDER = "folder"
    LINK = "link"
    OTHER = "other"


# There may be millions: no dictionary, no work for the garbage collector, made and written by compiled code.
class Entry(msgspec.Struct, frozen=True, gc=False, forbid_unknown_fields=True):
    """One entry of a tree. Times in ns; `inode` and `changed_ns` (ctime) prove "not touched since" on one machine."""

    path: str
    kind: Kind
    mode: int
    uid: int
    gid: int
    size: int
    modified_ns: int
    digest: str = msgspec.field(name="blake3", default="")  # of the content, in hex
    target: str = ""
    inode: int = 0
    changed_ns: int = 0
    same_as: str = ""  # the first path of the same file in this tree, for hard links
    attributes: Attributes | None = None  # extended ones; None where nobody looked

    def same_content(self, other: Entry) -> bool:
        """Whether kind, bytes and link target agree."""
        return self.digest == other.digest and self.kind is other.kind and self.target == other.target

    def same_rights(self, other: Entry) -> bool:
        """Whether owner, group and permission bits agree (a link's own bits mean nothing), and extended attributes
        where both were looked at.
        """
        if self.uid != other.uid or self.gid != other.gid:
            return False
        is_same = self.mode == other.mode or self.kind is Kind.LINK
        return is_same and (self.attributes == other.attributes or self.attributes is None or other.attributes is None)

    def untouched_since(self, other: Entry) -> bool:
        """Whether the same inode has had no write and no change of rights between the two looks."""
        return self.changed_ns == other.changed_ns and self.size == other.size and self.inode == other.inode != 0

    def is_still(self, status: os.stat_result) -> bool:
        """Whether a file with one name is what was listed: the kernel sets its change time, and no program can choose
        it. Of everything else nothing is said: a file without a digest, one with several names, folders, links.
        """
        return (
            status.st_ctime_ns == self.changed_ns
            and status.st_ino == self.inode
            and status.st_nlink == 1
            and status.st_size == self.size
            and status.st_mtime_ns == self.modified_ns
            and bool(self.digest)
            and not self.same_as
            and status.st_mode == stat.S_IFREG | self.mode
            and status.st_uid == self.uid
            and status.st_gid == self.gid
        )


Manifest = Mapping[str, Entry]
changed = msgspec.structs.replace
"""An entry with other fields: `changed(entry, digest=…)`."""

_KINDS = {stat.S_IFREG: Kind.FILE, stat.S_IFDIR: Kind.FOLDER, stat.S_IFLNK: Kind.LINK}


def kind_of(mode: int) -> Kind:
    """What an entry is, by its mode."""
    return _KINDS.get(stat.S_IFMT(mode), Kind.OTHER)


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
    mode = status.st_mode
    kind = _KINDS.get(mode & 0o170000, Kind.OTHER)
    target = nolinks.target_of(location) if kind is Kind.LINK else ""
    return Entry(
        path, kind, mode & 0o7777, status.st_uid, status.st_gid,
        status.st_size if kind is Kind.FILE else 0, status.st_mtime_ns,
        digest, target, status.st_ino, status.st_ctime_ns, "", attributes,
    )  # fmt: skip


def within(path: str, folders: Iterable[str]) -> bool:
    """Whether a tree path is one of `folders` or lies below one."""
    return any(path == folder or path.startswith(folder + "/") for folder in folders)


def below_any(path: str) -> str:
    """A path of a list as one that can be put below any folder: what lies outside root comes below `outside/`."""
    return f"outside{path}" if path.startswith("/") else path


Place = tuple[bool, bytes, bytes]


def place_of(path: str) -> Place:
    """Where a path stands in a list: what lies outside root last, the entries of a folder together and in the order
    of their names' bytes, a folder's entries before those of the folders in it. It is the order in which a tree is
    walked.
    """
    raw = os.fsencode(path)
    folder, _, name = raw.rpartition(b"/")
    return raw[:1] == b"/", folder.replace(b"/", b"\0"), name
