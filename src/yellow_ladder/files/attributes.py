"""Extended attributes that belong to a file: the users' own, access control lists, capabilities.

Access control lists are attributes on Linux (acl(5)); in archives they stand as `SCHILY.xattr.` pax records, which
common tars restore with --xattrs. What belongs to the machine and not to the file (labels of a security module) is
left out.
"""

from __future__ import annotations

import base64
import errno
import os
import stat
import struct
from collections.abc import Mapping
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.errors import AnswerNo, Problem

Attributes = tuple[tuple[str, str], ...]
"""Names with values in base64, in name order."""

_KEPT = ("user.", "system.posix_acl_", "security.capability")
_ACCESS, _FOR_NEW = "system.posix_acl_access", "system.posix_acl_default"
_NONE_HERE = (errno.ENOTSUP, errno.EPERM, errno.ENODATA)
PAX_PREFIX = "SCHILY.xattr."


def read_attributes(location: str | Path | int) -> Attributes:
    """What a file or folder has, by its name or as an open file; nothing where its file system keeps none. Links have
    none of their own.
    """
    if isinstance(location, int):
        return _read(location)
    try:
        with nolinks.by_itself(location) as itself:
            return _read(itself)
    except nolinks.LinkInTheWay:
        if stat.S_ISLNK(nolinks.status_of(location).st_mode):
            return ()
        raise


def _read(location: str | int) -> Attributes:
    try:
        names = sorted(name for name in os.listxattr(location) if name.startswith(_KEPT))
        return tuple((name, base64.b64encode(os.getxattr(location, name)).decode()) for name in names)
    except OSError as fault:
        if fault.errno in _NONE_HERE:
            return ()
        raise


def match_attributes(location: str | Path, wanted: Attributes) -> bool:
    """Make a file's attributes the wanted ones; whether anything differed.

    Raises AnswerNo where the file system does not take them: leaving one out would open or close a file to somebody.
    """
    try:
        with nolinks.by_itself(location) as itself:
            have = dict(_read(itself))
            for name in have.keys() - dict(wanted).keys():
                os.removexattr(itself, name)
            for name, value in wanted:
                if have.get(name) != value:
                    os.setxattr(itself, name, base64.b64decode(value))
    except OSError as fault:
        text = f"{location} cannot be given its extended attributes or access control list: {fault.strerror}"
        remedy = "put it on a file system that keeps them (mount option acl), and run yl as root"
        raise AnswerNo(Problem("attributes-refused", text, remedy, str(location))) from fault
    return have != dict(wanted)


def inherited(of_folder: Attributes, *, is_folder: bool) -> Attributes:
    """What a new entry of a folder has of the folder's: its access control list for what is made in it, if any."""
    wanted = dict(of_folder).get(_FOR_NEW)
    if wanted is None:
        return ()
    return ((_ACCESS, wanted), (_FOR_NEW, wanted)) if is_folder else ((_ACCESS, wanted),)


def attributes_changed(before: Attributes, now: Attributes) -> list[str]:
    """What became of each attribute, in words; access control lists in the short text of acl(5), accounts by number."""
    old, new = dict(before), dict(now)
    return [
        f"has another {_named(name)}: {_shown(name, old)} → {_shown(name, new)}"
        for name in sorted(old.keys() | new.keys())
        if old.get(name) != new.get(name)
    ]


_NAMES = {
    _ACCESS: "access control list",
    _FOR_NEW: "access control list for what is made in it",
    "security.capability": "set of capabilities",
}
_LONGEST_SHOWN = 40
# By acl(5) and the kernel's posix_acl_xattr.h: a version, then tag, bits and account of each entry, little-endian.
_ACL_VERSION, _ACL_HEAD, _ACL_ENTRY = 2, struct.Struct("<I"), struct.Struct("<HHI")
_ACL_TAGS = {1: "user", 2: "user", 4: "group", 8: "group", 16: "mask", 32: "other"}
_WITH_ACCOUNT = (2, 8)


def _named(name: str) -> str:
    return _NAMES.get(name) or f"attribute {name if name.isprintable() else ascii(name)[1:-1]}"


def _shown(name: str, attributes: Mapping[str, str]) -> str:
    if name not in attributes:
        return "none"
    value = base64.b64decode(attributes[name])
    text = _acl_text(value) if name.startswith("system.posix_acl_") else ""
    if not text:
        text = repr(value.decode("utf-8", "surrogateescape")) if name.startswith("user.") else value.hex()
    return text if text.startswith("user::") or len(text) <= _LONGEST_SHOWN else f"{text[:_LONGEST_SHOWN]}…"


def _acl_text(value: bytes) -> str:
    """A list as text; empty where it is none that is known."""
    try:
        if _ACL_HEAD.unpack_from(value)[0] != _ACL_VERSION:
            return ""
        entries = list(_ACL_ENTRY.iter_unpack(value[_ACL_HEAD.size :]))
        return ",".join(
            f"{_ACL_TAGS[tag]}:{account if tag in _WITH_ACCOUNT else ''}:"
            + "".join(letter if bits & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))
            for tag, bits, account in entries
        )
    except (struct.error, KeyError):
        return ""


def as_pax(attributes: Attributes) -> dict[str, str]:
    """The attributes as pax records; bytes that are no text survive as escapes."""
    return {PAX_PREFIX + name: base64.b64decode(value).decode("utf-8", "surrogateescape") for name, value in attributes}
