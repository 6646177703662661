"""Writes trees into one tar + zstd archive in a single pass, with a digest of every file on the way."""

from __future__ import annotations

import errno
import os
import tarfile
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Protocol

import zstandard
from blake3 import blake3

from yellow_ladder.files.archives.members import BLOCK, hard_link_header, info_bytes, member_header, member_info
from yellow_ladder.files.attributes import read_attributes
from yellow_ladder.files.entry import Entry, Kind, Manifest, changed, describe, entry_from
from yellow_ladder.files.listing import ListingWriter
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import Found, HardLinks, Skip, walk_tree

_TRIES_FOR_A_CHANGING_FILE = 3
# Large enough for the compressor to keep all cores busy; larger ones were not faster.
_BUFFER_BYTES = 4 * 1024**2
# Files up to this are read, digested and stored in one go.
_SMALL_BYTES = 128 * 1024
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

    `known` are files that an earlier archive holds, by their path behind `known_below`: what nobody has touched since,
    and was not changed after `known_until_ns` either, is listed and not stored again. Without `with_top`, the folder
    itself is not stored: only something in it is meant.
    """

    prefix: str
    root: Path
    skip: Skip
    known: Manifest = field(default_factory=dict)
    with_top: bool = True
    known_below: str = ""
    known_until_ns: int = 2**63


@dataclass(slots=True)
class Counted:
    """How much of a tree was archived: regular files, links, and the bytes of the files."""

    files: int = 0
    links: int = 0
    bytes: int = 0


@dataclass(slots=True)
class Archived:
    """What an archive and those before it hold: entries by tree path for each prefix and the folders themselves, how
    many there are, those of names that were to be noticed, files that changed while being read, and bytes that this
    one did not have to store.
    """

    trees: dict[str, Manifest] = field(default_factory=dict)
    tops: dict[str, Entry] = field(default_factory=dict)
    counted: dict[str, Counted] = field(default_factory=dict)
    noticed: dict[str, list[str]] = field(default_factory=dict)
    unsteady: list[str] = field(default_factory=list)
    known_bytes: int = 0

    @property
    def in_all(self) -> Counted:
        """How much of all trees together."""
        every = self.counted.values()
        return Counted(
            sum(one.files for one in every), sum(one.links for one in every), sum(one.bytes for one in every)
        )


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

    def add_file(self, entry: Entry, name: str, found: Found) -> tuple[Entry, bool]:
        """Add a regular file; returns its entry as it was opened, with its digest, and whether it held still."""
        descriptor = found.opened()
        try:
            before = os.fstat(descriptor)
            now = entry_from(entry.path, before, attributes=read_attributes(descriptor))
            if before.st_blocks * BLOCK < before.st_size:
                digest = self._add_with_holes(descriptor, now, name)
            elif now.size <= _SMALL_BYTES:
                digest = self._add_small(descriptor, now, name)
            else:
                hashed = blake3()
                self._sink.write(member_header(now, name))
                self._sink.take_from(descriptor, now.size, hashed)
                self._sink.write(bytes(-now.size % BLOCK))
                digest = hashed.hexdigest()
            after = os.fstat(descriptor)
        finally:
            os.close(descriptor)
        # The change time is the kernel's: a program can set the modification time back, and not this one.
        steady = before.st_ctime_ns == after.st_ctime_ns and before.st_size == after.st_size
        return changed(now, digest=digest), steady

    def _add_small(self, descriptor: int, entry: Entry, name: str) -> str:
        """Add a file in one piece; returns its digest. Where it became shorter, zeros fill the rest."""
        content = os.read(descriptor, entry.size) if entry.size else b""
        content += bytes(entry.size - len(content))
        self._sink.write(b"".join((member_header(entry, name), content, bytes(-entry.size % BLOCK))))
        return blake3(content).hexdigest()

    def _add_with_holes(self, descriptor: int, entry: Entry, name: str) -> str:
        """Store only what is there of a file with holes, in GNU's sparse format 1.0, which tar programs understand.

        Returns its digest.
        """
        digest = blake3()
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
        return digest.hexdigest()


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


def write_archive(
    path: Path,
    sources: Sequence[TreeSource],
    on_bytes: OnBytes | None = None,
    *,
    listed: ListingWriter | None = None,
    notice: Collection[str] = (),
) -> Archived:
    """Archive trees; returns what went in. Raises OSError on the first unreadable file.

    Sockets, pipes and devices are left out: they belong to running processes. With `listed`, the first tree is listed
    there and is not among what is returned. Paths whose last name is one to `notice` are noticed.
    """
    archived = Archived()
    told = _Told(on_bytes)
    # Two files of one folder, each meant by itself, come as two trees of the same prefix.
    lists = {source.prefix: ListingWriter.beside_memory() for source in sources}
    if listed is not None:
        lists[sources[0].prefix] = listed
    with TarWriter(path) as writer:
        for source in sources:
            _add_tree(writer, source, archived, lists[source.prefix], told, notice)
    told.add(0, at_once=True)
    archived.trees = {prefix: one.finish() for prefix, one in lists.items() if one is not listed}
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


def _add_tree(
    writer: TarWriter,
    source: TreeSource,
    archived: Archived,
    listed: ListingWriter,
    told: _Told,
    notice: Collection[str],
) -> None:
    counted = archived.counted.setdefault(source.prefix, Counted())
    noticed = archived.noticed.setdefault(source.prefix, [])
    adding = _Adding(writer, source, archived)
    if source.with_top:
        top = changed(describe("", source.root), attributes=read_attributes(source.root))
        writer.add_header(member_header(top, source.prefix))
        archived.tops[source.prefix] = top
    for path, found in walk_tree(source.root, source.skip):
        entry = adding.add(path, found)
        if entry is None:
            continue
        if found.name in notice:
            noticed.append(path)
        counted.files += entry.kind is Kind.FILE
        counted.links += entry.kind is Kind.LINK
        counted.bytes += entry.size
        listed.add(entry)
        told.add(entry.size)


class _Adding:
    """A tree on its way into an archive, but for what an earlier one holds."""

    def __init__(self, writer: TarWriter, source: TreeSource, archived: Archived) -> None:
        self._writer, self._source, self._archived = writer, source, archived
        self._links = HardLinks()
        self._several: dict[str, Entry] = {}  # files with more names than one, as they were stored under their first

    def add(self, path: str, found: Found) -> Entry | None:
        """Add what lies there; returns its entry as it was stored, None for what is left out."""
        source = self._source
        before = source.known.get(source.known_below + path)
        if before is not None and before.changed_ns < source.known_until_ns and before.is_still(found.status):
            self._archived.known_bytes += before.size
            return changed(before, path=path) if source.known_below else before
        try:
            entry = entry_from(path, found.status, found.location)
            if entry.kind is Kind.OTHER:
                return None
            has_several = entry.kind is Kind.FILE and found.status.st_nlink > 1
            entry = self._stored(self._links.mark(entry, found) if has_several else entry, found, before)
        except FileNotFoundError:
            return None  # it went between listing and looking: the site may be serving
        if has_several:
            self._several[path] = entry
        return entry

    def _stored(self, entry: Entry, found: Found, before: Entry | None) -> Entry:
        source = self._source
        if entry.kind is Kind.FILE and before is not None and _is_known(entry, before, source.known_until_ns):
            self._archived.known_bytes += entry.size
            return changed(entry, digest=before.digest, attributes=before.attributes)
        name = f"{source.prefix}/{entry.path}"
        if entry.same_as in self._several:
            first = self._several[entry.same_as]
            entry = changed(entry, digest=first.digest, attributes=read_attributes(found.location))
            self._writer.add_header(hard_link_header(entry, name, f"{source.prefix}/{first.path}"))
            return entry
        if entry.kind is Kind.FILE:
            return _add_steady(self._writer, entry, name, found, self._archived.unsteady)
        if entry.kind is Kind.FOLDER:
            entry = changed(entry, attributes=read_attributes(found.location))
        self._writer.add_header(member_header(entry, name))
        return entry


def _is_known(entry: Entry, before: Entry, until_ns: int) -> bool:
    return bool(before.digest) and before.changed_ns < until_ns and entry.untouched_since(before)


def _add_steady(writer: TarWriter, entry: Entry, name: str, found: Found, unsteady: list[str]) -> Entry:
    """Add a file, again while it changes under the reading; tar restores the last member of a name."""
    for attempt in range(_TRIES_FOR_A_CHANGING_FILE):
        try:
            entry, steady = writer.add_file(entry, name, found)
        except FileNotFoundError:
            if not attempt:
                raise
            break
        if steady:
            return entry
    unsteady.append(entry.path)
    return entry
