"""Sorts the files of a site by what they are for an upgrade. It is given what was seen, and looks at no disk."""

from __future__ import annotations

import stat
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from yellow_ladder.files.archives.unpack import Content
from yellow_ladder.files.entry import Entry, Kind, Manifest, within
from yellow_ladder.files.looking import Row
from yellow_ladder.files.tree import Tree, entry_of
from yellow_ladder.release.sheet import SHEET_NAME
from yellow_ladder.site.keep_records import Keep
from yellow_ladder.survey.drift.reference import Contents, Reference

_KEPT_KINDS = ("keys", "licences", "assets", "addons")


Stays = Callable[[str], bool]
"""Whether a file that is not the release's stays where it is when a release comes."""


def stays_nowhere(_path: str) -> bool:
    """Every file goes with the tree that is exchanged."""
    return False


@dataclass(frozen=True, slots=True)
class FileClasses:
    """Files and links below root, by what they are for an upgrade; data folders are counted and not listed.

    `reference` names what says which files the release has (empty: nothing does), and `release_known` whether that is
    the package itself. `rights` and `turned` say why, `leftover` names the release that had the file, and `foreign`
    lists files by the top folder that holds nothing of this product. `addons` says of each whether it is bundled,
    third-party or unknown.
    """

    reference: str = ""
    release_known: bool = False
    unchanged: int = 0
    edited: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    turned: Mapping[str, str] = field(default_factory=dict)
    rights: Mapping[str, str] = field(default_factory=dict)
    added: tuple[str, ...] = ()
    leftover: Mapping[str, str] = field(default_factory=dict)
    foreign: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    kept: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    addons: Mapping[str, str] = field(default_factory=dict)
    data_files: int = 0
    data_bytes: int = 0

    @property
    def unclaimed(self) -> tuple[str, ...]:
        """What is neither the release's nor named in the site file."""
        foreign = [path for paths in self.foreign.values() for path in paths]
        return tuple(sorted([*self.added, *self.leftover, *foreign]))

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> FileClasses:
        """Read what `asdict` gave; raises TypeError, KeyError or ValueError on anything else."""
        lists = {name: tuple(record[name]) for name in ("edited", "missing", "added")}
        tables = {name: {key: tuple(one) for key, one in record[name].items()} for name in ("foreign", "kept")}
        return FileClasses(**{**record, **lists, **tables})


@dataclass(slots=True)
class AsReleased:
    """What a first look at rows has sorted already: paths that are as released, and what lies in data folders."""

    paths: set[str] = field(default_factory=set)
    data_files: int = 0
    data_bytes: int = 0


def sift(
    tree: Tree, reference: Reference | None, keep: Keep, stays: Stays = stays_nowhere
) -> tuple[dict[str, Entry], AsReleased, tuple[int, int]]:
    """Sort out in one pass what is as released and owned as usual, and all that lies in data folders.

    Returns the entries that are left to be sorted one by one, what is as released, and the usual owner. Of a large
    installation nearly everything is as_released here, at a tenth of the cost.
    """
    known: Contents = reference.contents if reference else {}
    usual = _usual_owner(tree, known)
    named = [one.file for one in keep.merged] + [path for kind in _KEPT_KINDS for path in getattr(keep, kind)]
    as_released = AsReleased()
    left: dict[str, Entry] = {}
    links: dict[tuple[int, int], str] = {}
    for folder, rows in tree.by_folder():
        prefix = f"{folder}/" if folder else ""
        if folder and within(folder, keep.data_paths):
            files = [row for row in rows if not stat.S_ISDIR(row[1])]
            as_released.data_files += len(files)
            as_released.data_bytes += sum(row[4] for row in files)
            continue
        is_plain = not within(folder, named) and not any(one.startswith(prefix) for one in (*named, *keep.data_paths))
        for row in rows:
            path = prefix + row[0]
            wanted = known.get(path) if is_plain and row[10] else None
            if is_plain and wanted is None and path not in known and stays(path):
                continue
            if wanted is not None and wanted.what == row[10] and _has_usual_rights(row, wanted, usual):
                as_released.paths.add(path)
            else:
                left[path] = entry_of(path, row, links)
    return left, as_released, usual


