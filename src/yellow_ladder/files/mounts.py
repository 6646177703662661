"""What is mounted below a folder, as the kernel tells: a bind mount has the device of what lies around it."""

from __future__ import annotations

import os
import re
from pathlib import Path

_MOUNTS = Path("/proc/self/mountinfo")
_ESCAPE = re.compile(rb"\\([0-7]{3})")


def mounts_below(folder: Path) -> list[str]:
    """Paths below a folder, relative to it, where something is mounted; none where the system does not tell."""
    try:
        lines = _MOUNTS.read_bytes().splitlines()
    except OSError:
        return []
    top = folder.resolve()
    written = [line.split(b" ")[4] for line in lines if line.count(b" ") > 4]
    places = [_ESCAPE.sub(lambda one: bytes([int(one[1], 8)]), one) for one in written]
    found = [Path(os.fsdecode(one)) for one in places]
    return sorted({str(one.relative_to(top)) for one in found if top in one.parents})
