"""Takes what lies outside an application's folder into what was found: settings, data, databases, connections."""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import islice
from pathlib import Path

import psutil

from yellow_ladder.accounts import may_write
from yellow_ladder.discovery.connections import connections_of
from yellow_ladder.discovery.data import (
    CODE_NAME,
    SETTINGS_NAME,
    Guess,
    is_sqlite,
    log_files_within,
    logs_within,
)
from yellow_ladder.discovery.databases import FoundDatabase, find_databases, sqlite_url
from yellow_ladder.discovery.elsewhere import Elsewhere, named_elsewhere, settings_named, used_elsewhere
from yellow_ladder.discovery.etc import settings_of_it
from yellow_ladder.discovery.found import Discovery
from yellow_ladder.discovery.links import LinkOut
from yellow_ladder.discovery.readers import read_settings
from yellow_ladder.files.entry import within
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.services.variables import left_out

MOST_ENTRIES = 200_000
_MOST_DATABASES = 4  # in one folder: more of them are most likely one for each user or thing
_NEAR_TOP, _MOST_READ = 3, 50
A_CACHE = re.compile(r"(?i)(?:^|[._-])caches?(?:$|[._-])")
WHY_HIDDEN_CACHE = "its name: neither backed up nor compared"
_SAY_SHIPPED = "say with `shipped` which file of the release it is"


def take_databases(found: Discovery, by_folder: Mapping[str, Sequence[str]], is_open: Collection[str]) -> None:
    """Propose SQLite files. Where a folder has one for each user or thing, others come and go: these stay files."""
    known = {one.url for one in found.databases}
    for folder, paths in by_folder.items():
        of_users = [one for one in paths if one not in is_open] if len(paths) > _MOST_DATABASES else []
        if of_users:
            found.as_files[folder] = len(of_users)
        for path in paths:
            url = sqlite_url((found.root / path).resolve(), found.root)
            if url not in known and path not in of_users:
                known.add(url)
                found.databases.append(FoundDatabase(url, f"{path} is a SQLite database", is_guess=True))


def _find_settings_elsewhere(found: Discovery, root: Path, etc: Path, links: Sequence[LinkOut]) -> None:
    pids, accounts = [one.pid for one in found.running], {one.account for one in found.running}
    told = dict.fromkeys(settings_named(root, pids), "a process was started with it")
    told |= {one.leads_to: f"the link {one.link} leads to it" for one in links if one.is_settings}
    for path, why in settings_of_it(etc, {found.product, root.name}, accounts):
        if not path.is_relative_to(root):
            told.setdefault(path, why)
    leads_to = {one.leads_to for one in links}
    for path, why in told.items():
        read = read_settings(path, is_told=True)
        if not read.is_code or path in leads_to:
            found.settings.append(Guess(str(path), f"{why}; read as {read.form}; {_SAY_SHIPPED}"))
            known = {one.url for one in found.databases}
            found.databases += [one for one in find_databases(read.pairs, path, found.root) if one.url not in known]


def find_connections(found: Discovery) -> None:
    """Databases that processes are connected to; what is guessed of one is corrected by that."""
    for one in connections_of([each.pid for each in found.running]):
        if any(one.leads_to(known.url) for known in found.databases):  # where it was guessed, this knows the engine
            found.databases = [replace(k, url=one.corrected(k.url)) if k.is_guess else k for k in found.databases]
        elif one.url:
            found.databases.append(FoundDatabase(one.url, one.said, is_guess=True))
        else:
            found.connected.append(one.said)


def find_in_variables(found: Discovery) -> None:
    """Databases that variables of processes tell of, and the names of those that neither a file nor this program's own
    session sets: what starts such a process anew has to give them.
    """
    for one in found.running:
        with contextlib.suppress(psutil.NoSuchProcess):
            own = left_out(psutil.Process(one.pid), {})
            own = {name: value for name, value in own.items() if os.environ.get(name) != value}
            known = {each.url for each in found.databases}
            told = find_databases(own.items(), Path(f"the environment of process {one.pid}"), found.root)
            found.databases += [each for each in told if each.url not in known]
            found.variables[one.pid] = tuple(own.keys() - found.set_by_files - dict(one.environment).keys())


