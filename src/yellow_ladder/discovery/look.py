"""Looks at an installed application: its version file, settings, databases, data folders, keys, units. Reads only."""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.discovery.around import (
    MOST_ENTRIES,
    WHY_HIDDEN_CACHE,
    cache_of,
    find_connections,
    find_elsewhere,
    find_in_variables,
    take_databases,
)
from yellow_ladder.discovery.data import (
    CODE_NAME,
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
    is_passed_over,
    is_sqlite,
    log_files_within,
    logs_within,
    sample_of,
    strays,
)
from yellow_ladder.discovery.databases import FoundDatabase, find_databases
from yellow_ladder.discovery.found import Discovery
from yellow_ladder.discovery.links import links_out
from yellow_ladder.discovery.packages import Package, installed_package, where_it_says
from yellow_ladder.discovery.readers import FoundSettings, read_settings
from yellow_ladder.discovery.running import is_set_for, running_in, with_variables
from yellow_ladder.discovery.served import served_by
from yellow_ladder.discovery.servers import find_servers
from yellow_ladder.discovery.shapes import (
    application_of,
    find_environment,
    find_link,
    others_in,
    runtime_of,
)
from yellow_ladder.discovery.units import UNIT_FOLDERS, find_units
from yellow_ladder.discovery.versions import find_version, product_of
from yellow_ladder.files.entry import within
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.release.in_data import folders_of
from yellow_ladder.release.sheet import SHEET_NAME
from yellow_ladder.services.timetables import jobs_of

_MOST_REMOVED = 12
_KEY_FILE = re.compile(
    r"(?i)\.(key|pem)$|^(secret|master|enc(rypt(ion)?)?|crypt|sign(ing)?|aes|jwt)[._-]?keys?(\.\w+)?$|^\.?secrets?$"
    r"|^secret[._-]?(?:tokens?|key[._-]?base)(?:\.\w+)?$"
)
_LICENCE_FILE = re.compile(r"(?i)licen[cs]e.*\.(key|lic|dat)$|\.lic$")
_DEEPEST_CODE = 2
# Files that build or test a program, and folders that no site changes anything in.
_BUILD_NAME = re.compile(
    r"(?i)^[a-z]+\.config\.(?:js|cjs|mjs|ts|json)$|^[tj]sconfig.*\.json$|schema\.json$|^package.*\.json$"
)
_NOT_OF_A_SITE = re.compile(
    r"(?i)(?:^|/)(?:tests?|docs?|migrations?|node_modules|vendor|site-packages|\.(?!config/)[^/]+"
    r"|(?:\w+_)?(?:examples?|samples?)(?:_\w+)?|locales?|langs?|languages?|i18n|l10n|nls|translations?)/"
)
# What a vendor puts beside the real file, to be copied; a machine's name with `example` in it is none.
_SAMPLE_NAME = re.compile(
    r"(?i)[._-](sample|example(?!\.(?:com|net|org)\b)|dist|default|template|orig|bak|old)(\.|$)"
    r"|^(sample|example(?!\.(?:com|net|org)\b)|defaults?)[._-]"
)
_WHY_CACHE = "its name, and databases in it: neither backed up nor compared; take it out of `caches` if it matters"
_NEARLY_ALL, _ENOUGH = 0.95, 20


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
    files = {path: status for path, status in entries if status is not None and stat.S_ISREG(status.st_mode)}
    links = [path for path, status in entries if status is not None and stat.S_ISLNK(status.st_mode)]
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
    _find_data(found, files, shipped)
    found.runtime = runtime_of(files)
    found.jobs = jobs_of({root, root.resolve()})
    _find_settings(found, files, package)
    _find_beside_releases(found, files)
    found.caches += [Guess(one, WHY_HIDDEN_CACHE) for one in _hidden_caches(found, files)]
    found.product = _product(found, files, package)
    _find_database_files(found, files)
    leading_out = [one for one in links_out(root, links) if one.link not in shipped] if found.behind is None else []
    find_elsewhere(found, etc, leading_out)
    beside = [one.what for one in found.data if one.what.startswith("/")]
    found.running = [with_variables(one, beside) for one in found.running]
    find_in_variables(found)
    find_connections(found)
    for guesses, pattern, why in (
        (found.keys, _KEY_FILE, "its name says that it is a key"),
        (found.licences, _LICENCE_FILE, "its name says that it is a licence"),
    ):
        guesses += [Guess(path, why) for path in files if pattern.search(path.rsplit("/", 1)[-1])]
    found.addons = list(addon_folders(files, shipped))
    found.assets = [one for one in strays(files, shipped, _claimed(found)) if not is_sqlite(root / one.what)]
    found.assets += [Guess(one.link, f"a link to {one.leads_to}") for one in leading_out]
    found.removed = _removed(root, files, shipped, [one.link for one in leading_out])
    found.units = list(find_units(root, unit_folders))
    found.served = served_by({root, root.resolve()}, etc)
    if found.behind is None:
        found.others = list(others_in(root, [*(one.what for one in found.data), *(one.what for one in found.addons)]))
    return found


def _find_data(found: Discovery, files: Mapping[str, os.stat_result], shipped: Collection[str]) -> None:
    releases = found.behind.releases.split("/")[0] if found.behind else ""
    written = list(data_folders(found.root, files, releases, shipped))
    written += [one for guess in written for one in logs_within(guess.what, files)]
    found.logs = [one for one in written if holds_logs(one.what, files)]
    found.data = [one for one in written if one not in found.logs]


