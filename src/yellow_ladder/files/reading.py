"""Reads small files of a site without trusting what lies there: a pipe, device or endless file keeps nobody waiting."""

from __future__ import annotations

import errno
import os
from pathlib import Path

from yellow_ladder import nolinks

LARGEST_SMALL_FILE_BYTES = 16 * 1024**2


def read_regular(path: Path, most_bytes: int = LARGEST_SMALL_FILE_BYTES, *, cut: bool = False) -> bytes:
    """The content of a regular file of up to `most_bytes`; with `cut`, the beginning of a larger one.

    Links on the way are followed only where they belong to root or to this account: what another account could turn to
    any file would be read with the rights of root. Raises OSError for everything else: it is missing, it is a pipe,
    device, socket or folder, it is larger.
    """
    with os.fdopen(nolinks.open_regular(nolinks.trusted(path)), "rb") as stream:
        content = stream.read(most_bytes + 1)
    if len(content) > most_bytes and not cut:
        raise OSError(errno.EFBIG, f"it is larger than {most_bytes:,} bytes", str(path))
    return content[:most_bytes]
