"""Where releases lie that have folders of their own, and which one is in use: read from the one thing turned over."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.versions import Version
from yellow_ladder.site.records import Pointer

LARGEST_BYTES = 1024**2


def folder_for(pointer: Pointer, version: str) -> str:
    """The tree path of a version's folder."""
    return pointer.releases.replace("{version}", version)


def pointed_at(root: Path, pointer: Pointer) -> str:
    """The tree path of the release in use; raises BadInput where the link is missing or leads anywhere else, or the
    file names no release, or several.
    """
    if pointer.file:
        return _named_in(root, pointer)
    link = root / pointer.link
    try:
        target = nolinks.target_of(link)
    except OSError as fault:
        text = f"the link {link} that leads to the release in use cannot be read: {fault.strerror}"
        raise BadInput(Problem("no-pointer", text, "correct pointer.link, or make it again", str(link))) from fault
    found = below_root(root, link, target)
    if found is None or found.rpartition("/")[0] != parent_of(pointer) or not nolinks.is_folder(root / found):
        text = f"the link {link} leads to {target}, which is no release's folder in {root / parent_of(pointer)}"
        raise BadInput(Problem("pointer-astray", text, "let it lead to the release in use", str(link)))
    return found


def _named_in(root: Path, pointer: Pointer) -> str:
    """The one release that a file names."""
    file = root / pointer.file
    try:
        text = read_regular(file, LARGEST_BYTES).decode()
    except (OSError, UnicodeDecodeError) as fault:
        why = fault.strerror if isinstance(fault, OSError) else "it is no UTF-8 text"
        text = f"the file {file} that names the release in use cannot be read: {why}"
        raise BadInput(Problem("no-pointer", text, "correct pointer.file", str(file))) from fault
    pattern = re.escape(pointer.releases).replace(re.escape("{version}"), r"[^/\s\"':;,]+")
    found: list[str] = sorted(set(re.findall(rf"(?<![\w.-]){pattern}", text)))
    if len(found) != 1 or not nolinks.is_folder(root / found[0]):
        told = f"names {' and '.join(found)}" if found else f"names no folder like {pointer.releases}"
        text = f"the file {file} {told}; it should name the one release in use"
        raise BadInput(Problem("pointer-astray", text, "let it name the release in use", str(file)))
    return found[0]


def below_root(root: Path, link: Path, target: str) -> str | None:
    """What a link says, as a tree path; None where it leads out of root. Only words are reckoned with, no disk."""
    parts: list[str] = []
    for part in (link.parent / target).parts:
        if part == "..":
            parts = parts[:-1]
        elif part != ".":
            parts.append(part)
    whole = Path(*parts)
    return str(whole.relative_to(root)) if whole.is_relative_to(root) and whole != root else None


def parent_of(pointer: Pointer) -> str:
    """The tree path of the folder that holds the releases' folders."""
    return pointer.releases.rpartition("/")[0]


def release_folders(root: Path, pointer: Pointer) -> Iterator[str]:
    """The tree path of every folder that lies where releases do, whatever it holds."""
    parent = parent_of(pointer)
    try:
        with nolinks.entries_of(root / parent) as entries:
            names = sorted(one.name for one in entries if one.is_dir(follow_symlinks=False))
    except OSError:
        return
    yield from (f"{parent}/{name}" for name in names)


def version_of(pointer: Pointer, path: str) -> Version | None:
    """The version whose folder a tree path is; None where it is none's."""
    pattern = re.escape(pointer.releases).replace(re.escape("{version}"), "(.+)")
    found = re.fullmatch(pattern, path)
    try:
        return Version(found.group(1)) if found else None
    except ValueError:
        return None


def said_by(root: Path, pointer: Pointer) -> str:
    """What is turned over says now: the link's target, or the whole text of the file. Raises OSError."""
    if pointer.file:
        return read_regular(root / pointer.file, LARGEST_BYTES).decode()
    return nolinks.target_of(root / pointer.link)


def turned(pointer: Pointer, said: str, old: str, new: str) -> str:
    """What a link says when it leads to `new` in place of `old`, both tree paths; `said` is what it says now, and stays
    but for the last name: relative or absolute. A file names the new one wherever it named the old one.
    """
    if pointer.file:
        return re.sub(rf"(?<![\w.-]){re.escape(old)}(?=[/\s\"':;,]|$)", lambda _: new, said)
    name = old.rpartition("/")[2]
    head, _, tail = said.rstrip("/").rpartition(name)
    return f"{head}{new.rpartition('/')[2]}{tail}"
