"""Writes trees into one tar + zstd archive in a single pass, with a digest of every file on the way.

The format is POSIX pax (IEEE 1003.1-2001), so that any tar restores it, nanosecond times included.
"""

from __future__ import annotations

import errno
import hashlib
import io
import os
import tarfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Protocol

import zstandard

from yellow_ladder.files.attributes import as_pax, read_attributes
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.manifest import (
    Entry,
    HardLinks,
    Kind,
    Manifest,
    Skip,
    describe,
    walk_tree,
)

_TRIES_FOR_A_CHANGING_FILE = 3
_TAR_BLOCK = 512


class Digest(Protocol):
    """What bytes are digested into."""

    def update(self, block: bytes, /) -> object:
        """Take bytes."""


@dataclass(frozen=True, slots=True)
class TreeSource:
    """One tree to put into an archive, below the folder `prefix` there.

    `known` are files that an earlier archive holds: what nobody has touched since is listed and not stored again.
    """

    prefix: str
    root: Path
    skip: Skip
    known: Manifest = field(default_factory=dict)


@dataclass(slots=True)
class Archived:
    """What an archive and those before it hold: entries by tree path for each prefix, files that changed while being
    read, and bytes that this one did not have to store.
    """

    trees: dict[str, dict[str, Entry]] = field(default_factory=dict)
    unsteady: list[str] = field(default_factory=list)
    known_bytes: int = 0


class ZstdSink:
    """A write stream that joins small writes, compresses on all cores and digests the compressed bytes."""

    def __init__(self, stream: BinaryIO, level: int = 3) -> None:
        """Write to `stream`, which stays the caller's to close."""
        self._stream = stream
        self._coder = zstandard.ZstdCompressor(level=level, threads=-1, write_checksum=True).compressobj()
        self._pending = io.BytesIO()
        self.digest = hashlib.sha256()

    def write(self, block: bytes) -> None:
        """Take bytes of any length."""
        self._pending.write(block)
        if self._pending.tell() >= READ_BYTES:
            self._flush()

    def _flush(self) -> None:
        self._emit(self._coder.compress(self._pending.getvalue()))
        self._pending = io.BytesIO()

    def _emit(self, packed: bytes) -> None:
        if packed:
            self.digest.update(packed)
            self._stream.write(packed)

    def finish(self) -> None:
        """End the frame and make the bytes last."""
        self._flush()
        self._emit(self._coder.flush())
        self._stream.flush()
        os.fsync(self._stream.fileno())


