"""Looks at the folders of a tree, one by one: what lies in each, with a digest (BLAKE3) of what was not known already.

This file imports nothing of the rest: it is also run as a program of its own, with the folder of the digest's library
as its only argument, so that a helper process is at work within milliseconds.
"""

import errno
import marshal
import operator
import os
import re
import stat
import sys
from collections.abc import Iterator

if __name__ == "__main__":
    sys.path.append(sys.argv[1])

from blake3 import blake3

READ_BYTES = 1024 * 1024
# One entry: name, mode with its type bits, uid, gid, size, modified ns, inode, changed ns, device (0 unless the file
# has several names), link target, BLAKE3 in hex.
Row = tuple[str, int, int, int, int, int, int, int, int, str, str]
# What is known of a folder: name -> (inode, size, changed ns, BLAKE3).
Known = dict[str, tuple[int, int, int, str]]
_KIND, _FOLDER = 0o170000, 0o040000
_AS_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
_name_of = operator.itemgetter(0)


class FolderLook:
    """One folder: the entries in it and its signature.

    Where it is the `same` as remembered, only folders in it are listed (their times are no part of the signature);
    where it `differs` and nobody said what is known, nothing is.
    """

    __slots__ = ("differs", "newest_ns", "path", "rows", "same", "signature", "subfolders", "trouble")

    def __init__(self, path: str) -> None:
        """Start with nothing found."""
        self.path = path
        self.signature = ""
        self.newest_ns = 0
        self.rows: list[Row] = []
        self.subfolders: list[str] = []
        self.same = self.differs = False
        self.trouble = ""

    def as_tuple(self) -> tuple[object, ...]:
        """For the way between two processes."""
        return tuple(getattr(self, name) for name in self.__slots__)

    @classmethod
    def from_tuple(cls, values: tuple[object, ...]) -> "FolderLook":
        """Read what `as_tuple` gave."""
        look = cls("")
        for name, value in zip(cls.__slots__, values, strict=True):
            setattr(look, name, value)
        return look


