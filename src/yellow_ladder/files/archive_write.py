"""Writes trees into one tar + zstd archive in a single pass, with a digest of every file on the way."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import tarfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Protocol

import zstandard
from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.files.attributes import read_attributes
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import Entry, HardLinks, Kind, Manifest, Skip, describe, entry_from, walk_tree
from yellow_ladder.files.tar_members import BLOCK, info_bytes, member_header, member_info

_TRIES_FOR_A_CHANGING_FILE = 3
# Large enough for the compressor to keep all cores busy; larger ones were not faster.
_BUFFER_BYTES = 4 * 1024**2
_TELL_EVERY_BYTES = 4 * 1024**2
# A little larger than at the next level (by 1 or 2 in a hundred) and written in three quarters of the time: while a
# backup is written the site is closed.
BACKUP_LEVEL = 2
OnBytes = Callable[[int], None]


class Digest(Protocol):
    """What bytes are digested into."""

    def update(self, block: memoryview | bytes, /) -> object:
        """Take bytes."""


@dataclass(frozen=True, slots=True)
class TreeSource:
    """One tree to put into an archive, below the folder `prefix` there.

    `known` are files that an earlier archive holds: what nobody has touched since is listed and not stored again.
    Without `with_top`, the folder itself is not stored: only something in it is meant.
    """

    prefix: str
    root: Path
    skip: Skip
    known: Manifest = field(default_factory=dict)
    with_top: bool = True


@dataclass(slots=True)
class Archived:
    """What an archive and those before it hold: entries by tree path for each prefix and the folders themselves, files
    that changed while being read, and bytes that this one did not have to store.
    """

    trees: dict[str, dict[str, Entry]] = field(default_factory=dict)
    tops: dict[str, Entry] = field(default_factory=dict)
    unsteady: list[str] = field(default_factory=list)
    known_bytes: int = 0


class ZstdSink:
    """A write stream that compresses on all cores. Bytes gather in one buffer, which files are read right into."""

    def __init__(self, stream: BinaryIO, level: int) -> None:
        """Write to `stream`, which stays the caller's to close."""
        self._stream = stream
        self._coder = zstandard.ZstdCompressor(level=level, threads=-1, write_checksum=True).compressobj()
        self._buffer = memoryview(bytearray(_BUFFER_BYTES))
        self._used = 0

    def write(self, block: bytes) -> None:
        """Take bytes of any length."""
        at = 0
        while at < len(block):
            part = block[at : at + self._room()]
            self._buffer[self._used : self._used + len(part)] = part
            self._used += len(part)
            at += len(part)

    def take_from(self, descriptor: int, length: int, digest: Digest) -> None:
        """Take a number of bytes from a file and digest them; where the file became shorter, zeros fill the rest."""
        while length:
            space = self._buffer[self._used : self._used + min(self._room(), length)]
            got = os.readv(descriptor, [space])
            if not got:
                got = len(space)
                space[:] = bytes(got)
            digest.update(space[:got])
            self._used += got
            length -= got

    def _room(self) -> int:
        """Free bytes of the buffer: at least one."""
        if self._used == _BUFFER_BYTES:
            self._flush()
        return _BUFFER_BYTES - self._used

    def _flush(self) -> None:
        self._stream.write(self._coder.compress(self._buffer[: self._used]))
        self._used = 0

    def finish(self) -> None:
        """End the frame and make the bytes last."""
        self._flush()
        self._stream.write(self._coder.flush())
        self._stream.flush()
        os.fsync(self._stream.fileno())


class TarWriter:
    """Writes members one after the other; leaving the block without an error ends the archive and syncs it."""

    def __init__(self, path: Path, level: int = BACKUP_LEVEL) -> None:
        """Create `path`, private to the running account; fails when it exists."""
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        self._file = os.fdopen(descriptor, "wb")
        self._sink = ZstdSink(self._file, level)

    def __enter__(self) -> TarWriter:
        """Use as a block."""
        return self

    def __exit__(self, kind: type[BaseException] | None, fault: object, trace: TracebackType | None) -> None:
        """End the archive, or leave it visibly unfinished after an error."""
        with self._file:
            if kind is None:
                self._sink.write(bytes(2 * BLOCK))
                self._sink.finish()

    def add_bytes(self, name: str, content: bytes, mode: int = 0o644) -> None:
        """Add a file from memory, owned by nobody in particular, with no time: the same input, the same bytes."""
        info = tarfile.TarInfo(name)
        info.size, info.mode = len(content), mode
        self._sink.write(info.tobuf(tarfile.PAX_FORMAT))
        self._sink.write(content + bytes(-len(content) % BLOCK))

    def add_header(self, header: bytes) -> None:
        """Add a member without content."""
        self._sink.write(header)

    def add_file(self, entry: Entry, name: str, location: str) -> tuple[Entry, bool]:
        """Add a regular file; returns its entry as it was opened, with its digest, and whether it held still."""
        descriptor = nolinks.open_file(location, os.O_RDONLY)
        try:
            before = os.fstat(descriptor)
            if not stat.S_ISREG(before.st_mode):
                raise OSError(errno.ESTALE, "it was a file and is not one any more", location)
            attributes = read_attributes(descriptor)
            now = entry_from(entry.path, before, attributes=attributes)
            digest = blake3()
            if before.st_blocks * BLOCK < before.st_size:
                self._add_with_holes(descriptor, now, name, digest)
            else:
                self._sink.write(member_header(now, name))
                self._sink.take_from(descriptor, now.size, digest)
                self._sink.write(bytes(-now.size % BLOCK))
            after = os.fstat(descriptor)
        finally:
            os.close(descriptor)
        # The change time is the kernel's: a program can set the modification time back, and not this one.
        steady = (before.st_size, before.st_ctime_ns) == (after.st_size, after.st_ctime_ns)
        return entry_from(entry.path, before, digest=digest.hexdigest(), attributes=attributes), steady

    def _add_with_holes(self, descriptor: int, entry: Entry, name: str, digest: Digest) -> None:
        """Store only what is there of a file with holes, in GNU's sparse format 1.0, which tar programs understand."""
        parts = data_parts(descriptor, entry.size)
        numbers = [len(parts), *(number for part in parts for number in part)]
        table = "".join(f"{number}\n" for number in numbers).encode()
        table += bytes(-len(table) % BLOCK)
        info = member_info(entry, name)
        info.size = len(table) + sum(length for _, length in parts)
        info.pax_headers = {
            **info.pax_headers,
            "GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.name": name,
            "GNU.sparse.realsize": str(entry.size),
        }  # fmt: skip
        self._sink.write(info_bytes(info))
        self._sink.write(table)
        at = 0
        for start, length in parts:
            _digest_zeros(digest, start - at)
            os.lseek(descriptor, start, os.SEEK_SET)
            self._sink.take_from(descriptor, length, digest)
            at = start + length
        _digest_zeros(digest, entry.size - at)
        self._sink.write(bytes(-info.size % BLOCK))


