"""A site: its file parsed, its paths made absolute."""

from __future__ import annotations

import contextlib
import fnmatch
import functools
import grp
import pwd
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.database import Database, DatabaseAddress, open_database
from yellow_ladder.documents import parse_document, read_document
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.entry import place_of, within
from yellow_ladder.files.manifest import Skip
from yellow_ladder.files.tree import TreeRules
from yellow_ladder.release.index import read_index
from yellow_ladder.release.source import Releases, read_source
from yellow_ladder.site.pointer import pointed_at, release_folders
from yellow_ladder.site.records import DatabaseSpec, SiteFile
from yellow_ladder.site.state import StateFolder

DOC_PAGE = "docs/site-file.md"

_TOOLS_CACHE = "node_modules/.cache"


@dataclass(frozen=True, slots=True)
class Site:
    """One installation under care. `file` is where the site file is; relative paths in it are relative to there."""

    file: Path
    text: bytes
    record: SiteFile

    @property
    def name(self) -> str:
        """The site's name."""
        return self.record.name

    @property
    def root(self) -> Path:
        """The folder of the application."""
        return _resolved_once(self.file.parent / self.filled(self.record.root))

    @property
    def state(self) -> StateFolder:
        """The state folder."""
        return StateFolder(_resolved_once(self.file.parent / self.filled(self.record.state)))

    @property
    def source(self) -> Path | str:
        """The folder of the releases, or the URL of their index."""
        source = self.record.releases.source
        return source if source.startswith(("http://", "https://")) else self.resolve(source)

    def read_releases(self) -> Releases:
        """The releases of the product, and what could not be read of them; raises BadInput where there are none."""
        source, product = self.source, self.record.product
        if isinstance(source, str):
            return read_index(source, product, self.state.downloads)
        return read_source(source, product)

    def resolve(self, path: str) -> Path:
        """A path of the site file, absolute, with the administrator's own links resolved; raises BadInput at others."""
        whole = self.file.parent / self.filled(path)
        try:
            return nolinks.trusted(whole)
        except nolinks.LinkInTheWay as fault:
            text = f"the link {fault.filename} belongs to another account, which could turn it anywhere"
            remedy = "name the place that it leads to ({release}, if it is the release in use), or let root own it"
            raise BadInput(Problem("link-in-the-way", text, remedy, path)) from fault

    def filled(self, text: str, extra: Mapping[str, str] | None = None) -> str:
        """`{root}`, `{site}` (the site file's folder) and `{release}` (where the release in use lies) put in; other
        braces are left alone.
        """
        values = {
            "root": str(self.file.parent / self.record.root),
            "site": str(self.file.parent),
            **(extra or {}),
        }
        if "{release}" in text and "release" not in values:
            values["release"] = str(self.root / self.release_path)
        for name, value in values.items():
            text = text.replace("{" + name + "}", value)
        return text

    @property
    def release_path(self) -> str:
        """The tree path of the release in use, empty where that is root; raises BadInput for a link gone astray."""
        pointing = self.record.pointing
        return pointed_at(self.root, pointing) if pointing else ""

    def place(self, path: str) -> Path:
        """A tree path of the site file, absolute; one that begins with `{release}`, or with the link to the release in
        use, leads there.
        """
        pointing = self.record.pointing
        if path.startswith("{release}/"):
            return self.root / self.release_path / path.removeprefix("{release}/")
        if pointing is not None and not pointing.file and within(path, [pointing.link]) and path != pointing.link:
            return self.root / self.release_path / path[len(pointing.link) + 1 :]
        return self.root / path

    def addresses(self) -> list[DatabaseAddress]:
        """Where the databases are."""
        return [
            replace(spec.address(self.file.parent), programs=str(self.resolve(spec.programs)) if spec.programs else "")
            for spec in self.record.databases
        ]

    def databases(self) -> dict[str, Database]:
        """The databases by name."""
        return {address.name: open_database(address) for address in self.addresses()}

    def database_spec(self, name: str) -> DatabaseSpec:
        """What the site file says of a database."""
        return next(spec for spec in self.record.databases if spec.name == name)

    @property
    def flag(self) -> Path | None:
        """The maintenance flag, where the site is closed by one."""
        maintenance = self.record.maintenance
        return self.resolve(maintenance.flag) if maintenance and maintenance.flag else None

    def tree_rules(self) -> TreeRules:
        """How the tree below root is looked at: what `skipped` says is left out, data folders are not read."""
        return TreeRules(frozenset(self._left_alone()), self._caches(), tuple(self.record.keep.data_paths))

    def skipped(self) -> Skip:
        """Which tree paths below root are no files of the site: databases' own, the flag, pid files, caches."""
        alone, caches = self._left_alone(), re.compile(self._caches())

        def skip(path: str) -> bool:
            return path in alone or caches.match(path.rsplit("/", 1)[-1]) is not None

        return skip

    def caches(self) -> Skip:
        """Which tree paths are caches by what the site file says: they may go at any time."""
        names, paths = re.compile(self._caches()), {one for one in self.record.keep.caches if "/" in one}
        paths |= set(self._tools_caches())
        return lambda path: path in paths or names.match(path.rsplit("/", 1)[-1]) is not None

    def _caches(self) -> str:
        names = [one for one in self.record.keep.caches if "/" not in one]
        return "|".join(map(fnmatch.translate, names)) or r"(?!)"

    def _left_alone(self) -> set[str]:
        alone = {self.tree_path(path) for database in self.databases().values() for path in database.own_files()}
        if self.flag is not None:
            alone.add(self.tree_path(self.flag))
        for service in self.record.services:
            if service.pid_file:
                alone.add(self.tree_path(self.resolve(service.pid_file)))
        alone |= {service.data_folder for service in self.record.servers}
        alone |= {one for one in self.record.keep.caches if "/" in one} | set(self._tools_caches())
        return alone | set(self.record.keep.shared_with) | set(self._other_releases())

    def _tools_caches(self) -> Iterator[str]:
        """What JavaScript tools keep for themselves among a release's libraries, while they build or run it."""
        pointing = self.record.pointing
        folders = release_folders(self.root, pointing) if pointing is not None else ()
        yield from (f"{folder}/{_TOOLS_CACHE}" for folder in folders)
        yield _TOOLS_CACHE

    def _other_releases(self) -> Iterator[str]:
        """Folders of releases that are not in use: kept for going back, or made ready. They are no part of the site."""
        pointing = self.record.pointing
        if pointing is not None:
            in_use = ""
            with contextlib.suppress(BadInput):  # a check says so; nothing that lies there is taken for the site's
                in_use = self.release_path
            yield from (path for path in release_folders(self.root, pointing) if path != in_use)

    def tree_path(self, path: Path) -> str:
        """A path below root as a tree path; anything else as the absolute path, which is no tree path."""
        try:
            return str(path.relative_to(self.root))
        except ValueError:
            return str(path)

    def short(self, path: Path) -> str:
        """A path as a person in the site file's folder would write it."""
        return str(path.relative_to(self.file.parent)) if path.is_relative_to(self.file.parent) else str(path)

    def is_data(self, path: str) -> bool:
        """Whether a path of a list of files belongs to a data folder, below root or elsewhere."""
        return within(path, self.data_outside if path.startswith("/") else self.record.keep.data_paths)

    @property
    def single_database_files(self) -> tuple[str, ...]:
        """Files of databases that lie below root in no data folder, whether each is there at this moment or not."""
        files = (file for database in self.databases().values() for file in database.own_files())
        paths = [str(file.relative_to(self.root)) for file in files if file.is_relative_to(self.root)]
        return tuple(path for path in paths if not self.is_data(path))

    @property
    def data_outside(self) -> tuple[str, ...]:
        """Data folders, and logs in none of them, that lie outside root: where they are, none in another; raises
        BadInput for a link that another account could turn.
        """
        found = dict.fromkeys(str(self._resolved(path)) for path in self.record.keep.data_elsewhere)
        alone = [one for one in found if not within(one, [other for other in found if other != one])]
        return tuple(sorted(alone, key=place_of))

    @property
    def outside(self) -> tuple[str, ...]:
        """All that is backed up outside root, as the site file names it."""
        keep = self.record.keep
        return (*keep.outside, *keep.data_elsewhere, *keep.settings_elsewhere)

    @property
    def logs(self) -> list[str]:
        """Logs, by their paths in a list of files."""
        return [str(self._resolved(one)) if one.startswith("/") else one for one in self.record.keep.logs]

    def _resolved(self, path: str) -> Path:
        found = _resolved_apart(path)
        if found is None:
            text = f"{path}, which is data, is reached by a link of another account, which could turn it anywhere"
            remedy = (
                f"see with `namei -l {path}` which it is; remove it, and going back puts the folder in its place again"
            )
            raise BadInput(Problem("link-in-the-way", text, f"{remedy}; or let root own it", path))
        return found

    def wanted_owner(self) -> tuple[int | None, int | None]:
        """The owner and group that the site file asks for, None where it leaves them as they were."""
        uid = pwd.getpwnam(self.record.owner).pw_uid if self.record.owner else None
        gid = grp.getgrnam(self.record.group).gr_gid if self.record.group else None
        return uid, gid


