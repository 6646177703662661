"""Finds the folders that people or the application write to, and tells them from what a release brought."""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.accounts import account_name
from yellow_ladder.discovery.databases import SQLITE_MAGIC
from yellow_ladder.discovery.readers import read_settings
from yellow_ladder.files.entry import within
from yellow_ladder.files.reading import read_regular
from yellow_ladder.words import count_of

CODE = {
    ".py", ".php", ".js", ".rb", ".java", ".class", ".jar", ".go", ".so", ".css", ".html", ".pl", ".ts", ".sh", ".inc",
    ".tpl", ".sql", ".pm", ".cgi",
}  # fmt: skip
ADDON_NAMES = {"addons", "add-ons", "plugins", "extensions", "themes", "skins", "languages"}
# Of scripts, those whose names say that settings are all there is in them.
CODE_NAME = re.compile(r"(?i)^(?:.*[._-])?(?:config|conf|settings?|local|parameters|options)(?:\.inc)?\.\w+$")
SETTINGS_NAME = re.compile(r"(?i)conf|setting|local|\.env|parameters|\.ini$")
_FOLDER_OF_SETTINGS = re.compile(r"(?i)^(?:conf|config|configuration|etc|settings)$")
_DATA_NAMES = {
    "data", "uploads", "upload", "media", "attachments", "storage", "userfiles", "user-files", "var", "documents",
}  # fmt: skip
# So far down in an application only these names are clear.
_UPLOAD_NAMES = {"uploads", "upload", "attachments", "userfiles", "user-files"}
# Where folders named like add-ons are the application's own parts.
_FOLDERS_OF_CODE = {
    "app", "assets", "css", "include", "includes", "js", "lib", "libs", "public", "resources", "src", "static", "web",
}  # fmt: skip
# Where root is the application's home, tools keep their own there: no data of the application's.
HOME_TOOLS = {
    ".bundle", ".cache", ".cargo", ".gem", ".gnupg", ".ipython", ".node-gyp", ".npm", ".pki", ".rustup", ".ssh",
    ".yarn",
}  # fmt: skip
# Libraries and what is built: nothing of the site's, and too much to be looked through.
NOT_SEARCHED = {"node_modules", "vendor", "site-packages", "__pycache__", ".git", "locale", "lang", "dist", "build"}
# Of these it is certain that the code's account brought them.
_LIBRARIES = ("node_modules", "vendor", "site-packages")
_FLEETING_NAMES = {"cache", "caches", "tmp", "temp", "run"}
_LOG_NAMES = {"log", "logs"}
_A_LOG = re.compile(r"(?i)\.(?:log|out|err|txt)(?:[.-]\d+)?(?:\.gz)?$")
_DAY_S = 86_400
# So much of the code belongs to one account where another one's folders stand out.
_NEARLY_ALL_CODE, _ENOUGH_CODE = 0.8, 5
# Placeholders and files that forbid a look are shipped in folders for data.
_PLACEHOLDER_BYTES = 2048
_DEEPEST_MIXED = 4
_FEW_SHIPPED, _HALF, _MOST_STRAYS = 3, 0.5, 20


@dataclass(frozen=True, slots=True)
class Guess:
    """Something found, and why it is taken for what it is."""

    what: str
    why: str


_Files = list[tuple[str, os.stat_result]]


@dataclass(frozen=True, slots=True)
class _Installed:
    """How the code came: about when (seconds since 1970; 0 where nothing tells), whose nearly all of it is, and what
    its release shipped, where that is at hand; `mixed` folders have the site's own code beside the release's.
    """

    at: float
    keeper: int | None
    others_write: bool
    shipped: Collection[str] = ()
    mixed: Collection[str] = ()


DEEPEST = 6


def is_passed_over(path: str) -> bool:
    """Whether a file lies where a look at an application does not go: too far down, or among libraries."""
    parts = path.split("/")
    return len(parts) > DEEPEST or any(one in NOT_SEARCHED for one in parts[:-1])


