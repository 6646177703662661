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
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.errors import AnswerNo, Problem

Attributes = tuple[tuple[str, str], ...]
"""Names with values in base64, in name order."""

_KEPT = ("user.", "system.posix_acl_", "security.capability")
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


def as_pax(attributes: Attributes) -> dict[str, str]:
    """The attributes as pax records; bytes that are no text survive as escapes."""
    return {PAX_PREFIX + name: base64.b64decode(value).decode("utf-8", "surrogateescape") for name, value in attributes}
