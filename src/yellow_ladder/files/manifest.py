"""Trees as they are walked, what a tree holds, entry by entry, and how two trees differ."""

from __future__ import annotations

import contextlib
import operator
import os
import stat
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import NamedTuple

from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.files.attributes import Attributes, read_attributes
from yellow_ladder.files.entry import Entry, Kind, Manifest, changed, entry_from
from yellow_ladder.files.listing import Listing, in_order, side_by_side
from yellow_ladder.files.looking import digest_of

Skip = Callable[[str], bool]


def keep_all(_path: str) -> bool:
    """Skip nothing."""
    return False


class Found(NamedTuple):
    """An entry of a walk: its whole path, what the file system says of it, and its name in the open folder it is in.

    The folder stays open until the walk is asked for the next entry.
    """

    location: str
    status: os.stat_result
    folder: int
    name: str

    def opened(self) -> int:
        """The file, open for reading; raises OSError, also where it is none any more."""
        return nolinks.open_regular_in(self.folder, self.name, self.location)


def with_what_is_below(skip: Skip) -> Skip:
    """As `skip`, of a path by itself: one below what it drops is dropped, too."""
    known: dict[str, bool] = {}

    def is_dropped(path: str) -> bool:
        folder = path.rpartition("/")[0]
        if folder and folder not in known:
            known[folder] = is_dropped(folder)
        return skip(path) or bool(folder and known[folder])

    return is_dropped


def walk_tree(root: Path, skip: Skip = keep_all, called: str = "") -> Iterator[tuple[str, Found]]:
    """Every entry below `root` as (tree path, what was found), folders before what they hold, names in byte order.

    Links are never followed, also not where one takes a folder's place meanwhile. `skip` drops an entry with everything
    below it. Where `root` is itself `called` something, like `/srv/berths`, paths begin with that.
    """
    top = f"{called}/" if called else ""
    pending = [(top, str(root))]
    while pending:
        prefix, folder = pending.pop()
        below = []
        with contextlib.ExitStack() as held:
            try:
                descriptor, found = held.enter_context(nolinks.folder_with_entries(folder))
            except (FileNotFoundError, NotADirectoryError, nolinks.LinkInTheWay):
                if prefix == top:
                    raise
                continue  # it went between listing and looking
            entries = _in_byte_order([entry for entry in found if not skip(prefix + entry.name)])
            for name, status in _statuses(entries):
                yield prefix + name, Found(f"{folder}/{name}", status, descriptor, name)
                if stat.S_ISDIR(status.st_mode):
                    below.append((f"{prefix}{name}/", f"{folder}/{name}"))
        pending.extend(reversed(below))


def _in_byte_order(entries: list[os.DirEntry[str]]) -> list[os.DirEntry[str]]:
    if all(entry.name.isascii() for entry in entries):
        entries.sort(key=_name_of)
    else:
        entries.sort(key=lambda entry: os.fsencode(entry.name))
    return entries


_name_of = operator.attrgetter("name")


def _statuses(entries: list[os.DirEntry[str]]) -> Iterator[tuple[str, os.stat_result]]:
    """Names and their status, all of a folder at a time, without what went away between listing and looking."""
    try:
        return iter([(entry.name, entry.stat(follow_symlinks=False)) for entry in entries])
    except FileNotFoundError:
        return _of_those_still_there(entries)


def _of_those_still_there(entries: Iterable[os.DirEntry[str]]) -> Iterator[tuple[str, os.stat_result]]:
    for entry in entries:
        with contextlib.suppress(FileNotFoundError):
            yield entry.name, entry.stat(follow_symlinks=False)


def digest_file(location: str | Path) -> str:
    """BLAKE3 of a file's content, in hex; a link is not followed."""
    return digest_of(nolinks.open_regular(location))


def take_manifest(
    root: Path,
    skip: Skip = keep_all,
    *,
    known: Manifest | None = None,
    with_digests: bool = True,
) -> Manifest:
    """Describe every entry below `root`, in the order of a walk; what is long is kept beside memory."""
    return Listing.of(look_at(root, skip, known=known, with_digests=with_digests))


def look_at(
    root: Path, skip: Skip = keep_all, *, known: Manifest | None = None, with_digests: bool = True
) -> Iterator[Entry]:
    """Every entry below `root`, in the order of a walk.

    A file that `known` holds with the same inode, size and ctime is not read again: nobody can have written to
    it in between, since the kernel sets ctime and no program can choose it. Extended attributes are looked at where
    `known` holds them.
    """
    links = HardLinks()
    earlier = (known or {}).get
    for path, found in walk_tree(root, skip):
        yield describe_found(path, found, earlier(path), links, with_digests=with_digests)