def data_folders(
    root: Path, files: Mapping[str, os.stat_result], releases: str = "", shipped: Collection[str] = ()
) -> Iterator[Guess]:
    """Folders that people or the application write to: by whose they are where that parts them from the code, else by
    what is none of the release's (`shipped`) or was written since the installation; or by their name. `releases` is the
    folder with releases, which is none.
    """
    folders = {**{name: [] for name in _empty_in(root, files) if name != releases}, **_by_folder(files.items(), "")}
    came = _how_it_came(root, files, folders, shipped)
    if nolinks.is_folder(root / ".git"):
        yield Guess(".git", "the history of a checkout")
    for folder, inside in sorted(folders.items()):
        why = _why_data(root, folder, inside, came)
        if folder.lower() in ADDON_NAMES or folder in came.mixed:
            continue
        if not why:
            yield from _data_within(root, folder, inside, came)
            continue
        folder, inside = _narrowed(folder, inside, came.shipped)
        # A home of the application's, with its settings and its data side by side: only the data are.
        is_for_settings = _FOLDER_OF_SETTINGS.search(folder) is not None
        has_settings = is_for_settings or any(path.count("/") == 1 and _is_settings(root, path) for path, _ in inside)
        narrower = []
        if has_settings and folder.lower() not in _DATA_NAMES:
            parts = _by_folder(inside, folder)
            narrower = [Guess(part, _why_data(root, part, of_it, came)) for part, of_it in parts.items()]
        yield from [one for one in narrower if one.why] or ([] if is_for_settings else [Guess(folder, why)])


def _narrowed(folder: str, inside: _Files, shipped: Collection[str]) -> tuple[str, _Files]:
    """The folder in it that has all that is the site's own, as far down as the release has folders, too."""
    while True:
        own = [one for one in inside if one[0] not in shipped]
        below = list(_by_folder(own, folder).items())
        in_it = [path for path, _ in own if "/" not in path[len(folder) + 1 :]]
        if not shipped or len(below) != 1 or in_it or not any(one.startswith(f"{below[0][0]}/") for one in shipped):
            return folder, inside
        folder = below[0][0]
        inside = [one for one in inside if one[0].startswith(f"{folder}/")]


def _data_within(root: Path, folder: str, inside: _Files, came: _Installed) -> Iterator[Guess]:
    """Folders of data further down in one that has code, too: known by what is not from the release, else by name."""
    for part, of_it in _by_folder(inside, folder).items():
        name = part.rpartition("/")[2].lower()
        if name in ADDON_NAMES or part in came.mixed:
            continue
        if came.shipped:
            why = _why_data(root, part, of_it, came)
        else:
            why = "its name" if name in _UPLOAD_NAMES and _share_of_code(of_it) < _HALF else ""
        if why:
            yield Guess(_narrowed(part, of_it, came.shipped)[0], why)
        elif came.shipped and any(path not in came.shipped for path, _ in of_it):
            yield from _data_within(root, part, of_it, came)


def addon_folders(files: Iterable[str], shipped: Collection[str]) -> Iterator[Guess]:
    """Folders that are named like those of add-ons, at the top and next below, where they have folders in them; below
    code only where something in them is not from the release.
    """
    files = list(files)
    found = dict.fromkeys(mixed_folders(files, shipped), True)
    for path in files:
        parts = path.split("/")
        if len(parts) > 1 and parts[0].lower() in ADDON_NAMES:
            found[parts[0]] = True
        elif len(parts) > 3 and parts[1].lower() in ADDON_NAMES:
            is_likely = parts[0].lower() not in _FOLDERS_OF_CODE or bool(shipped and path not in shipped)
            name = "/".join(parts[:2])
            found[name] = found.get(name, False) or is_likely
    known = [name for name, is_likely in sorted(found.items()) if is_likely]
    for name in known:
        is_named_so = name.rpartition("/")[2].lower() in ADDON_NAMES
        yield Guess(name, "its name" if is_named_so else "code of its own beside what the release has there")


def mixed_folders(files: Iterable[str], shipped: Collection[str]) -> list[str]:
    """Folders in which the release has folders with code, and beside them there are others with code, all their own."""
    of_release, all_own, with_code = set[str](), set[str](), set[str]()
    for path in files if shipped else ():
        parts = path.split("/")
        for depth in range(2, min(len(parts), _DEEPEST_MIXED + 1)):
            below = "/".join(parts[:depth])
            (of_release if path in shipped else all_own).add(below)
            if Path(path).suffix in CODE:
                with_code.add(below)
    own, theirs = (all_own - of_release) & with_code, of_release & with_code
    return sorted({one.rpartition("/")[0] for one in own} & {one.rpartition("/")[0] for one in theirs})


def strays(files: Iterable[str], shipped: Collection[str], claimed: Collection[str]) -> Iterator[Guess]:
    """Single files among those of the release that are not from it, and that nothing claims; code may as well be left
    over from an older one.
    """
    if shipped:
        there = set(files)
        own = (path for path in there if path not in shipped and not _may_be_left_over(path, there))
        found = [path for path in own if not within(path, claimed)]
        yield from (Guess(path, "not from the release") for path in sorted(found)[:_MOST_STRAYS])


