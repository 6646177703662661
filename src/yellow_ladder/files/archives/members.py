"""The headers of archive members, in POSIX pax (IEEE 1003.1-2001), so that any tar restores them, nanoseconds included.

What most files are (a plain name, a size below 8 GiB, no extended attributes) takes a short way: the standard library
makes one header of each kind, and name, rights, size and time are filled in. It takes a tenth of the library's time,
which for many small files is longer than reading, compressing and digesting them. Everything else takes the library's.
"""

from __future__ import annotations

import tarfile
import zlib
from functools import cache

from yellow_ladder.files.attributes import as_pax
from yellow_ladder.files.entry import Entry, Kind

BLOCK = 512
_NAME_END, _SIZE_AT, _CHECKSUM_AT, _TYPE_AT = 100, 124, 148, 156
_LARGEST_ID, _LARGEST_SIZE = 8**7, 8**11
_SECONDS_OF_TEN_DIGITS = range(10**9, 8**11)


def member_info(entry: Entry, name: str) -> tarfile.TarInfo:
    """What the standard library writes a header of."""
    info = tarfile.TarInfo(name)
    info.mode, info.uid, info.gid = entry.mode, entry.uid, entry.gid
    info.mtime = entry.modified_ns // 10**9
    info.pax_headers = {"mtime": pax_time(entry.modified_ns)}
    info.pax_headers |= as_pax(entry.attributes or ())
    if entry.kind is Kind.FOLDER:
        info.type = tarfile.DIRTYPE
    elif entry.kind is Kind.LINK:
        info.type, info.linkname = tarfile.SYMTYPE, entry.target
    else:
        info.size = entry.size
    return info


def pax_time(ns: int) -> str:
    """A time in ns since 1970 as seconds with nine decimals, as pax has it."""
    seconds, rest = divmod(abs(ns), 10**9)
    return f"{'-' if ns < 0 else ''}{seconds}.{rest:09d}"


def info_bytes(info: tarfile.TarInfo) -> bytes:
    """A header as the standard library writes it; names that are no UTF-8 survive."""
    return info.tobuf(tarfile.PAX_FORMAT, errors="surrogateescape")


def member_header(entry: Entry, name: str) -> bytes:
    """The header of an entry, with what pax puts before it: the same bytes as `info_bytes(member_info(…))`."""
    seconds, rest = divmod(entry.modified_ns, 10**9)
    is_plain = (
        entry.kind is Kind.FILE
        and not entry.attributes
        and len(name) <= _NAME_END
        and name.isascii()
        and "\0" not in name
        and seconds in _SECONDS_OF_TEN_DIGITS
        and entry.size < _LARGEST_SIZE
        and entry.uid < _LARGEST_ID
        and entry.gid < _LARGEST_ID
    )
    if not is_plain:
        return info_bytes(member_info(entry, name))
    before, after, rest_sum = _templates()
    head = name.encode("ascii")
    numbers = b"%07o\0%07o\0%07o\0%011o\0%011o\0" % (entry.mode, entry.uid, entry.gid, entry.size, seconds)
    # The lower half of this checksum is the sum of the bytes and one, and is had without going through them here.
    checksum = (zlib.adler32(head + numbers) & 0xFFFF) - 1 + rest_sum
    record = b"30 mtime=%d.%09d\n" % (seconds, rest)
    padding = bytes(_NAME_END - len(head))
    return b"".join((before, record, bytes(BLOCK - 30), head, padding, numbers, b"%06o\0 " % checksum, after))


PLAIN_BYTES = 3 * BLOCK
"""What the header of a plain file takes: the block before the time, the time, and the header itself."""


def plain_name(raw: bytes) -> str | None:
    """The name in a header of `PLAIN_BYTES`, or None where it is no plain one. Only the name is looked at."""
    before, after, _ = _templates()
    if raw[:BLOCK] != before or raw[-len(after) :] != after:
        return None
    head = raw[2 * BLOCK : 2 * BLOCK + _NAME_END].rstrip(b"\0")
    return head.decode("ascii") if head.isascii() else None


def plain_size(raw: bytes) -> int:
    """The size of the content behind a plain header; raises ValueError where it is garbled."""
    return int(raw[2 * BLOCK + _SIZE_AT : 2 * BLOCK + _SIZE_AT + 11], 8)


def hard_link_header(entry: Entry, name: str, first: str) -> bytes:
    """The header of another name of a file that is stored as `first`."""
    info = member_info(entry, name)
    info.type, info.linkname, info.size = tarfile.LNKTYPE, first, 0
    return info_bytes(info)


@cache
def _templates() -> tuple[bytes, bytes, int]:
    """What is the same in every plain header: the block before the time, the end, and the checksum of what stands in
    neither name nor numbers.
    """
    info = tarfile.TarInfo("n")
    info.pax_headers = {"mtime": pax_time(10**18)}
    whole = info_bytes(info)
    before, last = whole[:BLOCK], whole[2 * BLOCK :]
    return before, last[_TYPE_AT:], sum(last[_TYPE_AT:]) + sum(b" " * (_TYPE_AT - _CHECKSUM_AT))