def _find_beside_releases(found: Discovery, files: Mapping[str, os.stat_result]) -> None:
    """What lies beside releases, which settings are to be known of before; then the logs in all data."""
    if found.behind is not None:
        inside = found.behind.releases.split("/")[0]
        beside = list(beside_releases(found.root, files, [*found.data, *found.logs], found.settings, inside))
        # A server's data folder looks empty here, since its files are none of this.
        beside = [one for one in beside if not within(one.what, [server.folder for server in found.servers])]
        found.logs += [one for one in beside if holds_logs(one.what, files)]
        found.data += [one for one in beside if one not in found.logs]
    folders = [one.what for one in found.logs]
    found.logs += [one for guess in found.data for one in log_files_within(guess.what, files, folders)]


def _product(found: Discovery, files: Iterable[str], package: Package | None) -> str:
    words = [word for process in found.running for word in process.words]
    installed = application_of(found.environment, found.version, words) if found.environment is not None else ""
    installed = "" if "/" in installed else installed  # sheets and backups are named for it
    return (package.product if package is not None else installed) or product_of(found.root, files, found.version_file)


def _removed(root: Path, files: Collection[str], shipped: Collection[str], instead: Sequence[str]) -> list[str]:
    """What the release shipped and is not here, folders as a whole where nothing of them is; what is not looked through
    is not told of.
    """
    there, looked_at = folders_of(files), [one for one in shipped if not is_passed_over(one)]
    found = set[str]()
    for path in looked_at:
        if path not in files and not within(path, instead) and not nolinks.is_there(root / path):
            parts = path.split("/")
            tops = ("/".join(parts[:depth]) for depth in range(1, len(parts)))
            found.add(next((one for one in tops if one not in there), path))
    return sorted(one for one in found if one not in (SHEET_NAME, *instead))[:_MOST_REMOVED]


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
        if number >= MOST_ENTRIES:
            found.shortened = True
            return
        is_told = stat.S_ISREG(entry.status.st_mode) or stat.S_ISLNK(entry.status.st_mode)
        yield path, entry.status if is_told else None


def _find_database_files(found: Discovery, files: Iterable[str]) -> None:
    theirs: dict[str, list[str]] = {}
    for path in files:
        if not is_sqlite(found.root / path):
            continue
        cache = cache_of(path)
        if not cache:
            theirs.setdefault(path.rpartition("/")[0], []).append(path)
        elif cache not in {one.what for one in found.caches}:
            found.caches.append(Guess(cache, _WHY_CACHE))
    written = {path for one in found.running for path in one.written}
    take_databases(found, theirs, written)


def _hidden_caches(found: Discovery, files: Iterable[str]) -> Iterator[str]:
    data = [one.what for one in found.data]
    folders = {path[: path.index("/.cache/") + len("/.cache")] for path in files if "/.cache/" in path}
    yield from (one for one in sorted(folders) if within(one, data))


def _find_settings(found: Discovery, files: Mapping[str, os.stat_result], package: Package | None) -> None:
    started_with = {path for one in found.running for path in one.named}
    read_in = list(_candidates(found, files, started_with))
    told_in = _named_in(found, files, read_in)
    named = started_with | told_in.keys()
    if told_in:
        read_in = list(_candidates(found, files, named))
    if package is not None:
        # What a release ships and nobody has changed says nothing of this site, but for a database that is there.
        alike = package.unchanged(found.root, [path for path, *_ in read_in if path not in started_with])
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
        why = "it names a database" if databases else "a process was started with it" if path in started_with else ""
        why = why or (f"{told_in[path]} names it" if path in told_in else "its name")
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
        is_unlikely = _SAMPLE_NAME.search(path.rsplit("/", 1)[-1]) or _NOT_OF_A_SITE.search(path)
        if path not in named and is_unlikely:
            continue
        read = read_settings(found.root / path)
        databases = find_databases(read.pairs, found.root / path, found.root)
        if read.pairs and (databases or path in named or _sounds_like_settings(path, read)):
            is_old_code = read.is_code and "/" in path and files[path].st_mtime <= came
            yield path, read, databases, is_old_code and path not in named and not sample_of(path, files)


def _named_in(
    found: Discovery, files: Mapping[str, os.stat_result], read_in: Sequence[tuple[str, FoundSettings, object, bool]]
) -> dict[str, str]:
    """Files that settings of the site's own name by their whole path, as one for the log, with who names them; code and
    what would be read as no settings is not followed.
    """
    told = dict[str, str]()
    for path, read, _, is_as_it_came in read_in:
        for _, value in read.pairs if not is_as_it_came else ():
            if not value.startswith(f"{found.root}/"):
                continue
            other = value.removeprefix(f"{found.root}/")
            if other in files and other != path:
                as_read = read_settings(found.root / other)
                if as_read.pairs and not as_read.is_code:
                    told.setdefault(other, path)
    return told


def _sounds_like_settings(path: str, read: FoundSettings) -> bool:
    """Whether a file's name says that it holds settings. Most scripts are the application's own code: of these, only
    one near the top that is called settings and does little else.
    """
    name = path.rpartition("/")[2]
    if _BUILD_NAME.match(name) or (name.startswith(".") and name.endswith(".json")):  # a program's own memory
        return False
    if read.is_code:
        return path.count("/") < _DEEPEST_CODE and read.is_plain and CODE_NAME.search(name) is not None
    return SETTINGS_NAME.search(path) is not None