@functools.lru_cache(maxsize=256)  # asked for every file
def _resolved_apart(path: str) -> Path | None:
    """Where a path outside root leads; None where a link on the way is not to be trusted."""
    try:
        return nolinks.trusted(path)
    except nolinks.LinkInTheWay:
        return None


@functools.cache
def _resolved_once(path: Path) -> Path:
    """The folder that everything is reached from: links on the way to it are followed once, and not again later."""
    return path if path.is_symlink() else nolinks.trusted(path)


def load_site(file: Path, *, under_way: bool = False) -> Site:
    """Read a site file; raises BadInput with everything that is wrong with it, its root included.

    `under_way`: a climb may have been killed between two renames, so that root is not there for now.
    """
    file = file.absolute()
    record = read_document(file, SiteFile, what="site file", doc_page=DOC_PAGE)
    site = Site(file, file.read_bytes(), record)
    return site if under_way else _checked(site)


@functools.lru_cache(maxsize=32)  # a plan is asked for its site, and for that after each rung, at every step
def site_from_text(file: Path, text: bytes) -> Site:
    """The site as it was written down when a plan was frozen."""
    record = parse_document(text, SiteFile, name=str(file), what="site file", doc_page=DOC_PAGE)
    return Site(file, text, record)


def _wrong_outside(site: Site) -> Iterator[Problem]:
    """Paths outside root that lie inside it, or hold it or the state folder."""
    keep = site.record.keep
    named = [
        (f"keep.{key}[{place}]", key, Path(path))
        for key, paths in (
            ("outside", keep.outside),
            ("data", keep.data),
            ("logs", keep.logs),
            ("settings", keep.settings_elsewhere),
        )
        for place, path in enumerate(paths)
        if path.startswith("/")
    ]
    for where, key, path in named:
        there = path if key == "outside" else path.resolve()
        if there.is_relative_to(site.root):
            text = f"keep.{key} names {path}, which lies inside root"
            inside = f'name it by its path below root: "{there.relative_to(site.root)}"'
            remedy = "name it under another key of [keep]" if key == "outside" else inside
            yield Problem("not-outside", text, remedy, where)
            continue
        held = [one for one in (site.root, site.state.path) if one.resolve().is_relative_to(path.resolve())]
        if held and (key != "outside" or not path.is_symlink()):
            text = f"keep.{key} names {path}, which holds {held[0]}: a backup would hold itself"
            yield Problem("not-outside", text, "name only what belongs to the site", where)


def _checked(site: Site) -> Site:
    found: list[Problem] = []
    where = str(site.file)
    root = site.root
    if root.is_symlink():
        found.append(
            Problem(
                "root-is-link",
                f"root {root} is a link",
                "name the folder that it points to",
                f"{where}: root",
            )
        )
    elif not root.is_dir():
        found.append(Problem("no-root", f"root {root} is not there or no folder", "correct `root`", f"{where}: root"))
    for path, what in ((site.file, "the site file"), (site.state.path, "the state folder")):
        if path.resolve().is_relative_to(root.resolve()):
            text = f"{what} {path} lies inside root {root}, which is exchanged as a whole"
            remedy = f"move it out, for instance to {root.parent}"
            found.append(Problem("inside-root", text, remedy, where))
    found += _wrong_outside(site)
    for key, name, look_up in (
        ("owner", site.record.owner, pwd.getpwnam),
        ("group", site.record.group, grp.getgrnam),
    ):
        try:
            look_up(name) if name else None
        except KeyError:
            text = f"`{key}` names {name!r}, which this machine does not know"
            found.append(Problem("unknown-account", text, f"correct `{key}`", f"{where}: {key}"))
    if found:
        raise BadInput(found)
    return site
