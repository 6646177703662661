"""Looks at an installed application: its version file, settings, databases, data folders, keys, units. Reads only."""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from pathlib import Path

from yellow_ladder.accounts import may_write
from yellow_ladder.discovery.connections import connections_of
from yellow_ladder.discovery.data import (
    DEEPEST,
    HOME_TOOLS,
    NOT_SEARCHED,
    SETTINGS_NAME,
    Guess,
    addon_folders,
    beside_releases,
    data_folders,
    holds_logs,
    installed_at,
    is_sqlite,
    log_files_within,
    logs_within,
    sample_of,
    strays,
)
from yellow_ladder.discovery.databases import FoundDatabase, find_databases, sqlite_url
from yellow_ladder.discovery.elsewhere import Elsewhere, named_elsewhere, settings_named, used_elsewhere
from yellow_ladder.discovery.etc import settings_of_it
from yellow_ladder.discovery.packages import Package, installed_package, where_it_says
from yellow_ladder.discovery.readers import FoundSettings, read_settings
from yellow_ladder.discovery.running import Running, is_set_for, running_in
from yellow_ladder.discovery.served import Served, served_by
from yellow_ladder.discovery.servers import FoundServer, find_servers
from yellow_ladder.discovery.shapes import (
    Behind,
    Environment,
    application_of,
    find_environment,
    find_link,
    others_in,
    runtime_of,
)
from yellow_ladder.discovery.units import UNIT_FOLDERS, Unit, find_units
from yellow_ladder.discovery.versions import find_version, product_of
from yellow_ladder.files.entry import within
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.services.timetables import Job, jobs_of

_MOST_ENTRIES = 200_000
_MOST_DATABASES = 4  # in one folder: more of them are most likely one for each user or thing
_KEY_FILE = re.compile(
    r"(?i)\.(key|pem)$|^(secret|master|enc(rypt(ion)?)?|crypt|sign(ing)?|aes|jwt)[._-]?keys?(\.\w+)?$|^\.?secrets?$"
    r"|^secret[._-]?(?:tokens?|key[._-]?base)(?:\.\w+)?$"
)
_LICENCE_FILE = re.compile(r"(?i)licen[cs]e.*\.(key|lic|dat)$|\.lic$")
_CODE_NAME = re.compile(r"(?i)^(?:.*[._-])?(?:config|conf|settings?|local|parameters|options)(?:\.inc)?\.\w+$")
_DEEPEST_CODE = 2
# Files that build or test a program, and folders that no site changes anything in.
_BUILD_NAME = re.compile(
    r"(?i)^[a-z]+\.config\.(?:js|cjs|mjs|ts|json)$|^[tj]sconfig.*\.json$|schema\.json$|^package.*\.json$"
)
_NOT_OF_A_SITE = re.compile(
    r"(?i)(?:^|/)(?:tests?|docs?|migrations?|node_modules|vendor|site-packages|\.(?!config/)[^/]+"
    r"|(?:\w+_)?(?:examples?|samples?)(?:_\w+)?|locales?|langs?|languages?|i18n|l10n|nls|translations?)/"
)
# What a vendor puts beside the real file, to be copied.
_SAMPLE_NAME = re.compile(
    r"(?i)[._-](sample|example|dist|default|template|orig|bak|old)(\.|$)|^(sample|example|defaults?)[._-]"
)
_A_CACHE = re.compile(r"(?i)(?:^|[._-])caches?(?:$|[._-])")
_WHY_HIDDEN_CACHE = "its name: neither backed up nor compared"
_WHY_CACHE = "its name, and databases in it: neither backed up nor compared; take it out of `caches` if it matters"
_NEARLY_ALL, _ENOUGH = 0.95, 20
_SAY_SHIPPED = "say with `shipped` which file of the release it is"