def find_elsewhere(found: Discovery, etc: Path, links: Sequence[LinkOut]) -> None:
    """What lies outside root: what links and the site's own settings lead to, and what runs has open."""
    root, accounts = found.root.resolve(), {one.account for one in found.running}
    _find_settings_elsewhere(found, root, etc, links)
    places: dict[str, Elsewhere] = {}
    for one in _places(found, root, accounts, links):
        places.setdefault(one.path, one)
    folders = [one for one in places.values() if one.is_folder]
    for one in sorted(folders, key=lambda each: each.path):
        if not within(one.path, [other.what for other in found.data]):
            found.data.append(Guess(one.path, one.why))
            _look_below(found, one.path, places)
    known = {str((root.parent / one.url.removeprefix("sqlite:///")).resolve()) for one in found.databases}
    for one in places.values():
        if one.is_database and one.path not in known:
            found.databases.append(FoundDatabase(sqlite_url(Path(one.path), root), one.why, is_guess=True))
        elif not one.is_folder and not one.is_database and not within(one.path, [each.what for each in found.data]):
            found.apart.append(Guess(one.path, one.why))


def _places(found: Discovery, root: Path, accounts: Collection[str], links: Sequence[LinkOut]) -> Iterator[Elsewhere]:
    for link in links:
        if not link.is_settings:
            yield Elsewhere(str(link.leads_to), f"the link {link.link} leads to it", link.is_folder)
    for file in found.settings:
        for one in named_elsewhere(root, file.what, read_settings(root / file.what, is_told=True).pairs):
            if not accounts or any(may_write(Path(one.path), account) for account in accounts):
                yield one
    yield from used_elsewhere(root, [one.pid for one in found.running])


def _look_below(found: Discovery, folder: str, is_open: Collection[str]) -> None:
    """Databases and logs in a data folder outside root; databases also that settings near its top tell of."""
    paths, databases, caches = list[str](), dict[str, list[str]](), set[str]()
    with contextlib.suppress(OSError):
        for path, entry in islice(walk_tree(Path(folder), called=folder), MOST_ENTRIES):
            if stat.S_ISDIR(entry.status.st_mode) and entry.name.startswith(".") and A_CACHE.search(entry.name):
                caches.add(entry.name)
            if stat.S_ISREG(entry.status.st_mode):
                paths.append(path)
                if is_sqlite(Path(path)) and not cache_of(path):
                    databases.setdefault(path.rpartition("/")[0], []).append(path)
    take_databases(found, databases, is_open)
    _take_told(found, folder, paths)
    found.caches += [Guess(one, WHY_HIDDEN_CACHE) for one in sorted(caches)]
    logs = list(logs_within(folder, paths))
    found.logs += [*logs, *log_files_within(folder, paths, [one.what for one in logs])]


def _take_told(found: Discovery, folder: str, paths: Sequence[str]) -> None:
    """Databases that settings in a data folder outside root tell of. The files stay data: no release has any there."""
    near = [path for path in paths if path[len(folder) :].count("/") <= _NEAR_TOP]
    likely = [path for path in near if SETTINGS_NAME.search(Path(path).name) or CODE_NAME.search(Path(path).name)]
    for path in likely[:_MOST_READ]:
        known = {one.url for one in found.databases}
        told = find_databases(read_settings(Path(path)).pairs, Path(path), found.root)
        found.databases += [one for one in told if one.url not in known]


def cache_of(path: str) -> str:
    """The folder that a path lies in whose name says that what is in it can be made anew; nothing where none does."""
    folders = path.split("/")[:-1]
    at = next((number for number, name in enumerate(folders, start=1) if A_CACHE.search(name)), 0)
    return "/".join(folders[:at])
