"""Puts a staged tree in the place of root and back, so that a kill between any two renames can be gone on from.

Nothing is remembered between calls: which tree is where is read from inode numbers, which a rename keeps.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from yellow_ladder.durable import private_folder, sync_folder
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.exchange import exchange_in_one_instant, inode_of

Exchange = Callable[[Path, Path], bool]


def put_in_place(
    root: Path, incoming: Path, inode: int, outgoing: Path, exchange: Exchange = exchange_in_one_instant
) -> bool:
    """Make the tree with `inode`, which lies at `incoming`, the root; the old tree ends at `outgoing`.

    Returns whether the kernel did it in one instant. Raises AnswerNo when neither place holds the tree.
    """
    private_folder(outgoing.parent)
    in_one_instant = True
    if inode_of(root) != inode:
        if inode_of(incoming) != inode:
            text = f"the tree that should become {root} is not at {incoming} any more"
            raise AnswerNo(Problem("tree-gone", text, "go back with `yl descend`", str(incoming)))
        if not inode_of(root):
            incoming.rename(root)  # killed between two renames: root had gone aside
        elif not exchange(root, incoming):
            in_one_instant = False
            root.rename(outgoing)
            sync_folder(outgoing.parent)
            incoming.rename(root)
        sync_folder(root.parent)
        sync_folder(incoming.parent)
    if inode_of(incoming):
        incoming.rename(outgoing)
        sync_folder(outgoing.parent)
    return in_one_instant


def move_folders(pairs: Sequence[tuple[Path, Path]]) -> int:
    """Rename each (source, target); a pair that was renamed before is left alone. Returns how many were renamed now.

    Raises AnswerNo when both names exist: then nobody knows which is the site's.
    """
    count = 0
    for source, target in pairs:
        if not os.path.lexists(source):
            continue
        if os.path.lexists(target):
            text = f"both {source} and {target} are there, and only one should be"
            raise AnswerNo(Problem("two-folders", text, "look which one is the site's, remove the other", str(target)))
        source.rename(target)
        sync_folder(target.parent)
        sync_folder(source.parent)
        count += 1
    return count