def _has_usual_rights(row: Row, wanted: Content, usual: tuple[int, int]) -> bool:
    if wanted.uid >= 0:
        return (row[2], row[3], stat.S_IMODE(row[1])) == (wanted.uid, wanted.gid, wanted.mode)
    is_open = row[1] & 0o002 and not wanted.mode & 0o002
    return (row[2], row[3]) == usual and not is_open and bool(row[1] & 0o111 or not wanted.mode & 0o100)


def classify(
    manifest: Manifest,
    reference: Reference | None,
    keep: Keep,
    usual: tuple[int, int],
    as_released: AsReleased,
    stays: Stays = stays_nowhere,
) -> FileClasses:
    """Sort every file and link that is not as released. Left-over files are among the added: see `with_leftovers`."""
    known: Contents = reference.contents if reference else {}
    unchanged, edited, unclaimed = len(as_released.paths), [], []
    turned: dict[str, str] = {}
    rights: dict[str, str] = {}
    kept: dict[str, list[str]] = {}
    data_files, data_bytes = as_released.data_files, as_released.data_bytes
    for path, entry in manifest.items():
        in_data = within(path, keep.data_paths)
        if in_data or (path not in known and stays(path) and not kind_kept(path, keep)):
            is_file = in_data and entry.kind is not Kind.FOLDER
            data_files, data_bytes = data_files + is_file, data_bytes + entry.size * in_data
            continue
        if entry.kind is Kind.FOLDER:
            if path in known:
                turned[path] = "is a folder now"
            continue
        kind = kind_kept(path, keep)
        if kind and not (kind == "addons" and path in known):
            kept.setdefault(kind, []).append(path)
        elif path not in known:
            unclaimed.append(path)
        elif known[path].what == content_of(entry):
            unchanged += 1
            why = _other_rights(entry, known[path], usual)
            if why:
                rights[path] = why
        elif (entry.kind is Kind.LINK) != known[path].what.startswith("link:"):
            turned[path] = f"is a link to {entry.target} now" if entry.kind is Kind.LINK else "is not a link any more"
        else:
            edited.append(path)
    unclaimed.sort()
    missing = [path for path in known if path not in manifest and path not in as_released.paths]
    # Whoever has installed it by other means never had the sheet: it is a package's, and no file of the application.
    gone_without = (*keep.data_paths, *keep.left_out)
    missing = [path for path in missing if path != SHEET_NAME and not within(path, gone_without)]
    missing = [path for path in missing if not kind_kept(path, keep) or within(path, keep.addons)]
    foreign = _foreign_folders(unclaimed, manifest, known, keep)
    return FileClasses(
        reference=reference.name if reference else "",
        release_known=reference is not None and reference.is_package,
        unchanged=unchanged,
        edited=tuple(edited),
        missing=tuple(sorted(missing)),
        turned=turned,
        rights=rights,
        added=tuple(path for path in unclaimed if path.split("/", 1)[0] not in foreign),
        foreign=foreign,
        kept={kind: tuple(paths) for kind, paths in kept.items()},
        addons=_addons(manifest, known if reference and reference.is_package else None, keep),
        data_files=data_files,
        data_bytes=data_bytes,
    )


def _addons(manifest: Manifest, package: Contents | None, keep: Keep) -> dict[str, str]:
    """Every direct entry of an add-on folder; it is bundled where the installed release came with it.

    A file that came with the release, like the one that keeps a folder from being listed, is none.
    """
    found: dict[str, str] = {}
    bundled = {name for folder in keep.addons for name in _tops(package or {}, folder)}
    for folder in keep.addons:
        for name in _tops(manifest, folder):
            if name in bundled and name in (package or {}) and name in manifest:
                continue
            found[name] = "unknown" if package is None else "bundled" if name in bundled else "third-party"
    return dict(sorted(found.items()))


def _tops(paths: Mapping[str, object], folder: str) -> set[str]:
    """The entries directly in a folder."""
    prefix = folder + "/"
    return {prefix + path[len(prefix) :].split("/", 1)[0] for path in paths if path.startswith(prefix)}


