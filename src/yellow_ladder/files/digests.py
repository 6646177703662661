"""SHA-256, for what others check with tools of their own: releases as they are published, backups as they lie there.

What is only compared here, the contents of trees, is digested with BLAKE3 (`manifest.digest_file`): on a processor
without instructions for SHA-256 that takes a tenth of the time.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from threading import Event

_BLOCK_BYTES = 1024 * 1024


def sha256_of(location: str | Path, stop: Event | None = None, passed: Callable[[int], None] | None = None) -> str:
    """SHA-256 of a file's bytes, in hex; of no use once it was told to stop. `passed` is told of each block."""
    digest = hashlib.sha256()
    with Path(location).open("rb", buffering=0) as stream:
        while (block := stream.read(_BLOCK_BYTES)) and not (stop and stop.is_set()):
            digest.update(block)
            if passed:
                passed(len(block))
    return digest.hexdigest()


@contextmanager
def sha256_beside(location: Path) -> Iterator[Callable[[], str]]:
    """Digest a file beside the work of the block, on another core; what it gives waits for the digest. Leaving the
    block by an error ends it.
    """
    stop = Event()
    with ThreadPoolExecutor(1) as pool:
        try:
            yield pool.submit(sha256_of, location, stop).result
        finally:
            stop.set()