@dataclass(slots=True)
class Discovery:
    """What was found below a folder; paths are relative to it."""

    root: Path
    product: str = ""
    version_file: str = ""
    version_pattern: str = ""
    version: str = ""
    package: str = ""  # the archive of the installed release, where it is at hand
    settings: list[Guess] = field(default_factory=list)
    shipped: dict[str, str] = field(default_factory=dict)  # settings file -> the vendor's sample of it
    databases: list[FoundDatabase] = field(default_factory=list)
    data: list[Guess] = field(default_factory=list)
    logs: list[Guess] = field(default_factory=list)
    addons: list[Guess] = field(default_factory=list)
    assets: list[Guess] = field(default_factory=list)
    keys: list[Guess] = field(default_factory=list)
    licences: list[Guess] = field(default_factory=list)
    caches: list[Guess] = field(default_factory=list)
    environment_files: list[Guess] = field(default_factory=list)
    set_by_files: set[str] = field(default_factory=set)  # the variables in them
    units: list[Unit] = field(default_factory=list)
    behind: Behind | None = None
    environment: Environment | None = None
    runtime: str = ""  # the program that its code is for, where that can be asked here
    others: list[str] = field(default_factory=list)
    running: list[Running] = field(default_factory=list)
    jobs: list[Job] = field(default_factory=list)
    served: list[Served] = field(default_factory=list)
    servers: list[FoundServer] = field(default_factory=list)
    as_files: dict[str, int] = field(default_factory=dict)  # folders, and how many SQLite files in them stay files
    connected: list[str] = field(default_factory=list)  # to which servers, where the database's name is not known
    apart: list[Guess] = field(default_factory=list)  # single files outside root that a process writes to
    shortened: bool = False


def discover(
    root: Path,
    unit_folders: Sequence[Path] = UNIT_FOLDERS,
    releases: Path | None = None,
    etc: Path = Path("/etc"),
) -> Discovery:
    """Look at an installed application and at what runs of it; what cannot be read is left out. Nothing is asked, run
    or changed. Where the installed release's archive lies in the folder `releases`, it tells what came with it.
    `etc` has the settings of web servers.
    """
    found = Discovery(root)
    with contextlib.suppress(OSError):
        found.behind = find_link(root)
        found.environment = find_environment(root / (found.behind.release if found.behind else ""))
    entries = list(_entries(root, found))
    files = {path: status for path, status in entries if status is not None}
    found.servers = find_servers(root, files)
    for server in found.servers:  # its data folder is no folder of files
        files = {path: status for path, status in files.items() if not within(path, [server.folder])}
    at_work = {str(root / server.folder) for server in found.servers}
    found.running = [one for one in running_in(root) if one.folder not in at_work]
    if found.behind is None:
        found.version_file, found.version_pattern, found.version = find_version(root, files, found.running)
    else:
        found.version = found.behind.version
    package = _package(found, files, releases)
    shipped = package.files if package is not None else {}
    written = list(data_folders(root, files, found.behind.releases.split("/")[0] if found.behind else "", shipped))
    written += [one for guess in written for one in logs_within(guess.what, files)]
    found.logs = [one for one in written if holds_logs(one.what, files)]
    found.data = [one for one in written if one not in found.logs]
    found.runtime = runtime_of(files)
    found.jobs = jobs_of({root, root.resolve()})
    _find_settings(found, files, package)
    if found.behind is not None:
        inside = found.behind.releases.split("/")[0]
        beside = list(beside_releases(root, files, [*found.data, *found.logs], found.settings, inside))
        # A server's data folder looks empty here, since its files are none of this.
        beside = [one for one in beside if not within(one.what, [server.folder for server in found.servers])]
        found.logs += [one for one in beside if holds_logs(one.what, files)]
        found.data += [one for one in beside if one not in found.logs]
    folders = [one.what for one in found.logs]
    found.logs += [one for guess in found.data for one in log_files_within(guess.what, files, folders)]
    found.caches += [Guess(one, _WHY_HIDDEN_CACHE) for one in _hidden_caches(found, files)]
    found.product = _product(found, files, package)
    _find_database_files(found, files)
    _find_elsewhere(found, etc)
    _find_connections(found)
    for guesses, pattern, why in (
        (found.keys, _KEY_FILE, "its name says that it is a key"),
        (found.licences, _LICENCE_FILE, "its name says that it is a licence"),
    ):
        guesses += [Guess(path, why) for path in files if pattern.search(path.rsplit("/", 1)[-1])]
    found.addons = list(addon_folders(files, shipped))
    found.assets = [one for one in strays(files, shipped, _claimed(found)) if not is_sqlite(root / one.what)]
    found.units = list(find_units(root, unit_folders))
    found.served = served_by({root, root.resolve()}, etc)
    if found.behind is None:
        found.others = list(others_in(root, [*(one.what for one in found.data), *(one.what for one in found.addons)]))
    return found


def _product(found: Discovery, files: Iterable[str], package: Package | None) -> str:
    installed = application_of(found.environment, found.version) if found.environment is not None else ""
    installed = "" if "/" in installed else installed  # sheets and backups are named for it
    return (package.product if package is not None else installed) or product_of(found.root, files, found.version_file)