class TarWriter:
    """Writes members one after the other; leaving the block without an error ends the archive and syncs it."""

    def __init__(self, path: Path, level: int = 3) -> None:
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
                self._sink.write(bytes(2 * _TAR_BLOCK))
                self._sink.finish()

    @property
    def sha256(self) -> str:
        """Digest of the archive as written; final after the block."""
        return self._sink.digest.hexdigest()

    def add_bytes(self, name: str, content: bytes, mode: int = 0o644) -> None:
        """Add a file from memory, owned by nobody in particular, with no time: the same input, the same bytes."""
        header = tarfile.TarInfo(name)
        header.size, header.mode = len(content), mode
        self._sink.write(header.tobuf(tarfile.PAX_FORMAT))
        self._sink.write(content + bytes(-len(content) % _TAR_BLOCK))

    def add_header(self, header: tarfile.TarInfo) -> None:
        """Add a member without content."""
        self._sink.write(header.tobuf(tarfile.PAX_FORMAT, errors="surrogateescape"))

    def add_file(self, entry: Entry, name: str, location: str) -> tuple[Entry, bool]:
        """Add a regular file; returns the entry with size and digest as stored, and whether it held still."""
        descriptor = os.open(location, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        with os.fdopen(descriptor, "rb", buffering=0) as stream:
            before = os.fstat(descriptor)
            entry = replace(entry, size=before.st_size, modified_ns=before.st_mtime_ns)
            digest = hashlib.sha256()
            if before.st_blocks * _TAR_BLOCK < entry.size:
                self._add_with_holes(stream, entry, name, digest)
            else:
                self.add_header(member_header(entry, name))
                self._copy(stream, entry.size, digest)
            after = os.fstat(descriptor)
        steady = (before.st_size, before.st_ctime_ns) == (after.st_size, after.st_ctime_ns)
        return replace(entry, sha256=digest.hexdigest()), steady

    def _copy(self, stream: BinaryIO, length: int, digest: Digest) -> None:
        """So many bytes, and zeros up to a whole block; of a file that became shorter, zeros in place of the rest."""
        self._copy_part(stream, length, digest)
        self._sink.write(bytes(-length % _TAR_BLOCK))

    def _add_with_holes(self, stream: BinaryIO, entry: Entry, name: str, digest: Digest) -> None:
        """Store only what is there of a file with holes, in GNU's sparse format 1.0, which tar programs understand."""
        parts = data_parts(stream.fileno(), entry.size)
        numbers = [len(parts), *(number for part in parts for number in part)]
        table = "".join(f"{number}\n" for number in numbers).encode()
        table += bytes(-len(table) % _TAR_BLOCK)
        header = member_header(entry, name)
        header.size = len(table) + sum(length for _, length in parts)
        header.pax_headers = {
            **header.pax_headers,
            "GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.name": name,
            "GNU.sparse.realsize": str(entry.size),
        }  # fmt: skip
        self.add_header(header)
        self._sink.write(table)
        at = 0
        for start, length in parts:
            _digest_zeros(digest, start - at)
            stream.seek(start)
            self._copy_part(stream, length, digest)
            at = start + length
        _digest_zeros(digest, entry.size - at)
        self._sink.write(bytes(-header.size % _TAR_BLOCK))

    def _copy_part(self, stream: BinaryIO, length: int, digest: Digest) -> None:
        while length:
            block = stream.read(min(length, READ_BYTES)) or bytes(min(length, READ_BYTES))
            digest.update(block)
            self._sink.write(block)
            length -= len(block)


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


def member_header(entry: Entry, name: str) -> tarfile.TarInfo:
    """The tar header of an entry, times in nanoseconds."""
    header = tarfile.TarInfo(name)
    header.mode, header.uid, header.gid = entry.mode, entry.uid, entry.gid
    header.mtime = entry.modified_ns // 10**9
    header.pax_headers = {"mtime": f"{entry.modified_ns // 10**9}.{entry.modified_ns % 10**9:09d}"}
    header.pax_headers |= as_pax(entry.attributes or ())
    if entry.kind is Kind.FOLDER:
        header.type = tarfile.DIRTYPE
    elif entry.kind is Kind.LINK:
        header.type, header.linkname = tarfile.SYMTYPE, entry.target
    else:
        header.size = entry.size
    return header


def write_archive(
    path: Path, sources: Sequence[TreeSource], on_bytes: Callable[[int], None] | None = None
) -> tuple[Archived, str]:
    """Archive trees; returns what went in and the archive's SHA-256. Raises OSError on the first unreadable file.

    Sockets, pipes and devices are left out: they belong to running processes.
    """
    archived = Archived()
    with TarWriter(path) as writer:
        for source in sources:
            archived.trees[source.prefix] = _add_tree(writer, source, archived, on_bytes)
    return archived, writer.sha256


def _add_tree(
    writer: TarWriter, source: TreeSource, archived: Archived, on_bytes: Callable[[int], None] | None
) -> dict[str, Entry]:
    entries: dict[str, Entry] = {}
    links = HardLinks()
    top = replace(describe("", source.root), attributes=read_attributes(source.root))
    writer.add_header(member_header(top, source.prefix))
    for path, found in walk_tree(source.root, source.skip):
        entry = links.mark(describe(path, found.path), found)
        if entry.kind is Kind.OTHER:
            continue
        name = f"{source.prefix}/{path}"
        before = source.known.get(path)
        if before is not None and before.sha256 and entry.kind is Kind.FILE and entry.untouched_since(before):
            entries[path] = replace(entry, sha256=before.sha256, attributes=before.attributes)
            archived.known_bytes += entry.size
            continue
        if entry.kind is not Kind.LINK:
            entry = replace(entry, attributes=read_attributes(found.path))
        if entry.same_as:
            entry = replace(entry, sha256=entries[entry.same_as].sha256)
            writer.add_header(_hard_link(entry, name, f"{source.prefix}/{entry.same_as}"))
        elif entry.kind is Kind.FILE:
            entry = _add_steady(writer, entry, name, found.path, archived.unsteady)
            if on_bytes is not None:
                on_bytes(entry.size)
        else:
            writer.add_header(member_header(entry, name))
        entries[path] = entry
    return entries


def _add_steady(writer: TarWriter, entry: Entry, name: str, location: str, unsteady: list[str]) -> Entry:
    """Add a file, again while it changes under the reading; tar restores the last member of a name."""
    for _ in range(_TRIES_FOR_A_CHANGING_FILE):
        now = replace(describe(entry.path, location), attributes=read_attributes(location))
        entry, steady = writer.add_file(now, name, location)
        if steady:
            return entry
    unsteady.append(entry.path)
    return entry


def _hard_link(entry: Entry, name: str, first: str) -> tarfile.TarInfo:
    header = member_header(entry, name)
    header.type, header.linkname, header.size = tarfile.LNKTYPE, first, 0
    return header
