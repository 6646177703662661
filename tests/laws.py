"""How many examples a law is held against."""

from __future__ import annotations

import os


def examples(number: int) -> int:
    """So many in a whole sweep, and half in a usual run, which takes other ones each time."""
    return number if os.environ.get("YELLOW_LADDER_SWEEP") else max(1, number // 2)
