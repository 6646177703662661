"""The journal: append only, every line chained to the one before and synced before anything follows from it.

A line is a JSON object with `chain`, the SHA-256 of the chain before it and of the line's other fields; the first
chain is the digest of the frozen plan. A last line that a power cut left unfinished is dropped; any other line that
does not fit was altered, and is refused.
"""

from __future__ import annotations

import errno
import hashlib
import json
import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Any

from yellow_ladder.durable import sync_folder
from yellow_ladder.errors import BadInput, Problem

JOURNAL_NAME = "journal.jsonl"


class What(StrEnum):
    """What a record says."""

    BEGIN = "begin"
    DONE = "done"
    FAILED = "failed"
    TURN = "turn"
    AGAIN = "again"
    ACCEPT = "accept"
    ADJUST = "adjust"
    END = "end"


@dataclass(frozen=True, slots=True)
class JournalRecord:
    """One line: what happened to which step, when, and the facts learnt."""

    number: int
    at: str
    what: What
    step: str
    facts: Mapping[str, Any] = field(default_factory=dict)


class Instant(StrEnum):
    """Where a record stands with regard to the disk; tests end the program there."""

    BEFORE = "before"
    AFTER = "after"


OnAppend = Callable[[Instant, JournalRecord], None]


def ignore(_instant: Instant, _record: JournalRecord) -> None:
    """Watch nothing."""


class Journal:
    """A journal open for appending."""

    def __init__(self, path: Path, first_chain: str, on_append: OnAppend = ignore) -> None:
        """Read what is there (raises BadInput when it was altered) and drop a torn last line."""
        self.path = path
        self._on_append = on_append
        self.records, self._chain, kept_bytes = read_journal(path, first_chain)
        if path.exists() and path.stat().st_size != kept_bytes:
            os.truncate(path, kept_bytes)

    def append(self, what: What, step: str, at: str, facts: Mapping[str, Any] | None = None) -> JournalRecord:
        """Write one record and return when it will survive a power cut.

        Raises OSError when it cannot be written (a full disk); the journal is then as it was before.
        """
        record = JournalRecord(len(self.records) + 1, at, what, step, facts or {})
        self._on_append(Instant.BEFORE, record)
        body = _body(record)
        chain = _link(self._chain, body)
        line = json.dumps({**body, "chain": chain}) + "\n"
        _append_whole(self.path, line.encode())
        self.records.append(record)
        self._chain = chain
        self._on_append(Instant.AFTER, record)
        return record


def _append_whole(path: Path, line: bytes) -> None:
    """Append a line and sync it; what a full disk let through of it is taken back."""
    is_new = not path.exists()
    # One write of the whole line: a reader sees it or does not.
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW, 0o600)
    try:
        before = os.fstat(descriptor).st_size
        try:
            if os.write(descriptor, line) != len(line):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
            os.fsync(descriptor)
        except OSError:
            os.ftruncate(descriptor, before)
            raise
    finally:
        os.close(descriptor)
    if is_new:
        sync_folder(path.parent)


def _body(record: JournalRecord) -> dict[str, Any]:
    return {
        "n": record.number, "at": record.at, "what": str(record.what), "step": record.step, "facts": dict(record.facts),
    }  # fmt: skip


def _link(chain: str, body: Mapping[str, Any]) -> str:
    # The same bytes from every JSON library: the chain is to be checked without this tool, too.
    canonical = json.dumps(body, sort_keys=True, ensure_ascii=True, separators=(",", ":"))
    return hashlib.sha256(f"{chain}\n{canonical}".encode()).hexdigest()


def read_journal(path: Path, first_chain: str) -> tuple[list[JournalRecord], str, int]:
    """The records, the last chain, and how many bytes are sound. Raises BadInput when a line was altered."""
    raw = path.read_bytes() if path.exists() else b""
    records: list[JournalRecord] = []
    chain, sound = first_chain, 0
    lines = [line + b"\n" for line in raw.split(b"\n")]
    lines[-1] = lines[-1][:-1]
    for number, line in enumerate(filter(None, lines), start=1):
        if not line.endswith(b"\n") or not line.strip(b"\0\n"):
            if sound + len(line) < len(raw):
                raise _altered(path, number)
            break  # torn by a power cut: it was never acted upon
        record, chain = _parse(path, number, line, chain)
        records.append(record)
        sound += len(line)
    return records, chain, sound


def _parse(path: Path, number: int, line: bytes, chain: str) -> tuple[JournalRecord, str]:
    try:
        body = json.loads(line)
        claimed = body.pop("chain")
        link = _link(chain, body)
        if link != claimed or body["n"] != number:
            raise _altered(path, number)
        return JournalRecord(number, body["at"], What(body["what"]), body["step"], body["facts"]), link
    except (ValueError, KeyError, TypeError, AttributeError) as fault:
        raise _altered(path, number) from fault


def _altered(path: Path, number: int) -> BadInput:
    text = f"line {number} of the journal {path} was altered: it does not fit the line before it or the plan"
    remedy = (
        "nothing was done; put the original file back. The backup of the climb can be restored by hand: docs/formats.md"
    )
    return BadInput(Problem("journal-altered", text, remedy, f"{path}:{number}"))
