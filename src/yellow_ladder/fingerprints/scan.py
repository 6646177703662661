"""Reads tables and takes their fingerprints, large ones in several processes."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from typing import Any

from yellow_ladder.database import Database, DatabaseAddress, Span, Table, open_database
from yellow_ladder.database.columns import Column
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.database.port import CannotPack, Packed, UndecodableText
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.errors import AnswerNo, OwnFault, Problem
from yellow_ladder.fingerprints.hashing import (
    Hashes,
    Present,
    combine_keys,
    hash_column,
    hash_packed,
    hash_values,
    sum_column,
)
from yellow_ladder.fingerprints.records import ColumnSums, DatabasePrint, TablePrint, Ties
from yellow_ladder.memory import gathering_less

PARALLEL_FROM_ROWS = 100_000
# What is looked through, row by row, where one differs; all of them are kept with the fingerprint.
_ROWS_A_PIECE, _MOST_PIECES = 25_000, 2_048
# Below this, opening the file once more costs more than it saves.
_IN_BULK_FROM_ROWS = 5_000
OnRows = Callable[[int], None]


@dataclass(frozen=True, slots=True)
class Job:
    """A part of a table: the columns to read, and those of them (`key`) that tie the values to their row."""

    table: Table
    columns: tuple[str, ...]
    key: tuple[str, ...]
    span: Span | None
    rows: int  # about how many, for sharing out and for progress

    @property
    def unread(self) -> tuple[str, ...]:
        """Columns that are there and are not read."""
        return tuple(name for name in self.table.columns if name not in self.columns)

    def as_record(self) -> dict[str, Any]:
        """As JSON for a worker."""
        span = [self.span.low, self.span.high, self.span.column] if self.span else None
        table = [self.table.name, self.table.columns, self.table.key]
        return {"table": table, "columns": self.columns, "key": self.key, "span": span, "rows": self.rows}

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> Job:
        """Read what `as_record` gave."""
        name, columns, key = record["table"]
        span = Span(*record["span"]) if record["span"] else None
        table = Table(name, tuple(columns), tuple(key))
        return Job(table, tuple(record["columns"]), tuple(record["key"]), span, record["rows"])


@connections_kept()
def take_fingerprint(
    database: Database,
    ties: Ties | None = None,
    on_rows: OnRows | None = None,
    workers: int | None = None,
    only: Collection[str] | None = None,
    columns: Mapping[str, Collection[str]] | None = None,
) -> DatabasePrint:
    """Fingerprint every table, or `only` some. Without `ties`, tables are tied to their primary keys.

    Of tables in `columns`, these and the key are read, and where they are none, nothing but the number of rows. A table
    without a key is tied to the whole row. Memory stays bounded by one chunk for each process.
    """
    ties = ties or Ties()
    tables = [table for table in database.tables() if only is None or table.name in only]
    counts = database.count_all([table.name for table in tables])
    workers = 1 if database.reads_alone else (os.cpu_count() or 1) if workers is None else workers
    parts = workers if sum(counts.values()) >= PARALLEL_FROM_ROWS else 1
    jobs = []
    for table in tables:
        wanted, edges = ties.keys.get(table.name, ()), ties.edges.get(table.name, ())
        key = wanted if wanted and set(wanted) <= set(table.columns) else table.key or table.columns
        read = (columns or {}).get(table.name, table.columns)
        if not read:
            key = ()
        read = (*(one for one in table.columns if one in read), *(one for one in key if one not in read))
        rows = counts[table.name]
        is_large = read and (edges or rows >= PARALLEL_FROM_ROWS // 4)
        spans = database.spans(table.name, _pieces(rows, parts), edges) if is_large else [None]
        jobs += [Job(table, read, key, span, rows // len(spans)) for span in spans]
    found = _run_jobs(database, jobs, parts, on_rows)
    prints: dict[str, TablePrint] = {}
    for job, part in zip(jobs, found, strict=True):
        name = job.table.name
        if job.span is not None and job.key == (job.span.column,):
            part = part.as_piece(job.span.low)
        prints[name] = prints[name] + part if name in prints else part
    apart = database.kept_apart(ties.apart) if only is None and ties.apart is not None else {}
    return DatabasePrint(prints, database.objects(), database.positions(), apart)


def _pieces(rows: int, workers: int) -> int:
    """Into how many parts to cut a table, a multiple of the processes that share them."""
    return workers * max(1, min(_MOST_PIECES, rows // (workers * _ROWS_A_PIECE)))


def run_job(database: Database, job: Job, on_rows: OnRows | None = None) -> TablePrint:
    """Fingerprint one part of a table in this process, or have the server do it where it can."""
    if job.columns:
        fields = tuple(Field(name) for name in job.columns)
        summed = database.summed(Selection(fields, job.table.name), job.key, job.span)
        if summed is not None:
            if on_rows is not None:
                on_rows(summed.rows)
            return TablePrint.from_sums(summed, job.key, job.columns, job.unread)
    try:
        in_bulk = database.read_columns(job.table, job.columns, job.span) if job.rows >= _IN_BULK_FROM_ROWS else None
        if in_bulk is not None:
            with contextlib.suppress(CannotPack), gathering_less():
                return _read_columns(in_bulk, job, on_rows)
        packed = database.read_packed(job.table, job.columns, job.span) if job.columns else None
        if packed is not None:
            with contextlib.suppress(CannotPack), gathering_less():
                return _read_packed(packed, job, on_rows)
        with gathering_less():
            return _read_part(database, job, on_rows, lenient=False)
    except UndecodableText:
        return _read_part(database, job, None, lenient=True)


def _read_packed(pieces: Iterator[Packed], job: Job, on_rows: OnRows | None) -> TablePrint:
    """All or nothing: what was told of rows on the way is told once more where this gives up."""
    totals = dict.fromkeys(job.columns, ColumnSums())
    rows = 0
    for piece in pieces:
        hashed = dict(zip(job.columns, hash_packed(piece), strict=True))
        _add_sums(totals, hashed, job.key, piece.rows)
        rows += piece.rows
        if on_rows is not None:
            on_rows(piece.rows)
    return TablePrint(rows, job.key, totals, job.unread)


def _read_columns(chunks: Iterator[list[Column]], job: Job, on_rows: OnRows | None) -> TablePrint:
    """All or nothing, too."""
    totals = dict.fromkeys(job.columns, ColumnSums())
    rows = 0
    for chunk in chunks:
        hashed = {name: hash_column(column) for name, column in zip(job.columns, chunk, strict=True)}
        count = len(hashed[job.columns[0]][0])
        _add_sums(totals, hashed, job.key, count)
        rows += count
        if on_rows is not None:
            on_rows(count)
    return TablePrint(rows, job.key, totals, job.unread)


def _add_sums(
    totals: dict[str, ColumnSums], hashed: Mapping[str, tuple[Hashes, Present]], key: Sequence[str], count: int
) -> None:
    ties = combine_keys([hashed[name][0] for name in key], count)
    for name, (hashes, present) in hashed.items():
        totals[name] += sum_column(hashes, present, ties)


def _read_part(database: Database, job: Job, on_rows: OnRows | None, *, lenient: bool) -> TablePrint:
    columns = job.columns
    if not columns:
        return TablePrint(job.rows, (), {}, job.unread)
    totals = dict.fromkeys(columns, ColumnSums())
    rows = 0
    for chunk in database.read_rows(job.table, columns, job.span, lenient=lenient):
        hashed = {name: hash_values(values) for name, values in zip(columns, zip(*chunk, strict=True), strict=True)}
        _add_sums(totals, hashed, job.key, len(chunk))
        rows += len(chunk)
        if on_rows is not None:
            on_rows(len(chunk))
    return TablePrint(rows, job.key, totals, job.unread)


def _run_jobs(database: Database, jobs: Sequence[Job], workers: int, on_rows: OnRows | None) -> list[TablePrint]:
    """Share jobs out, the longest first, each to the process with the least; this one does the first share.

    Where the server does the work, connections share them, and no process is started.
    """
    if database.sums_itself():
        return _run_in_threads(database, jobs, workers, on_rows)
    shares: list[list[int]] = [[] for _ in range(max(1, workers))]
    loads = [0] * len(shares)
    for number in sorted(range(len(jobs)), key=lambda one: -jobs[one].rows):
        least = loads.index(min(loads))
        shares[least].append(number)
        loads[least] += jobs[number].rows
    helpers = [
        (share, _start_helper(database.address, [jobs[number] for number in share])) for share in shares[1:] if share
    ]
    found: dict[int, TablePrint] = {}
    try:
        for number in shares[0]:
            found[number] = run_job(database, jobs[number], on_rows)
        for share, helper in helpers:
            for number, part in zip(share, _collect(helper), strict=True):
                found[number] = part
                if on_rows is not None:
                    on_rows(part.rows)
    finally:
        for _, helper in helpers:
            helper.kill()
            helper.wait()
            if helper.stdout is not None:
                helper.stdout.close()
    return [found[number] for number in range(len(jobs))]


def _run_in_threads(database: Database, jobs: Sequence[Job], workers: int, on_rows: OnRows | None) -> list[TablePrint]:
    if workers <= 1:
        return [run_job(database, job, on_rows) for job in jobs]
    with ThreadPoolExecutor(workers) as pool:
        found = []
        try:
            for part in pool.map(partial(run_job, database), jobs):
                found.append(part)
                if on_rows is not None:
                    on_rows(part.rows)
        finally:
            pool.shutdown(cancel_futures=True)
    return found


def _start_helper(address: DatabaseAddress, jobs: Sequence[Job]) -> subprocess.Popen[bytes]:
    helper = subprocess.Popen(
        [sys.executable, "-m", "yellow_ladder.fingerprints.scan"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        start_new_session=True,  # Ctrl-C is for the run, which stops at a safe point
    )
    request = {"address": address.as_record(), "parent": os.getpid(), "jobs": [job.as_record() for job in jobs]}
    if helper.stdin is None:
        raise OwnFault(Problem("no-pipe", "a helper process has no input"))
    helper.stdin.write(json.dumps(request).encode())
    helper.stdin.close()
    helper.stdin = None
    return helper


def _collect(helper: subprocess.Popen[bytes]) -> list[TablePrint]:
    printed, _ = helper.communicate()
    if helper.returncode != 0:
        text = f"a process that read the database ended with {helper.returncode}"
        raise AnswerNo(Problem("reader-ended", text, "look for memory or disk trouble in the system's log, then go on"))
    return [TablePrint.from_record(record) for record in json.loads(printed)]


def _help() -> None:
    """Be a helper: take jobs from standard input, give fingerprints to standard output."""
    request = json.load(sys.stdin)
    database = open_database(DatabaseAddress.from_record(request["address"]))

    def end_with_parent(_rows: int) -> None:
        if os.getppid() != request["parent"]:
            sys.exit(1)  # the run was killed: do not hold the database any longer

    with connections_kept():
        parts = [run_job(database, Job.from_record(record), end_with_parent) for record in request["jobs"]]
    json.dump([part.as_record() for part in parts], sys.stdout)


if __name__ == "__main__":
    _help()