def _claimed(found: Discovery) -> list[str]:
    """Paths that something is said of already."""
    guesses = (*found.settings, *found.data, *found.logs, *found.addons, *found.keys, *found.licences, *found.caches,
               *found.environment_files)  # fmt: skip
    return [*(one.what for one in guesses), *found.as_files]


def _package(found: Discovery, files: Mapping[str, os.stat_result], releases: Path | None) -> Package | None:
    """The archive of the installed release, where it is at hand; it may tell the version, and where that stands."""
    if releases is None or found.behind is not None:
        return None
    wanted = [found.version_file] if found.version_file else []
    package = installed_package(files, releases, found.version, wanted)
    if package is not None:
        found.package = package.path.name
        if not found.version:
            found.version_file, found.version_pattern = where_it_says(found.root, files, package)
            found.version = package.version if found.version_file else ""
    return package


def _entries(root: Path, found: Discovery) -> Iterator[tuple[str, os.stat_result | None]]:
    theirs = found.behind.releases.rpartition("/")[0] if found.behind else None

    def skip(path: str) -> bool:
        if path == theirs or path in HOME_TOOLS:  # what lies in a release is the release's
            return True
        return path.rsplit("/", 1)[-1] in NOT_SEARCHED or path.count("/") >= DEEPEST

    for number, (path, entry) in enumerate(walk_tree(root, skip)):
        if number >= _MOST_ENTRIES:
            found.shortened = True
            return
        yield path, entry.status if stat.S_ISREG(entry.status.st_mode) else None


def _find_database_files(found: Discovery, files: Iterable[str]) -> None:
    theirs: dict[str, list[str]] = {}
    for path in files:
        if not is_sqlite(found.root / path):
            continue
        cache = _cache_of(path)
        if not cache:
            theirs.setdefault(path.rpartition("/")[0], []).append(path)
        elif cache not in {one.what for one in found.caches}:
            found.caches.append(Guess(cache, _WHY_CACHE))
    written = {path for one in found.running for path in one.written}
    _take_databases(found, theirs, written)


def _take_databases(found: Discovery, by_folder: Mapping[str, Sequence[str]], is_open: Collection[str]) -> None:
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


def _find_settings_elsewhere(found: Discovery, root: Path, etc: Path) -> None:
    pids, accounts = [one.pid for one in found.running], {one.account for one in found.running}
    told = dict.fromkeys(settings_named(root, pids), "a process was started with it")
    for path, why in settings_of_it(etc, {found.product, root.name}, accounts):
        if not path.is_relative_to(root):
            told.setdefault(path, why)
    for path, why in told.items():
        read = read_settings(path, is_told=True)
        if not read.is_code:
            found.settings.append(Guess(str(path), f"{why}; read as {read.form}; {_SAY_SHIPPED}"))
            known = {one.url for one in found.databases}
            found.databases += [one for one in find_databases(read.pairs, path, found.root) if one.url not in known]


def _find_connections(found: Discovery) -> None:
    for one in connections_of([each.pid for each in found.running]):
        if any(one.leads_to(known.url) for known in found.databases):  # where it was guessed, this knows the engine
            found.databases = [replace(k, url=one.corrected(k.url)) if k.is_guess else k for k in found.databases]
        elif one.url:
            found.databases.append(FoundDatabase(one.url, one.said, is_guess=True))
        else:
            found.connected.append(one.said)


def _find_elsewhere(found: Discovery, etc: Path) -> None:
    """What lies outside root: what the site's own settings name, and what runs has open."""
    root, accounts = found.root.resolve(), {one.account for one in found.running}
    places: dict[str, Elsewhere] = {}
    _find_settings_elsewhere(found, root, etc)
    for file in found.settings:
        for one in named_elsewhere(root, file.what, read_settings(root / file.what, is_told=True).pairs):
            if not accounts or any(may_write(Path(one.path), account) for account in accounts):
                places.setdefault(one.path, one)
    for one in used_elsewhere(root, [one.pid for one in found.running]):
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