def data_parts(descriptor: int, size: int) -> list[tuple[int, int]]:
    """(start, length) of every part of a file that is no hole; an empty part stands at the end, as the format asks."""
    parts, at = [], 0
    while at < size:
        try:
            start = os.lseek(descriptor, at, os.SEEK_DATA)
        except OSError as fault:
            if fault.errno != errno.ENXIO:
                raise
            break
        end = min(os.lseek(descriptor, start, os.SEEK_HOLE), size)
        if start >= size:
            break
        parts.append((start, end - start))
        at = end
    os.lseek(descriptor, 0, os.SEEK_SET)
    return [*parts, (size, 0)]


def _digest_zeros(digest: Digest, length: int) -> None:
    zeros = bytes(min(length, READ_BYTES))
    while length > 0:
        digest.update(zeros[:length] if length < len(zeros) else zeros)
        length -= len(zeros)


def write_archive(path: Path, sources: Sequence[TreeSource], on_bytes: OnBytes | None = None) -> Archived:
    """Archive trees; returns what went in. Raises OSError on the first unreadable file.

    Sockets, pipes and devices are left out: they belong to running processes.
    """
    archived = Archived()
    told = _Told(on_bytes)
    with TarWriter(path) as writer:
        for source in sources:
            # Two files of one folder, each meant by itself, come as two trees of the same prefix.
            archived.trees.setdefault(source.prefix, {}).update(_add_tree(writer, source, archived, told))
    told.add(0, at_once=True)
    return archived


class _Told:
    """Tells bytes by the megabyte: a word for each of many small files would take longer than they do."""

    def __init__(self, on_bytes: OnBytes | None) -> None:
        self._on_bytes, self._pending = on_bytes, 0

    def add(self, count: int, *, at_once: bool = False) -> None:
        self._pending += count
        if self._on_bytes is not None and (at_once or self._pending >= _TELL_EVERY_BYTES):
            self._on_bytes(self._pending)
            self._pending = 0


def _add_tree(writer: TarWriter, source: TreeSource, archived: Archived, told: _Told) -> dict[str, Entry]:
    entries: dict[str, Entry] = {}
    links = HardLinks()
    if source.with_top:
        top = replace(describe("", source.root), attributes=read_attributes(source.root))
        writer.add_header(member_header(top, source.prefix))
        archived.tops[source.prefix] = top
    for path, found in walk_tree(source.root, source.skip):
        with contextlib.suppress(FileNotFoundError):  # it went between listing and looking: the site may be serving
            entry = links.mark(entry_from(path, found.status, found.location), found)
            if entry.kind is not Kind.OTHER:
                entries[path] = _add(writer, source, entry, found.location, entries, archived)
                told.add(entry.size)
    return entries


def _add(
    writer: TarWriter, source: TreeSource, entry: Entry, location: str, entries: Manifest, archived: Archived
) -> Entry:
    """Add what lies there, unless an earlier archive holds it; returns the entry as it was stored."""
    name = f"{source.prefix}/{entry.path}"
    before = source.known.get(entry.path)
    if before is not None and before.digest and entry.kind is Kind.FILE and entry.untouched_since(before):
        archived.known_bytes += entry.size
        return replace(entry, digest=before.digest, attributes=before.attributes)
    if entry.same_as in entries:
        first = entries[entry.same_as]
        entry = replace(entry, digest=first.digest, attributes=read_attributes(location))
        writer.add_header(_hard_link(entry, name, f"{source.prefix}/{first.path}"))
        return entry
    if entry.kind is Kind.FILE:
        return _add_steady(writer, entry, name, location, archived.unsteady)
    if entry.kind is Kind.FOLDER:
        entry = replace(entry, attributes=read_attributes(location))
    writer.add_header(member_header(entry, name))
    return entry


def _add_steady(writer: TarWriter, entry: Entry, name: str, location: str, unsteady: list[str]) -> Entry:
    """Add a file, again while it changes under the reading; tar restores the last member of a name."""
    for attempt in range(_TRIES_FOR_A_CHANGING_FILE):
        try:
            entry, steady = writer.add_file(entry, name, location)
        except FileNotFoundError:
            if not attempt:
                raise
            break
        if steady:
            return entry
    unsteady.append(entry.path)
    return entry


def _hard_link(entry: Entry, name: str, first: str) -> bytes:
    info = member_info(entry, name)
    info.type, info.linkname, info.size = tarfile.LNKTYPE, first, 0
    return info_bytes(info)