def describe_found(
    path: str, found: Found, seen: Entry | None, links: HardLinks, *, with_digests: bool = True
) -> Entry:
    """The entry of what a walk found; what is as it was `seen` is not read again."""
    entry = entry_from(path, found.status, found.location)
    is_untouched = seen is not None and entry.untouched_since(seen)
    digest, attributes = "", seen.attributes if seen is not None else None
    if attributes is not None and not is_untouched:
        attributes = _attributes_of(found)
    if entry.kind is Kind.FILE:
        if found.status.st_nlink > 1:
            entry = links.mark(entry, found)
        if with_digests:
            is_known = is_untouched and seen is not None and seen.digest
            digest = seen.digest if is_known and seen else digest_of(found.opened(), found.status.st_size)
    return changed(entry, digest=digest, attributes=attributes) if digest or attributes is not None else entry


def _attributes_of(found: Found) -> Attributes | None:
    """What is found at a place now; None where something else has come there meanwhile."""
    try:
        return read_attributes(found.location)
    except (FileNotFoundError, nolinks.LinkInTheWay):
        return None


class HardLinks:
    """Remembers files with several names, so that the second name is known as the same file."""

    def __init__(self) -> None:
        """Start with no name known."""
        self._first: dict[tuple[int, int], str] = {}

    def mark(self, entry: Entry, found: Found) -> Entry:
        """The entry, with `same_as` set when an earlier path of this walk is the same file."""
        status = found.status
        if entry.kind is not Kind.FILE or status.st_nlink < 2:
            return entry
        first = self._first.setdefault((status.st_dev, status.st_ino), entry.path)
        return entry if first == entry.path else changed(entry, same_as=first)


class FileChange(StrEnum):
    """How an entry of one tree stands in another."""

    ADDED = "added"
    MISSING = "missing"
    CONTENT = "content"
    RIGHTS = "rights"


@dataclass(frozen=True, slots=True)
class Difference:
    """One path that differs between a tree expected and a tree found."""

    path: str
    change: FileChange


def differences(expected: Manifest, found: Manifest) -> Iterator[tuple[Difference, Entry | None, Entry | None]]:
    """Every path whose presence, content, owner, group, mode or extended attributes differ, with what was expected and
    what was found, in the order of a walk; times are not compared.
    """
    return differing(side_by_side(expected, found))


Pairs = Iterable[tuple[Entry | None, Entry | None]]


def differing(pairs: Pairs) -> Iterator[tuple[Difference, Entry | None, Entry | None]]:
    """The same of pairs of what was expected and what was found."""
    for old, new in pairs:
        if old is new:
            continue
        if old is None:
            if new is not None:
                yield Difference(new.path, FileChange.ADDED), None, new
        elif new is None:
            yield Difference(old.path, FileChange.MISSING), old, None
        elif not old.same_content(new):
            yield Difference(old.path, FileChange.CONTENT), old, new
        elif not old.same_rights(new):
            yield Difference(old.path, FileChange.RIGHTS), old, new


def compare_manifests(expected: Manifest, found: Manifest) -> list[Difference]:
    """Every path whose presence, content, owner, group or mode differs, in path order; times are not compared."""
    return sorted((one for one, _, _ in differences(expected, found)), key=lambda one: one.path)


class TreeSum:
    """One BLAKE3 over paths, kinds, contents, owners and modes of entries in order, and how many files and links they
    are: two trees agree in it or differ somewhere.
    """

    def __init__(self) -> None:
        """Begin with nothing."""
        self._digest = blake3()
        self._lines: list[str] = []
        self.files = 0

    def add(self, one: Entry) -> None:
        """Take the next entry."""
        rights = "" if one.kind is Kind.LINK else f"{one.mode:o}"
        self._lines.append(
            f"{one.path}\0{one.kind.value}\0{rights}\0{one.uid}\0{one.gid}\0{one.digest}\0{one.target}\n"
        )
        self.files += one.kind is not Kind.FOLDER
        if len(self._lines) == _LINES_AT_ONCE:
            self._flush()

    def _flush(self) -> None:
        self._digest.update("".join(self._lines).encode("utf-8", "surrogateescape"))
        self._lines.clear()

    def digest(self) -> str:
        """The digest of all that was taken, in hex."""
        self._flush()
        return self._digest.hexdigest()


_LINES_AT_ONCE = 1000


def tree_sum(manifest: Manifest) -> TreeSum:
    """The sum of a whole manifest."""
    found = TreeSum()
    for entry in in_order(manifest):
        found.add(entry)
    return found


def tree_digest(manifest: Manifest) -> str:
    """The digest of a whole manifest."""
    return tree_sum(manifest).digest()


def count_files(manifest: Manifest) -> int:
    """Files and links of a manifest."""
    return sum(entry.kind is not Kind.FOLDER for entry in in_order(manifest))