def _look_below(found: Discovery, folder: str, is_open: Collection[str]) -> None:
    """Databases and logs in a data folder outside root."""
    paths, databases, caches = list[str](), dict[str, list[str]](), set[str]()
    with contextlib.suppress(OSError):
        for path, entry in islice(walk_tree(Path(folder), called=folder), _MOST_ENTRIES):
            if stat.S_ISDIR(entry.status.st_mode) and entry.name.startswith(".") and _A_CACHE.search(entry.name):
                caches.add(entry.name)
            if stat.S_ISREG(entry.status.st_mode):
                paths.append(path)
                if is_sqlite(Path(path)) and not _cache_of(path):
                    databases.setdefault(path.rpartition("/")[0], []).append(path)
    _take_databases(found, databases, is_open)
    found.caches += [Guess(one, _WHY_HIDDEN_CACHE) for one in sorted(caches)]
    logs = list(logs_within(folder, paths))
    found.logs += [*logs, *log_files_within(folder, paths, [one.what for one in logs])]


def _hidden_caches(found: Discovery, files: Iterable[str]) -> Iterator[str]:
    data = [one.what for one in found.data]
    folders = {path[: path.index("/.cache/") + len("/.cache")] for path in files if "/.cache/" in path}
    yield from (one for one in sorted(folders) if within(one, data))


def _cache_of(path: str) -> str:
    """The folder that a path lies in whose name says that what is in it can be made anew; nothing where none does."""
    folders = path.split("/")[:-1]
    at = next((number for number, name in enumerate(folders, start=1) if _A_CACHE.search(name)), 0)
    return "/".join(folders[:at])


def _find_settings(found: Discovery, files: Mapping[str, os.stat_result], package: Package | None) -> None:
    named = {path for one in found.running for path in one.named}
    read_in = list(_candidates(found, files, named))
    if package is not None:
        # What a release ships and nobody has changed says nothing of this site, but for a database that is there.
        alike = package.unchanged(found.root, [path for path, *_ in read_in if path not in named])
        read_in = [
            (
                path,
                read,
                [one for one in databases if path not in alike or one.engine == "sqlite"],
                came or path in alike,
            )
            for path, read, databases, came in read_in
        ]
    # A script of the release's own has defaults in it: they count only where the site's files name no database.
    own = [databases for _, _, databases, is_as_it_came in read_in if databases and not is_as_it_came]
    for path, read, databases, is_as_it_came in read_in:
        if is_as_it_came and (own or not databases):
            continue
        for one in databases:  # several keys may name the same
            if one.url not in {known.url for known in found.databases}:
                found.databases.append(one)
        sample = sample_of(path, files)
        why = "it names a database" if databases else "a process was started with it" if path in named else "its name"
        found.settings.append(Guess(path, f"{why}; read as {read.form}"))
        if read.form == "env" and is_set_for(read.pairs, [one.pid for one in found.running]):
            found.environment_files.append(Guess(f"{{root}}/{path}", "a process was started with all that it sets"))
            found.set_by_files |= {name for name, _ in read.pairs}
        if sample:
            found.shipped[path] = sample


def _candidates(
    found: Discovery, files: Mapping[str, os.stat_result], named: Collection[str]
) -> Iterator[tuple[str, FoundSettings, list[FoundDatabase], bool]]:
    """Files that may hold settings, with what they say of databases, and whether each is a script as it came."""
    data = [guess.what for guess in (*found.data, *found.logs)]
    came = installed_at(files, _NEARLY_ALL, _ENOUGH)  # when nearly all of the code was there
    for path in sorted(files, key=lambda one: (one.count("/"), one)):
        if any(path.startswith(f"{folder}/") for folder in data) or path == found.version_file:
            continue
        if _SAMPLE_NAME.search(path.rsplit("/", 1)[-1]) or (path not in named and _NOT_OF_A_SITE.search(path)):
            continue
        read = read_settings(found.root / path)
        databases = find_databases(read.pairs, found.root / path, found.root)
        if read.pairs and (databases or path in named or _sounds_like_settings(path, read)):
            is_old_code = read.is_code and "/" in path and files[path].st_mtime <= came
            yield path, read, databases, is_old_code and path not in named and not sample_of(path, files)


def _sounds_like_settings(path: str, read: FoundSettings) -> bool:
    """Whether a file's name says that it holds settings. Most scripts are the application's own code: of these, only
    one near the top that is called settings and does little else.
    """
    name = path.rpartition("/")[2]
    if _BUILD_NAME.match(name) or (name.startswith(".") and name.endswith(".json")):  # a program's own memory
        return False
    if read.is_code:
        return path.count("/") < _DEEPEST_CODE and read.is_plain and _CODE_NAME.search(name) is not None
    return SETTINGS_NAME.search(path) is not None
