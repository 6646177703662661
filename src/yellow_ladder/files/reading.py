"""Reads small files of a site without trusting what lies there: a pipe, device or endless file keeps nobody waiting."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

LARGEST_SMALL_FILE_BYTES = 16 * 1024**2


def read_regular(path: Path, most_bytes: int = LARGEST_SMALL_FILE_BYTES, *, cut: bool = False) -> bytes:
    """The content of a regular file of up to `most_bytes`; with `cut`, the beginning of a larger one.

    Raises OSError for everything else: it is missing, it is a pipe, device, socket or folder, it is larger.
    """
    # Without O_NONBLOCK, opening a pipe waits for its other end, and a terminal might become ours.
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    with os.fdopen(descriptor, "rb") as stream:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise OSError(errno.EINVAL, "it is not a regular file", str(path))
        content = stream.read(most_bytes + 1)
    if len(content) > most_bytes and not cut:
        raise OSError(errno.EFBIG, f"it is larger than {most_bytes:,} bytes", str(path))
    return content[:most_bytes]