def _may_be_left_over(path: str, files: Collection[str]) -> bool:
    """Whether a file may be code of an older release: no code of the site's own, as among settings, or by a sample."""
    of_settings = any(_FOLDER_OF_SETTINGS.search(folder) for folder in path.split("/")[:-1])
    return Path(path).suffix in CODE and not of_settings and not sample_of(path, files)


def _empty_in(root: Path, files: Iterable[str]) -> Iterator[str]:
    """Folders next below root that have no file yet."""
    tops = {path.split("/", 1)[0] for path in files}
    with contextlib.suppress(OSError):
        for name in nolinks.names_in(root):
            is_known = name not in tops and name not in NOT_SEARCHED and not name.startswith(".")
            if is_known and stat.S_ISDIR(nolinks.status_of(root / name).st_mode):
                yield name


def _how_it_came(
    root: Path, files: Mapping[str, os.stat_result], folders: Mapping[str, _Files], shipped: Collection[str]
) -> _Installed:
    code = [(path, one.st_uid) for path, one in files.items() if Path(path).suffix in CODE]
    # What an application is started with lies at the top; deeper down there may be more pages of users than code.
    owners = Counter(uid for path, uid in code if "/" not in path) or Counter(uid for _, uid in code)
    libraries = [status for name in _LIBRARIES if (status := nolinks.status_or_none(root / name)) is not None]
    if libraries and not any("/" not in path for path, _ in code):
        owners = Counter(status.st_uid for status in libraries)
    keeper, count = owners.most_common(1)[0] if owners else (None, 0)
    if not (libraries or len(code) >= _ENOUGH_CODE) or count < _NEARLY_ALL_CODE * owners.total():
        keeper = None
    others_write = any(_others(root, folder, inside, keeper) for folder, inside in folders.items())
    return _Installed(installed_at(files), keeper, others_write, shipped, mixed_folders(files, shipped))


def _others(root: Path, folder: str, inside: _Files, keeper: int | None) -> str:
    """Why a folder counts as another account's than the code's; nothing where it does not."""
    if keeper is None:
        return ""
    try:
        owner = nolinks.status_of(root / folder).st_uid
    except OSError:
        return ""
    theirs = sum(one.st_uid != keeper for _, one in inside)
    if owner == keeper or theirs * 2 < len(inside):
        return ""
    return f"it belongs to {account_name(owner)}, and the code to {account_name(keeper)}"


def _by_folder(files: Iterable[tuple[str, os.stat_result]], above: str) -> dict[str, _Files]:
    """Files by the folder next below `above`; those that lie in `above` itself are left out."""
    found: dict[str, _Files] = {}
    start = len(above) + 1 if above else 0
    for path, status in files:
        if "/" in path[start:]:
            found.setdefault(path[: path.index("/", start)], []).append((path, status))
    return dict(sorted(found.items()))


