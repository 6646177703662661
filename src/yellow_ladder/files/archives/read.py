"""Reads tar archives from strangers: nothing that they say is trusted.

A damaged stream, a name outside the folder, a link out of the tree, a device, a second member of one name or more
bytes than announced each end the reading with an error before anything is written for that member.
"""

from __future__ import annotations

import bz2
import contextlib
import gzip
import io
import lzma
import os
import posixpath
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Generator, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, BinaryIO, cast

import zstandard

from yellow_ladder.errors import BadInput, Problem

ARCHIVE_ENDINGS = (".tar.zst", ".tar.gz", ".tgz", ".tar.xz", ".tar.bz2", ".tar", ".zip")
# What vendors publish and nobody here can read yet.
UNREAD_ENDINGS = (".7z", ".rar", ".deb", ".rpm", ".tar.lz", ".tar.br", ".tzst", ".txz", ".tbz2")
DAMAGE = (tarfile.TarError, EOFError, OSError, lzma.LZMAError, zlib.error, zstandard.ZstdError)
_REMEDY_FETCH = "fetch the archive again from where it was published and compare its digest"
_REMEDY_REFUSE = "do not use this archive; ask its publisher"


@dataclass(frozen=True, slots=True)
class Inside:
    """How a release lies in its file: which folder of the archive is the tree (None finds a single one by itself), or
    for a file that is no archive, which file of the tree it `becomes`.
    """

    top: str | None = None
    becomes: str = ""

    def strip(self, single: str) -> str:
        """The folder to be taken off all names; `single` is the only one at the top, where there is one."""
        if self.becomes:
            return ""
        return single if self.top is None else self.top.strip("/")

    def below(self, name: str) -> str:
        """A member's name without the folder that is taken off, as far as that is known before the end."""
        if self.becomes:
            return name
        return name.partition("/")[2] if self.top is None else name.removeprefix(self.top.strip("/") + "/")


AS_FOUND = Inside()
# Programs are run; what a runtime reads is not.
_NOT_RUN = (".jar", ".war", ".phar", ".zip", ".img", ".db", ".html")


class _ZstdSource(io.RawIOBase):
    """Decompressed bytes of a zstd file; a frame that ends too early is an error, not an end."""

    def __init__(self, stream: BinaryIO) -> None:
        super().__init__()
        self._stream = stream
        self._coder = zstandard.ZstdDecompressor(max_window_size=2**27).decompressobj()
        self._ready = memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._ready and not self._coder.eof:
            packed = self._stream.read(256 * 1024)
            if not packed:
                raise EOFError("the compressed stream ends too early")
            self._ready = memoryview(self._coder.decompress(packed))
        count = min(len(buffer), len(self._ready))
        buffer[:count] = self._ready[:count]
        self._ready = self._ready[count:]
        return count


class _Counted(io.RawIOBase):
    """Passes bytes on and remembers whether the last kilobyte was the archive's end mark."""

    def __init__(self, stream: IO[bytes]) -> None:
        super().__init__()
        self._stream = stream
        self.tail = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        block = self._stream.read(len(buffer))
        buffer[: len(block)] = block
        self.tail = (self.tail + block)[-1024:] if len(block) < 1024 else block[-1024:]
        return len(block)


def is_archive_name(name: str) -> bool:
    """Whether a file name ends like an archive that can be read here."""
    return name.endswith(ARCHIVE_ENDINGS)


@contextmanager
def _decoded(path: Path) -> Iterator[IO[bytes]]:
    name = path.name
    if name.endswith((".tar.gz", ".tgz")):
        with gzip.open(path, "rb") as stream:
            yield cast("IO[bytes]", stream)
    elif name.endswith(".tar.xz"):
        with lzma.open(path, "rb") as stream:
            yield cast("IO[bytes]", stream)
    elif name.endswith(".tar.bz2"):
        with bz2.open(path, "rb") as stream:
            yield cast("IO[bytes]", stream)
    else:
        with path.open("rb") as plain:
            if name.endswith(".zst"):
                yield io.BufferedReader(_ZstdSource(plain), 256 * 1024)
            else:
                yield plain


def damaged(path: Path, why: object) -> BadInput:
    """The error for an archive that cannot be read to its end."""
    return BadInput(Problem("archive-damaged", f"{path} is damaged or cut short: {why}", _REMEDY_FETCH, str(path)))


def no_archive(path: Path) -> BadInput:
    """The error for an archive that is not there."""
    return BadInput(Problem("no-archive", f"there is no archive at {path}", "check the release source", str(path)))


def refused(path: Path, why: str) -> BadInput:
    """The error for an archive that holds what no honest archive holds."""
    return BadInput(Problem("archive-refused", f"{path} is refused: {why}", _REMEDY_REFUSE, str(path)))