def content_of(entry: Entry) -> str:
    """An entry's content as releases list it."""
    return f"link:{entry.target}" if entry.kind is Kind.LINK else entry.digest


def _usual_owner(tree: Tree, known: Contents) -> tuple[int, int]:
    """Owner and group that most of the release's files have."""
    owners: Counter[tuple[int, int]] = Counter()
    for folder, rows in tree.by_folder():
        prefix = f"{folder}/" if folder else ""
        owners.update((row[2], row[3]) for row in rows if prefix + row[0] in known)
    return owners.most_common(1)[0][0] if owners else (-1, -1)


def _other_rights(entry: Entry, known: Content, usual: tuple[int, int]) -> str:
    """How owner and mode differ from what they should be. A package says little: an installation may be stricter."""
    if entry.kind is Kind.LINK:
        return ""
    wanted = (known.uid, known.gid) if known.uid >= 0 else usual
    if (entry.uid, entry.gid) != wanted:
        return f"belongs to {entry.uid}:{entry.gid}, not to {wanted[0]}:{wanted[1]}"
    if known.uid >= 0:
        return "" if entry.mode == known.mode else f"has mode {entry.mode:04o}, not {known.mode:04o}"
    if known.mode & 0o100 and not entry.mode & 0o111:
        return f"has mode {entry.mode:04o} and cannot be executed"
    if entry.mode & 0o002 and not known.mode & 0o002:
        return f"has mode {entry.mode:04o}: anybody may write to it"
    return ""


def _foreign_folders(
    unclaimed: Sequence[str], manifest: Manifest, known: Contents, keep: Keep
) -> dict[str, tuple[str, ...]]:
    """Folders directly in root that hold neither anything of the release nor anything that the site file names."""
    if not known:
        return {}
    settings = [one.file for one in keep.merged]
    ours = {path.split("/", 1)[0] for path in (*known, *settings)}
    for kind in ("data", "logs", "assets", "addons", "keys", "licences"):
        ours |= {path.split("/", 1)[0] for path in getattr(keep, kind)}
    found: dict[str, list[str]] = {}
    for path in unclaimed:
        top, _, below = path.partition("/")
        if below and top not in ours and manifest[top].kind is Kind.FOLDER:
            found.setdefault(top, []).append(path)
    return {top: tuple(paths) for top, paths in found.items()}


def explain_leftovers(
    classes: FileClasses, manifest: Manifest, older: Mapping[str, Mapping[str, str]]
) -> dict[str, str]:
    """Which added files are what an older release had, untouched, and which release that was."""
    found = {}
    for path in (*classes.added, *(one for paths in classes.foreign.values() for one in paths)):
        for version, what in older.get(path, {}).items():
            if what in ("", content_of(manifest[path])):
                found[path] = version
                break
    return found


def with_leftovers(classes: FileClasses, leftover: Mapping[str, str]) -> FileClasses:
    """The same with left-over files told from added ones."""
    foreign = {top: tuple(p for p in paths if p not in leftover) for top, paths in classes.foreign.items()}
    fields = {name: getattr(classes, name) for name in FileClasses.__dataclass_fields__}
    fields["added"] = tuple(path for path in classes.added if path not in leftover)
    fields["foreign"] = {top: paths for top, paths in foreign.items() if paths}
    return FileClasses(**{**fields, "leftover": dict(leftover)})


def without(classes: FileClasses, generated: Sequence[str]) -> FileClasses:
    """The same, but for files of the release that it has itself written again or removed since: nobody's edits."""
    if not generated:
        return classes
    edited, missing = (
        tuple(one for one in paths if not within(one, generated)) for paths in (classes.edited, classes.missing)
    )
    turned, rights = (
        {path: why for path, why in found.items() if not within(path, generated)}
        for found in (classes.turned, classes.rights)
    )
    return replace(classes, edited=edited, missing=missing, turned=turned, rights=rights)


def kind_kept(path: str, keep: Keep) -> str:
    """Under which key of `[keep]` a path falls, data folders aside; nothing where it is not the site's own."""
    if any(path == one.file for one in keep.merged):
        return "settings"
    for kind in _KEPT_KINDS:
        if within(path, getattr(keep, kind)):
            return kind
    return ""
