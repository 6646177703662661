"""Processes that keep old code: they have files loaded that have been replaced, removed or put aside since."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterator
from pathlib import Path

import psutil

from yellow_ladder.services.looking import Holder

_DELETED = " (deleted)"


def keeping_old_code(root: Path, put_aside: Collection[Path]) -> Iterator[Holder]:
    """Processes with a file loaded that lay below `root` and is gone, or that lies in one of the folders `put_aside`,
    as far as this account may see. Not this process.
    """
    for process in psutil.process_iter():
        if process.pid == os.getpid():
            continue
        try:
            old = _old_file(Path(f"/proc/{process.pid}/maps").read_bytes(), root, put_aside)
            if old:
                yield Holder(process.pid, process.name(), process.username(), f"has {old} loaded")
        except (OSError, psutil.Error):
            continue


def _old_file(raw: bytes, root: Path, put_aside: Collection[Path]) -> str:
    """The first file of a process's list of loaded ones that is old; nothing where none is. Pure."""
    aside = tuple(f"{folder}/" for folder in put_aside)
    if not any(os.fsencode(text) in raw for text in (f"{root}/", *aside)):
        return ""  # as nearly all processes, of which some have thousands of lines
    for line in raw.decode(errors="replace").splitlines():
        parts = line.split(maxsplit=5)
        path = parts[5] if len(parts) == 6 else ""
        if path.startswith(aside):
            return path.removesuffix(_DELETED)
        if path.endswith(_DELETED) and path.startswith(f"{root}/"):
            return path.removesuffix(_DELETED)
    return ""
