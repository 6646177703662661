"""Hostile and damaged archives, made by hand."""

from __future__ import annotations

import io
import tarfile
from collections.abc import Callable
from pathlib import Path

import zstandard

SHEET = b"""format = 1
[release]
product = "quaybook"
version = "9.0"
[reach]
from = ">=2.0,<9.0"
[archive]
unpacked_bytes = 4096
"""


def entry(
    name: str, kind: bytes = tarfile.REGTYPE, content: bytes = b"", target: str = ""
) -> tuple[tarfile.TarInfo, bytes]:
    header = tarfile.TarInfo(name)
    header.type, header.linkname, header.size, header.mode = kind, target, len(content), 0o644
    return header, content


def sparse(name: str, size: int) -> tuple[tarfile.TarInfo, bytes]:
    """A member of a few bytes that claims to be `size` long (GNU sparse format 1.0)."""
    table = b"1\n0\n1\n".ljust(512, b"\0") + b"x"
    header, content = entry(name, content=table)
    header.pax_headers = {
        "GNU.sparse.major": "1", "GNU.sparse.minor": "0", "GNU.sparse.name": name, "GNU.sparse.realsize": str(size),
    }  # fmt: skip
    return header, content


def write(path: Path, *entries: tuple[tarfile.TarInfo, bytes], sheet: bytes | None = SHEET) -> Path:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as archive:
        for header, content in [*([entry("release.toml", content=sheet)] if sheet is not None else []), *entries]:
            archive.addfile(header, io.BytesIO(content))
    path.write_bytes(zstandard.ZstdCompressor().compress(raw.getvalue()))
    return path


HOSTILE: dict[str, list[tuple[tarfile.TarInfo, bytes]]] = {
    "absolute path": [entry("/etc/quaybook-was-here", content=b"x")],
    "path with ..": [entry("a/../../outside", content=b"x")],
    "link out of the tree": [entry("link", tarfile.SYMTYPE, target="../../outside")],
    "absolute link": [entry("link", tarfile.SYMTYPE, target="/etc")],
    "write through a link": [entry("sub", tarfile.DIRTYPE), entry("link", tarfile.SYMTYPE, target="sub"),
                             entry("link/file", content=b"x")],
    "hard link to nothing in it": [entry("hard", tarfile.LNKTYPE, target="etc/passwd")],
    "hard link out of it": [entry("hard", tarfile.LNKTYPE, target="../../etc/passwd")],
    "device file": [entry("device", tarfile.CHRTYPE)],
    "named pipe": [entry("pipe", tarfile.FIFOTYPE)],
    "chain of links out of it": [entry("a", tarfile.DIRTYPE), entry("a/up", tarfile.SYMTYPE, target=".."),
                                 entry("a/out", tarfile.SYMTYPE, target="up/..")],
    "links in a circle": [entry("one", tarfile.SYMTYPE, target="two"), entry("two", tarfile.SYMTYPE, target="one")],
    "holes of a terabyte": [sparse("holes", 2**40)],
    "two members of one name": [entry("file", content=b"a"), entry("file", content=b"b")],
    "two names for one path": [entry("a/file", content=b"a"), entry("./a//file", content=b"b")],
    "more than it says": [entry("large", content=bytes(10_000))],
}  # fmt: skip


def cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-40])


def cut_in_half(path: Path) -> None:
    raw = path.read_bytes()
    path.write_bytes(raw[: len(raw) // 2])


def flip(path: Path) -> None:
    raw = bytearray(path.read_bytes())
    raw[len(raw) * 2 // 3] ^= 0x10
    path.write_bytes(raw)


def garbage(path: Path) -> None:
    path.write_bytes(b"this is no archive" * 50)


def empty(path: Path) -> None:
    path.write_bytes(b"")


DAMAGE: list[Callable[[Path], None]] = [cut, cut_in_half, flip, garbage, empty]