def _why_data(root: Path, folder: str, inside: _Files, came: _Installed) -> str:
    """Why a folder is taken for one of data; nothing where it is not."""
    if any(is_sqlite(root / path) for path, _ in inside):
        return "a database lies in it"
    is_named_so = folder.rpartition("/")[2].lower() in _DATA_NAMES
    is_code = _share_of_code(inside) > _HALF
    is_there = bool(inside) and all(
        path not in came.shipped or one.st_size < _PLACEHOLDER_BYTES for path, one in inside
    )
    by_name = "its name" if is_named_so and is_there and not is_code else ""
    own = sum(path not in came.shipped for path, _ in inside)
    if came.others_write:
        # Who may write to what the release put there says less than that the release put it there.
        theirs = _others(root, folder, inside, came.keeper) if own * 2 >= len(inside) else ""
        return theirs or by_name
    if came.shipped:
        # Among many of the release's they are carried over one by one; as data they would keep those from being new.
        is_own = own and len(inside) - own <= max(_FEW_SHIPPED, len(inside) // 10) and (is_named_so or not is_code)
        return f"{own:,} of {count_of(len(inside), 'file')} not from the release" if is_own else by_name
    written = [one for _, one in inside if one.st_mtime > came.at + _DAY_S]
    is_written = came.at and len(written) * 2 > len(inside) and not _came_at_once(written)
    if is_written and (is_named_so or not is_code):
        return f"{len(written):,} of {len(inside):,} files were written since the installation"
    return by_name


def _share_of_code(inside: _Files) -> float:
    return sum(Path(path).suffix in CODE for path, _ in inside) / max(1, len(inside))


def _came_at_once(files: Sequence[os.stat_result]) -> bool:
    """Whether files look unpacked: archives keep whole seconds, and what was built with a release is of one hour."""
    times = [one.st_mtime_ns for one in files]
    return len(times) > 2 and not any(at % 10**9 for at in times) and max(times) - min(times) < 3600 * 10**9


def _is_settings(root: Path, path: str) -> bool:
    is_likely = SETTINGS_NAME.search(path) is not None and Path(path).suffix not in CODE
    return is_likely and bool(read_settings(root / path).pairs)


def installed_at(files: Mapping[str, os.stat_result], share: float = 0.5, least: int = 1) -> float:
    """About when a share of the application's code had come, in seconds since 1970; 0 for less than so many files."""
    code = sorted(one.st_mtime for path, one in files.items() if Path(path).suffix in CODE)
    return code[int(share * (len(code) - 1))] if len(code) >= least else 0.0


def beside_releases(
    root: Path, files: Iterable[str], data: Sequence[Guess], settings: Sequence[Guess], releases: str = ""
) -> Iterator[Guess]:
    """What lies beside the folder of `releases` is the site's own: folders, or what is in them beside settings."""
    known = [one.what for one in data]
    apart = [*known, *(one.what for one in settings)]
    tops = dict.fromkeys(path.split("/", 1)[0] for path in files if "/" in path)
    # An empty one is for what is to come, unless its name says that this may go again.
    tops |= dict.fromkeys(
        one for one in _empty_in(root, files) if one.lower() not in _FLEETING_NAMES and one != releases
    )
    for top in tops:
        if top.lower() in ADDON_NAMES or top.startswith(".") or within(top, known):
            continue
        if not any(within(one, [top]) for one in apart):
            yield Guess(top, "it lies beside the releases")
            continue
        yield from (Guess(one, "it lies beside the releases, and beside settings") for one in _beside(root, top, apart))


def _beside(root: Path, folder: str, apart: Collection[str]) -> Iterator[str]:
    """What lies in a folder beside what is named already, which may lie deeper."""
    below: list[str] = []
    with contextlib.suppress(OSError):
        below = [f"{folder}/{name}" for name in nolinks.names_in(root / folder) if name != "__pycache__"]
    for one in below:
        if not any(within(other, [one]) for other in apart):
            yield one
        elif one not in apart:
            yield from _beside(root, one, apart)


def sample_of(path: str, files: Collection[str]) -> str:
    """The file beside it that the vendor ships in its place, to be copied; nothing where there is none."""
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    words = ("sample", "example", "dist", "default", "template")
    names = [f"{name}{sign}{word}" for word in words for sign in ".-"]
    if stem:
        names += [f"{stem}{sign}{word}{dot}{ending}" for word in words for sign in ".-_"]
        names += [f"{word}{sign}{name}" for word in words for sign in ".-_"]
    return next((one for one in (f"{folder}/{name}".lstrip("/") for name in names) if one in files), "")


def is_sqlite(path: Path) -> bool:
    """Whether a file is a SQLite database, by its name and its first bytes."""
    if path.suffix not in ("", ".db", ".db3", ".sqlite", ".sqlite3", ".data"):
        return False
    try:
        return read_regular(path, len(SQLITE_MAGIC), cut=True) == SQLITE_MAGIC
    except OSError:
        return False


def holds_logs(folder: str, files: Iterable[str]) -> bool:
    """Whether a folder is one of logs, by its name and by most of what is in it."""
    inside = [path for path in files if path.startswith(f"{folder}/")]
    name = folder.rpartition("/")[2].lower()
    return name in _LOG_NAMES and sum(bool(_A_LOG.search(path)) for path in inside) * 2 > len(inside)


def logs_within(data: str, files: Iterable[str]) -> Iterator[Guess]:
    """Folders of logs in a folder of data."""
    folders = {path.rpartition("/")[0] for path in files if path.startswith(f"{data}/")} - {data}
    yield from (Guess(one, "its name") for one in sorted(folders) if one.rpartition("/")[2].lower() in _LOG_NAMES)


def log_files_within(data: str, files: Iterable[str], folders: Collection[str]) -> Iterator[Guess]:
    """Single logs that lie among data, and in none of the folders of logs."""
    logs = [path for path in files if path.startswith(f"{data}/") and path.endswith(".log")]
    yield from (Guess(one, "its name") for one in sorted(logs) if not within(one, folders))