@contextmanager
def open_members(path: Path, becomes: str = "") -> Iterator[Iterator[tuple[tarfile.TarInfo, IO[bytes] | None]]]:
    """Iterate over an archive's members in order, each with its content where it is a file. With `becomes`, the file is
    no archive, and its only member by that name.

    Raises BadInput for a damaged or unreadable archive, also when the end mark is missing.
    """
    if not path.is_file():
        raise no_archive(path)
    if becomes:
        with path.open("rb") as whole:
            status = os.fstat(whole.fileno())
            member = tarfile.TarInfo(becomes)
            member.size, member.mtime = status.st_size, int(status.st_mtime)
            member.mode = 0o644 if becomes.endswith(_NOT_RUN) else 0o755
            yield iter([(member, cast("IO[bytes]", whole))])
        return
    if path.name.endswith(".zip"):
        with _zip_members(path) as members:
            yield members
        return
    try:
        with _decoded(path) as decoded:
            counted = _Counted(decoded)
            buffered = io.BufferedReader(counted, 256 * 1024)
            with tarfile.open(fileobj=buffered, mode="r|", bufsize=64 * 1024) as archive:
                yield _members(archive, buffered, counted)
    except DAMAGE as fault:
        raise damaged(path, fault) from fault


def _members(
    archive: tarfile.TarFile, stream: IO[bytes], counted: _Counted
) -> Iterator[tuple[tarfile.TarInfo, IO[bytes] | None]]:
    for member in archive:
        yield member, archive.extractfile(member) if member.isreg() else None
        archive.members = []  # type: ignore[attr-defined]  # it would remember every member of a huge archive
    while stream.read(1024 * 1024):
        pass
    if counted.tail.count(0) < len(counted.tail) or not counted.tail:
        raise EOFError("the end mark is missing")


_ZIP_DAMAGE = (*DAMAGE, zipfile.BadZipFile, RuntimeError, NotImplementedError, ValueError)
_LONGEST_LINK_BYTES = 4096


@contextmanager
def _zip_members(path: Path) -> Iterator[Iterator[tuple[tarfile.TarInfo, IO[bytes] | None]]]:
    """The members of a zip archive as a tar would have them; its checksums are held while they are read."""

    def members(archive: zipfile.ZipFile) -> Generator[tuple[tarfile.TarInfo, IO[bytes] | None], None, None]:
        for one in archive.infolist():
            member = tarfile.TarInfo(one.filename)
            # The upper half is a mode where the archive was made on Unix, and nothing elsewhere.
            mode = one.external_attr >> 16
            member.size, member.mode = one.file_size, stat.S_IMODE(mode) or (0o755 if one.is_dir() else 0o644)
            if one.is_dir():
                member.type, member.size = tarfile.DIRTYPE, 0
                yield member, None
            elif stat.S_ISLNK(mode):
                member.type, member.size = tarfile.SYMTYPE, 0
                with archive.open(one) as content:
                    member.linkname = os.fsdecode(content.read(_LONGEST_LINK_BYTES))
                yield member, None
            elif mode and not stat.S_ISREG(mode) and stat.S_IFMT(mode):
                member.type = tarfile.CHRTYPE  # refused like every special file
                yield member, None
            else:
                with archive.open(one) as content:
                    yield member, content

    try:
        with zipfile.ZipFile(path) as archive, contextlib.closing(members(archive)) as found:
            yield found
    except _ZIP_DAMAGE as fault:
        raise damaged(path, fault) from fault


def safe_path(path: Path, name: str) -> str:
    """A member's name as a tree path; raises BadInput when it is absolute or climbs out."""
    if name.startswith("/") or "\0" in name:
        raise refused(path, f"the member {name!r} has an absolute path")
    if ".." in name.split("/"):
        raise refused(path, f"the member {name!r} has a path with `..`")
    clean = posixpath.normpath(name)
    return "" if clean == "." else clean


def check_link(path: Path, name: str, target: str) -> None:
    """Raise BadInput when a link's target lies outside the archive's own tree."""
    joined = posixpath.normpath(posixpath.join(posixpath.dirname(name), target))
    if target.startswith("/") or joined == ".." or joined.startswith("../"):
        raise refused(path, f"the link {name!r} points out of the tree, to {target!r}")


_MOST_LINKS_ON_A_WAY = 40  # as in Linux


def check_links(path: Path, links: Mapping[str, str], top: str) -> None:
    """Raise BadInput where a link leads out of the tree below `top` once all links are in place.

    One link at a time says little: `a/up -> ..` stays inside, and so does `a/out -> up/..` by its words alone.
    """
    for name in links:
        if not top or name.startswith(top + "/"):
            _follow(path, name, links, top.split("/") if top else [])


def _follow(path: Path, name: str, links: Mapping[str, str], top: list[str]) -> None:
    here, left, followed = name.split("/")[:-1], links[name].split("/")[::-1], 0
    while left:
        part = left.pop()
        if part in ("", "."):
            continue
        if part == "..":
            if len(here) <= len(top):
                raise refused(path, f"the link {name!r} leads out of the tree, to {links[name]!r}")
            here.pop()
            continue
        here.append(part)
        onward = links.get("/".join(here))
        if onward is not None:
            followed += 1
            if followed > _MOST_LINKS_ON_A_WAY:
                raise refused(path, f"the link {name!r} leads in a circle")
            here.pop()
            left += onward.split("/")[::-1]
