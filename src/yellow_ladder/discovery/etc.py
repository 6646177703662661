"""Finds an application's settings in the system's folder of settings: under its name, or given to its account."""

from __future__ import annotations

import contextlib
import grp
import os
import pwd
import re
import stat
from collections.abc import Collection, Iterator
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.discovery.readers import read_settings

_DEEPEST, _MOST_FILES = 3, 8
# What the system itself reads: schedules, units, certificates, web servers and what they run.
_OF_THE_SYSTEM = {
    "alternatives", "apache2", "apparmor.d", "ca-certificates", "default", "init.d", "letsencrypt", "logrotate.d",
    "lighttpd", "httpd", "caddy", "mysql", "nginx", "php", "php-fpm.d", "postgresql", "postgresql-common", "profile.d",
    "ssh", "ssl", "sudoers.d", "systemd", "tmpfiles.d", "udev",
}  # fmt: skip
# Accounts that run many applications, or the machine.
_OF_MANY = {
    "root", "www-data", "www", "http", "apache", "nginx", "nobody", "daemon", "bin", "sys", "postgres", "mysql",
    "redis",
}  # fmt: skip
_WORD = re.compile(r"[a-z0-9]+")


def settings_of_it(etc: Path, names: Collection[str], accounts: Collection[str]) -> Iterator[tuple[Path, str]]:
    """Files that set something and are the application's, with what says so. Code is left out, and so is a folder with
    more files than an administrator writes.
    """
    wanted = {_plain(one) for one in names if len(_plain(one)) > 2} - _OF_MANY
    ids = list(_ids_of(set(accounts) - _OF_MANY))
    found: list[tuple[Path, str]] = []
    for path, status in _files_below(etc, 0):
        # Further down, a file of that name is what others (a supervisor, a proxy) have written about it.
        top = path.relative_to(etc).parts[0]
        named = next((one for one in (top, Path(top).stem) if _plain(one) in wanted), "")
        account = next((name for name, uid, gid in ids if status.st_uid == uid or status.st_gid == gid), "")
        if named:
            found.append((path, f"it lies in {etc} under the name {named}"))
        elif account:
            found.append((path, f"it lies in {etc} and was given to the account {account}"))
    told = [(path, why) for path, why in found if _sets_something(path)]
    yield from told if len(told) <= _MOST_FILES else ()


def _plain(name: str) -> str:
    return "".join(_WORD.findall(name.lower()))


def _ids_of(accounts: Collection[str]) -> Iterator[tuple[str, int, int]]:
    """User and group ids of accounts; -1 for a group that is others' as well."""
    for account in sorted(accounts):
        with contextlib.suppress(KeyError):
            entry = pwd.getpwnam(account)
            is_own = entry.pw_uid != 0 and grp.getgrgid(entry.pw_gid).gr_name not in _OF_MANY
            yield account, entry.pw_uid or -1, entry.pw_gid if is_own else -1


def _files_below(folder: Path, depth: int) -> Iterator[tuple[Path, os.stat_result]]:
    names: list[str] = []
    with contextlib.suppress(OSError):
        names = sorted(nolinks.names_in(folder))
    for name in names:
        if depth == 0 and (name in _OF_THE_SYSTEM or name.startswith("cron")):
            continue
        with contextlib.suppress(OSError):
            status = nolinks.status_of(folder / name)
            if stat.S_ISREG(status.st_mode):
                yield folder / name, status
            elif stat.S_ISDIR(status.st_mode) and depth < _DEEPEST:
                yield from _files_below(folder / name, depth + 1)


def _sets_something(path: Path) -> bool:
    read = read_settings(path, is_told=True)
    return bool(read.pairs) and not read.is_code
