"""Reads the archives that this tool writes, block by block.

Most of their members are plain files, whose headers this tool fills in itself: what an entry's header must be can be
said to the byte, and comparing is all there is to reading it. Every other member is left to the standard library.
"""

from __future__ import annotations

import io
import tarfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, BinaryIO, cast

import zstandard
from blake3 import blake3

from yellow_ladder.files.archives.members import BLOCK, plain_length, plain_name, plain_size
from yellow_ladder.files.archives.read import DAMAGE, damaged, no_archive

_BUFFER_BYTES = 4 * 1024**2
LARGEST_AT_ONCE = 1024**2
"""Contents up to so many bytes are given in one piece."""


@dataclass(slots=True)
class Header:
    """The next member: its name and header where it is a plain one; of any other, nothing is known yet."""

    name: str = ""
    raw: bytes = b""


class Blocks:
    """The decompressed bytes of an archive, with as much of them at hand as a header takes."""

    def __init__(self, stream: BinaryIO | _Passing) -> None:
        """Read from a stream of zstd frames."""
        self._source = zstandard.ZstdDecompressor(max_window_size=2**27).stream_reader(
            cast(BinaryIO, stream), read_size=1024**2, read_across_frames=True, closefd=False
        )
        self._buffer = b""
        self._at = 0
        self._library: tarfile.TarFile | None = None

    def _have(self, length: int) -> bool:
        """Make so many bytes at hand; whether there are as many."""
        if len(self._buffer) - self._at < length:
            parts = [self._buffer[self._at :]]
            have = len(parts[0])
            while have < length:
                block = self._source.read(max(_BUFFER_BYTES, length - have))
                if not block:
                    break
                parts.append(block)
                have += len(block)
            self._buffer, self._at = b"".join(parts), 0
        return len(self._buffer) >= length + self._at

    def read(self, length: int = -1) -> bytes:
        """The next bytes, less than asked for only at the end; as the standard library reads a file."""
        if length < 0:
            raise ValueError("an archive is not read in one go")
        self._have(length)
        found = self._buffer[self._at : self._at + length]
        self._at += len(found)
        return found

    def plain_header(self) -> Header | None:
        """What comes next; None behind the last member. Raises EOFError where the end mark is missing."""
        if not self._have(BLOCK):
            raise EOFError("the end mark is missing")
        first = self._buffer[self._at : self._at + BLOCK]
        length = plain_length(first)
        if not length and not any(first):
            self._see_end()
            return None
        if length and self._have(length):
            raw = self._buffer[self._at : self._at + length]
            name = plain_name(raw)
            if name is not None:
                return Header(name, raw)
        return Header()

    def _see_end(self) -> None:
        rest = bytearray()
        while block := self.read(_BUFFER_BYTES):
            if any(block):
                raise EOFError("something stands behind the end mark")
            rest = rest[-BLOCK:] + block[-2 * BLOCK :]
        if len(rest) < 2 * BLOCK:
            raise EOFError("the end mark is missing")

    def pass_over(self, header: Header) -> None:
        """Go on behind a plain member; raises EOFError where the archive ends in it."""
        size = plain_size(header.raw)
        left = len(header.raw) + size + -size % BLOCK
        while left:
            passed = len(self.read(min(left, LARGEST_AT_ONCE)))
            if not passed:
                raise EOFError("the archive ends within a file")
            left -= passed

    def content(self, header: Header, size: int) -> bytes:
        """The content of a plain member, in one piece; raises EOFError where the archive ends in it."""
        whole = len(header.raw) + size + -size % BLOCK
        if not self._have(whole):
            raise EOFError("the archive ends within a file")
        start = self._at + len(header.raw)
        self._at += whole
        return self._buffer[start : start + size]

    def digest(self, header: Header, size: int) -> str:
        """BLAKE3 of the content of a plain member of any size, in hex; raises EOFError where the archive ends in it."""
        self._at += len(header.raw)
        digest, left = blake3(), size
        while left:
            block = self.read(min(left, LARGEST_AT_ONCE))
            if not block:
                raise EOFError("the archive ends within a file")
            digest.update(block)
            left -= len(block)
        if len(self.read(-size % BLOCK)) != -size % BLOCK:
            raise EOFError("the archive ends within a file")
        return digest.hexdigest()

    def member(self) -> tuple[tarfile.TarInfo, IO[bytes] | None]:
        """The next member, taken apart by the standard library, and its content where it is a file."""
        # In blocks of their own size, so that nothing behind the member is taken from here.
        self._library = tarfile.open(fileobj=cast("IO[bytes]", self), mode="r|", bufsize=BLOCK)  # noqa: SIM115
        member = self._library.next()
        if member is None:
            raise EOFError("the end mark is missing")
        return member, self._library.extractfile(member) if member.isreg() else None

    def end_member(self) -> None:
        """Go on behind it, however much of its content was read."""
        if self._library is not None:
            stream = cast("io.RawIOBase", self._library.fileobj)
            stream.seek(self._library.offset)
            self._library = None


class _Passing:
    """A stream that tells how many bytes of it have been read."""

    def __init__(self, stream: BinaryIO, passed: Callable[[int], None]) -> None:
        self._stream, self._passed = stream, passed

    def read(self, size: int) -> bytes:
        block = self._stream.read(size)
        self._passed(len(block))
        return block


@contextmanager
def open_blocks(path: Path, passed: Callable[[int], None] | None = None) -> Iterator[Blocks]:
    """An archive of this tool's own; `passed` is told of the bytes that have been read of it. Raises BadInput where it
    is missing, damaged or cut short.
    """
    if not path.is_file():
        raise no_archive(path)
    try:
        with path.open("rb") as stream:
            yield Blocks(_Passing(stream, passed) if passed else stream)
    except DAMAGE as fault:
        raise damaged(path, fault) from fault
