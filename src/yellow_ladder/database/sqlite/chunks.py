"""Rows in chunks of bounded memory."""

from __future__ import annotations

import sqlite3

from yellow_ladder.database.port import Chunk, UndecodableText

_CHUNK_ROWS, _CHUNK_BYTES = 4_000, 8 * 1024**2


def lenient_text(raw: bytes) -> str | bytes:
    """Text that is no UTF-8 is read as its bytes: such a row must be compared, not be the end of the reading."""
    try:
        return raw.decode()
    except UnicodeDecodeError:
        return raw


def fetch(cursor: sqlite3.Cursor, size: int) -> Chunk:
    """The next rows; raises UndecodableText where a text is no UTF-8."""
    try:
        return cursor.fetchmany(size)
    except sqlite3.OperationalError as fault:
        if "decode" in str(fault):  # the driver gives this fault no code of its own
            raise UndecodableText from fault
        raise


def next_size(chunk: Chunk) -> int:
    """How many rows to fetch next, so that a chunk stays within its bytes however wide the rows are."""
    sample = chunk[:: max(1, len(chunk) // 50)]
    heavy = sum(len(value) for row in sample for value in row if isinstance(value, str | bytes))
    width = heavy / len(sample) + 16 * len(sample[0])
    return max(1, min(_CHUNK_ROWS, int(_CHUNK_BYTES / width)))
