"""Where paths of an older tree lie in a newer one."""

from __future__ import annotations

from collections.abc import Sequence

from yellow_ladder.files.entry import within
from yellow_ladder.release.sheet import Move


def moved(path: str, moves: Sequence[Move]) -> str:
    """Where a path of the old tree lies in the new one."""
    for move in moves:
        if within(path, [move.from_]):
            return move.to + path[len(move.from_) :]
    return path
