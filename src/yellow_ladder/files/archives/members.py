"""The headers of archive members, in POSIX pax (IEEE 1003.1-2001), so that any tar restores them, nanoseconds included.

What most entries are (a file below 8 GiB, a folder or a link, no extended attributes) takes a short way: the standard
library makes one header of each kind, and name, rights, size and time are filled in. It takes a tenth of the library's
time, which for many small files is longer than reading, compressing and digesting them. Long names, names beyond ASCII
and the old times that packages give their files are part of it: a tree of an application's libraries has little else.
Everything else takes the library's.
"""

from __future__ import annotations

import tarfile
import zlib
from functools import cache, lru_cache

from yellow_ladder.files.attributes import as_pax
from yellow_ladder.files.entry import Entry, Kind

BLOCK = 512
_NAME_END, _SIZE_AT, _CHECKSUM_AT, _TYPE_AT, _MAGIC_AT = 100, 124, 148, 156, 257
_LARGEST_ID, _LARGEST_SIZE, _LATEST = 8**7, 8**11, 8**11
_TYPES = {Kind.FILE: tarfile.REGTYPE, Kind.FOLDER: tarfile.DIRTYPE, Kind.LINK: tarfile.SYMTYPE}


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
    kind, target = entry.kind, entry.target
    is_plain = (
        not entry.attributes
        and kind is not Kind.OTHER
        and "\0" not in name
        and 0 <= seconds < _LATEST
        and entry.size < _LARGEST_SIZE
        and entry.uid < _LARGEST_ID
        and entry.gid < _LARGEST_ID
        and (kind is not Kind.LINK or (target.isascii() and len(target) <= _NAME_END))
    )
    if not is_plain:
        return info_bytes(member_info(entry, name))
    if kind is Kind.FOLDER and not name.endswith("/"):
        name += "/"
    time = b"mtime=%d.%09d\n" % (seconds, rest)
    records = b"%d %s" % (len(time) + 3, time)  # the length counts itself, which has two digits
    if len(name) <= _NAME_END and name.isascii():
        head = name.encode("ascii")
    else:
        try:
            records += _record(b"path", name.encode("utf-8"))
        except UnicodeEncodeError:
            return info_bytes(member_info(entry, name))
        head = name.encode("ascii", "replace")[:_NAME_END]
    before, (after, rest_sum) = _before(len(records)), _after()
    size = entry.size if kind is Kind.FILE else 0
    numbers = b"%07o\0%07o\0%07o\0%011o\0%011o\0" % (entry.mode, entry.uid, entry.gid, size, seconds)
    linked = _TYPES[kind] + (target.encode("ascii") if kind is Kind.LINK else b"")
    # The lower half of this checksum is the sum of the bytes and one, and is had without going through them here.
    checksum = (zlib.adler32(head + numbers + linked) & 0xFFFF) - 1 + rest_sum
    return b"".join(
        (
            before, records, bytes(-len(records) % BLOCK), head, bytes(_NAME_END - len(head)), numbers,
            b"%06o\0 " % checksum, linked, bytes(_MAGIC_AT - _TYPE_AT - len(linked)), after,
        )
    )  # fmt: skip


def _record(keyword: bytes, value: bytes) -> bytes:
    """A record of pax, whose length counts its own digits."""
    rest = len(keyword) + len(value) + 3
    length = rest + len(str(rest))
    length = rest + len(str(length))
    return b"%d %s=%s\n" % (length, keyword, value)


LARGEST_HEADER = 12 * BLOCK
"""The longest header that is taken apart here: two blocks, and between them a time and a path of up to 4,096 bytes."""


def plain_length(first: bytes) -> int:
    """How many bytes a header takes that begins with this block; 0 where it is none of `member_header`'s short way."""
    try:
        records = int(first[_SIZE_AT : _SIZE_AT + 11], 8)
    except ValueError:
        return 0
    length = 2 * BLOCK + records + -records % BLOCK
    return length if records > 0 and length <= LARGEST_HEADER and first == _before(records) else 0


def plain_name(raw: bytes) -> str | None:
    """The name in a header that has its `plain_length`, or None where it is no plain one. Nothing else is looked at."""
    after, _ = _after()
    last = raw[-BLOCK:]
    if last[_MAGIC_AT:] != after or last[_TYPE_AT : _TYPE_AT + 1] not in _TYPES.values():
        return None
    records = raw[BLOCK:-BLOCK].rstrip(b"\0")
    if records[2:9] != b" mtime=":
        return None
    path = records[records.find(b"\n") + 1 :]
    name = last[:_NAME_END].rstrip(b"\0")
    if path:
        keyword, _, value = path.partition(b"=")
        name = value[:-1]
        if not keyword.endswith(b" path") or path != _record(b"path", name):
            return None
    try:
        found = name.decode("utf-8" if path else "ascii")
    except UnicodeDecodeError:
        return None
    return found.rstrip("/") if last[_TYPE_AT : _TYPE_AT + 1] == tarfile.DIRTYPE else found


def is_plain_file(raw: bytes) -> bool:
    """Whether what stands behind a plain header is a file's content."""
    return raw[_TYPE_AT - BLOCK : _TYPE_AT - BLOCK + 1] == tarfile.REGTYPE


def plain_size(raw: bytes) -> int:
    """The size of the content behind a plain header; raises ValueError where it is garbled."""
    return int(raw[_SIZE_AT - BLOCK : _SIZE_AT - BLOCK + 11], 8)


def hard_link_header(entry: Entry, name: str, first: str) -> bytes:
    """The header of another name of a file that is stored as `first`."""
    info = member_info(entry, name)
    info.type, info.linkname, info.size = tarfile.LNKTYPE, first, 0
    return info_bytes(info)


@lru_cache(maxsize=1024)
def _before(records: int) -> bytes:
    """The block before so many bytes of records."""
    info = tarfile.TarInfo("n")
    info.pax_headers = {"mtime": pax_time(0)}
    other = bytearray(info_bytes(info)[:BLOCK])
    other[_SIZE_AT : _SIZE_AT + 11] = b"%011o" % records
    other[_CHECKSUM_AT : _CHECKSUM_AT + 8] = b" " * 8
    other[_CHECKSUM_AT : _CHECKSUM_AT + 8] = b"%06o\0 " % sum(other)
    return bytes(other)


@cache
def _after() -> tuple[bytes, int]:
    """The end of every plain header, from its magic on, and the checksum of what stands in neither name, numbers nor
    link.
    """
    last = info_bytes(tarfile.TarInfo("n"))[_MAGIC_AT:]
    return last, sum(last) + sum(b" " * (_TYPE_AT - _CHECKSUM_AT))