class Looker:
    """Looks at folders below `root`. `alone` are tree paths and `names` a pattern of names that are left out.

    Files in folders below one of `unread` are described and not read.
    """

    def __init__(self, root: str, alone: list[str], names: str, unread: list[str]) -> None:
        """Take the rules; nothing is read."""
        self.root, self.unread = root, tuple(unread)
        self._alone: dict[str, set[str]] = {}
        for tree_path in alone:
            folder, _, name = tree_path.rpartition("/")
            self._alone.setdefault(folder, set()).add(name)
        self._left_out = re.compile(names).match if names else None

    def look(self, path: str, signature: str, known: Known | None) -> FolderLook:
        """Look at one folder. Where it still has `signature`, or has another and `known` is None, nothing is listed.

        Links are not followed.
        """
        found = FolderLook(path)
        try:
            folder = self._opened(path)
        except OSError as fault:
            found.trouble = f"{fault.strerror}: {self.root}/{path}"
            return found
        try:
            return self._looked(found, folder, signature, known)
        except OSError as fault:
            found.trouble = f"{fault.strerror}: {self.root}/{path}"
            return found
        finally:
            os.close(folder)

    def _opened(self, path: str) -> int:
        """A folder, each opened from the one above it: its owner may exchange one for a link at any time."""
        held = os.open(self.root, _AS_FOLDER)
        for part in path.split("/") if path else ():
            try:
                below = os.open(part, _AS_FOLDER | os.O_NOFOLLOW, dir_fd=held)
            finally:
                os.close(held)
            held = below
        return held

    def _looked(self, found: FolderLook, folder: int, signature: str, known: Known | None) -> FolderLook:
        path = found.path
        statuses = self._statuses(path, folder)
        prefix = path + "/" if path else ""
        marks = []
        for name, one in statuses:
            if one.st_mode & _KIND == _FOLDER:
                found.subfolders.append(prefix + name)
                marks.append(f"{name}\0{one.st_ino}\0{one.st_mode}\0{one.st_uid}\0{one.st_gid}")
            else:
                changed = one.st_ctime_ns
                marks.append(f"{name}\0{one.st_ino}\0{one.st_size}\0{changed}")
                found.newest_ns = max(found.newest_ns, changed)
        found.signature = blake3("\1".join(marks).encode("utf-8", "surrogateescape")).hexdigest()
        found.same = bool(signature) and found.signature == signature
        found.differs = bool(signature) and not found.same and known is None
        if found.differs:
            return found
        if found.same:
            statuses = [pair for pair in statuses if pair[1].st_mode & _KIND == _FOLDER]
        known = known or {}
        is_read = not any(path == folder or path.startswith(folder + "/") for folder in self.unread)
        found.rows = [self._row(found, folder, name, one, known if is_read else None) for name, one in statuses]
        return found

    def _statuses(self, path: str, folder: int) -> list[tuple[str, os.stat_result]]:
        """Names in byte order (which is the order of code points) with what the file system says of each."""
        alone, left_out = self._alone.get(path), self._left_out
        with os.scandir(folder) as found:
            entries = list(found)
        try:
            status = [(entry.name, entry.stat(follow_symlinks=False)) for entry in entries]
        except FileNotFoundError:
            status = list(_still_there(entries))
        if alone:
            status = [pair for pair in status if pair[0] not in alone]
        if left_out:
            status = [pair for pair in status if not left_out(pair[0])]
        return sorted(status, key=_name_of)

    def _row(self, found: FolderLook, folder: int, name: str, one: os.stat_result, known: Known | None) -> Row:
        """One entry; without `known`, files are not read."""
        digest = target = ""
        path = f"{found.path}/{name}" if found.path else name
        try:
            if stat.S_ISLNK(one.st_mode):
                target = os.readlink(name, dir_fd=folder)
            elif stat.S_ISREG(one.st_mode) and known is not None and path not in self.unread:
                seen = known.get(name)
                is_same = seen is not None and seen[:3] == (one.st_ino, one.st_size, one.st_ctime_ns)
                is_known = is_same and seen is not None and seen[3]
                digest = seen[3] if is_known and seen else digest_of(_opened_file(name, folder), one.st_size)
        except OSError as fault:
            found.trouble = f"{fault.strerror}: {self.root}/{path}"
        device = one.st_dev if one.st_nlink > 1 and stat.S_ISREG(one.st_mode) else 0
        size = one.st_size if stat.S_ISREG(one.st_mode) else 0
        times = (one.st_mtime_ns, one.st_ino, one.st_ctime_ns)
        return (name, one.st_mode, one.st_uid, one.st_gid, size, *times, device, target, digest)


def _still_there(entries: "list[os.DirEntry[str]]") -> "Iterator[tuple[str, os.stat_result]]":
    """Names and their status without what went away between listing and looking: the site is alive."""
    for entry in entries:
        try:
            yield entry.name, entry.stat(follow_symlinks=False)
        except FileNotFoundError:
            continue


def _opened_file(name: str, folder: int) -> int:
    # It was a file a moment ago; opening a pipe that has taken its place would wait for the other end.
    descriptor = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise OSError(errno.ESTALE, "it was a file and is not one any more", name)
    return descriptor


def digest_of(descriptor: int, size: int = READ_BYTES) -> str:
    """BLAKE3 of an open file's content, in hex; it is closed then. A file of about `size` bytes is read in one go."""
    try:
        first = os.read(descriptor, min(size, READ_BYTES) + 1)
        digest = blake3(first)
        if len(first) == size:
            return digest.hexdigest()  # one byte more was asked for, and there was none
        while block := os.read(descriptor, READ_BYTES):
            digest.update(block)
    finally:
        os.close(descriptor)
    return digest.hexdigest()


def help_looking() -> None:
    """Be a helper: rules first, then batches of (path, signature, known), each answered with what was found."""
    source, sink = sys.stdin.buffer, sys.stdout.buffer
    looker = Looker(*marshal.load(source))  # noqa: S302  the other end is this program
    while batch := marshal.load(source):  # noqa: S302
        marshal.dump([looker.look(*one).as_tuple() for one in batch], sink)
        sink.flush()


if __name__ == "__main__":
    help_looking()
