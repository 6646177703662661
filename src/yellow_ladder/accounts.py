"""Under which account a command of a site runs: what another account may write is that account's code, not root's."""

from __future__ import annotations

import grp
import os
import pwd
import re
import shutil
import stat
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ladder import whose
from yellow_ladder.errors import BadInput, Problem

# They run what lies in the folder that they are started in, without its being named.
_INTERPRETER = re.compile(r"^(python|pypy|perl|ruby|node|deno|bun|php|lua|java|sh|bash|dash|zsh)[\d.]*$")
_KEPT_VARIABLES = re.compile(r"^(PATH|LANG|LANGUAGE|LC_\w+|TZ)$")
ROOT = "root"


@dataclass(frozen=True, slots=True)
class Account:
    """An account that a command is handed to, and why it is that one."""

    uid: int
    gid: int
    name: str
    home: str
    why: str
    more_groups: tuple[int, ...] = ()

    def groups(self) -> list[int]:
        """All groups that it is in, and those it is given besides; its own alone where it has no name here."""
        own = os.getgrouplist(self.name, self.gid) if self.name != str(self.uid) else [self.gid]
        return list(dict.fromkeys((*own, *self.more_groups)))

    def in_groups(self, names: Sequence[str]) -> Account:
        """The same, given these groups besides. Raises BadInput for one that this machine does not know."""
        return replace(self, more_groups=tuple(map(_group_of, names)))

    def environment(self, own: Mapping[str, str]) -> dict[str, str]:
        """What it may know: no secrets that were given to the tool, and a home of its own."""
        kept = {name: value for name, value in own.items() if _KEPT_VARIABLES.match(name)}
        return {**kept, "HOME": self.home, "USER": self.name, "LOGNAME": self.name, "SHELL": "/bin/sh"}


def account_for(
    as_user: str,
    argv: Sequence[str],
    folder: Path,
    *,
    folder_counts: bool = False,
    path: str | None = None,
    places: Sequence[Path] = (),
) -> Account | None:
    """Whom to run `argv` as in `folder`, of a tool that runs as root; None where it keeps root's rights, or has none.

    The account that is named; else the owner of the first file among the words that another account may write, or of
    the folder where what lies in it is run (`folder_counts`, and every interpreter), or of one of the `places` that say
    what it loads. Programs are looked for in `path`. Raises BadInput for a name that this machine does not know.
    """
    if os.geteuid() != 0 or as_user == ROOT:
        return None
    if as_user:
        return named_account(as_user)
    program = shutil.which(argv[0] if "/" not in argv[0] else str(folder / argv[0]), path=path)
    looked = [Path(program)] if program else []
    looked += [one for one in (folder / word for word in argv if word) if _is_file(one)]
    if folder_counts or _INTERPRETER.match(Path(argv[0]).name):
        looked.append(folder)
    for place in (*looked, *places):
        owner = writer_of(place)
        if owner is not None:
            return _account_of(owner[0], owner[1], f"it may write {owner[2]}")
    return None


def named_account(name: str) -> Account:
    """An account that the site file names. Raises BadInput for one that this machine does not know."""
    try:
        known = pwd.getpwnam(name)
    except KeyError as fault:
        text = f"its account {name} is not known here"
        raise BadInput(Problem("unknown-account", text, "correct `as_user`", name)) from fault
    return Account(known.pw_uid, known.pw_gid, known.pw_name, known.pw_dir, "named in the site file")


def account_name(uid: int) -> str:
    """The name of an account; its number where it has none here."""
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


def _group_of(name: str) -> int:
    try:
        return grp.getgrnam(name).gr_gid
    except KeyError as fault:
        text = f"its group {name} is not known here"
        raise BadInput(Problem("unknown-group", text, "correct `groups`", name)) from fault


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except (OSError, ValueError):  # a word that is no path: too long, or with a null
        return False


def writer_of(path: Path) -> tuple[int, int, Path] | None:
    """(uid, gid, place) of an account other than root that can put something else under this name; None if none can."""
    # Both count: a link of root's may lead to another account's file, and that to a file in another's folder.
    for place in dict.fromkeys((path, path.resolve())):
        if whose.is_ours_alone(place):
            continue
        for one in (place, *place.parents):
            status = whose.lstat_or_none(one)
            if status is not None and status.st_uid not in whose.ours():
                return status.st_uid, status.st_gid, one
        return _anybody(place)
    return None


def _anybody(place: Path) -> tuple[int, int, Path]:
    """A place of root's that its group or everybody may write: nobody in particular owns it."""
    nobody = pwd.getpwnam("nobody")
    return nobody.pw_uid, nobody.pw_gid, place


def _account_of(uid: int, gid: int, why: str) -> Account:
    try:
        known = pwd.getpwuid(uid)
    except KeyError:
        return Account(uid, gid, str(uid), "/", why)
    return Account(uid, known.pw_gid, known.pw_name, known.pw_dir, why)


def may_write(path: Path, account: str) -> bool:
    """Whether an account may write to what is at a path, by owner, groups and mode; True where nobody knows."""
    try:
        status, who = path.stat(), pwd.getpwnam(account)
    except (OSError, KeyError):
        return True
    groups = os.getgrouplist(account, who.pw_gid)
    return who.pw_uid == 0 or mode_lets_write(status.st_mode, (status.st_uid, status.st_gid), who.pw_uid, groups)


def mode_lets_write(mode: int, owner: tuple[int, int], uid: int, groups: Collection[int]) -> bool:
    """Whether the bits of a mode let an account with these groups write to what has this owner and group."""
    if owner[0] == uid:
        return bool(mode & stat.S_IWUSR)
    return bool(mode & (stat.S_IWGRP if owner[1] in groups else stat.S_IWOTH))
