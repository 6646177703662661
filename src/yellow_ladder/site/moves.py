"""Follows moved paths in a site file's text."""

from __future__ import annotations

import functools
from collections.abc import Mapping
from typing import Any

import tomlkit

_LISTS = ("templates", "data", "logs", "assets", "addons", "keys", "licences", "caches", "left_out")


def moved_text(text: str, moves: Mapping[str, str]) -> str:
    """The site file's text with every moved path of the tree replaced, under `[keep]`, `[[versions]]`, `[[checks]]`
    and `[maintenance.setting]`; the rest untouched.
    """
    return _moved_text(text, tuple(moves.items()))


@functools.lru_cache(maxsize=32)
def _moved_text(text: str, pairs: tuple[tuple[str, str], ...]) -> str:
    moves = dict(pairs)
    document = tomlkit.parse(text)
    keep: Any = document.get("keep", {})
    for name in _LISTS:
        paths = keep.get(name, [])
        for place, path in enumerate(list(paths)):
            if path in moves and (name != "caches" or "/" in path):  # of caches, others are patterns of names
                paths[place] = moves[path]
    for check in document.get("checks", []):
        if check.get("files_in") in moves:
            check["files_in"] = moves[check["files_in"]]
    setting: Any = document.get("maintenance", {}).get("setting", {})
    for table in [*keep.get("settings", []), *keep.get("replaced", []), *document.get("versions", []), setting]:
        if table.get("file") in moves:
            table["file"] = moves[table["file"]]
    return tomlkit.dumps(document)
