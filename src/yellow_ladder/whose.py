"""Whose a place is: which accounts are not defended against, and which could put something else under a name."""

from __future__ import annotations

import functools
import grp
import os
import pwd
import stat
from pathlib import Path


def ours() -> tuple[int, ...]:
    """Accounts that are not defended against: root, this one, and the administrator who became root for this call."""
    return (0, os.geteuid(), *_of_sudo("SUDO_UID"))


def _of_sudo(name: str) -> list[int]:
    number = os.environ.get(name, "")
    return [int(number)] if os.geteuid() == 0 and number.isascii() and number.isdigit() else []


def lstat_or_none(path: str | Path) -> os.stat_result | None:
    """What is there now, for judging whose it is; a link on the way is walked."""
    try:
        return os.lstat(path)
    except OSError:
        return None


@functools.cache
def _has_members(gid: int) -> bool:
    """Whether any account but root is in a group: some systems give places of root's to one that nobody is in."""
    try:
        named = set(grp.getgrgid(gid).gr_mem)
    except KeyError:
        named = set()
    return bool(named - {"root"}) or any(one.pw_gid == gid and one.pw_uid not in ours() for one in pwd.getpwall())


def is_ours_alone(path: str | Path, *, to_be_made: bool = False) -> bool:
    """Whether no other account can put another file under this name; of what is not there, its folder is judged.

    A folder with the sticky bit keeps strangers from exchanging what is not theirs, also what is `to_be_made` there
    and looked at again then.
    """
    accounts, groups = ours(), (0, *_of_sudo("SUDO_GID"))
    whole = Path(os.path.abspath(path))  # noqa: PTH100  links are judged, not resolved
    there = [one for one in (whole, *whole.parents) if lstat_or_none(one) is not None]
    # Made by this account, it will be one of ours: like the top folder.
    below = os.lstat("/") if to_be_made and there[0] != whole else None
    for one in there:
        status = os.lstat(one)
        by_group = status.st_mode & 0o020 and status.st_gid not in groups and _has_members(status.st_gid)
        is_open = status.st_mode & 0o002 or by_group
        is_kept = below is not None and status.st_mode & stat.S_ISVTX and below.st_uid in accounts
        if status.st_uid not in accounts or (is_open and not is_kept and not stat.S_ISLNK(status.st_mode)):
            return False
        below = status
    return True
