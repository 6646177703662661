"""A climb's own time and memory on the demonstration site, against what copying and reading it costs anyway.

Run: .venv/bin/python benchmarks/climb.py [--rows N] [--runs N] [--folder DIR]

Reference: `cp -a` of the tree, `.backup` by the sqlite3 program, and reading every row of every table once.
Own time: the whole `yl climb` but the SQL of the migrations. The wanted ratio is at most 3, memory at most 300 MiB.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from yellow_ladder.demo.prepare import stop_site
from yellow_ladder.site.site import load_site

PROGRAM = str(Path(sys.executable).parent / "yl")


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def read_every_table(database: Path) -> None:
    connection = sqlite3.connect(database)
    for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
        cursor = connection.execute(f'SELECT * FROM "{name}"')
        while cursor.fetchmany(20_000):
            pass
    connection.close()


def reference(root: Path, scratch: Path) -> dict[str, float]:
    database = root / "data" / "quaybook.sqlite"
    copy = scratch / "copy"
    found = {
        "cp -a": timed(lambda: subprocess.run(["cp", "-a", root, copy], check=True)),
        ".backup": timed(lambda: subprocess.run(["sqlite3", database, f".backup '{scratch}/b'"], check=True)),
        "read tables": timed(lambda: read_every_table(database)),
    }
    shutil.rmtree(copy)
    (scratch / "b").unlink()
    return found


def climb(folder: Path) -> tuple[float, float, float]:
    """Seconds in all, seconds of migrations, and the largest process in MiB."""
    started = time.perf_counter()
    child = subprocess.Popen([PROGRAM, "climb", "--to", "4.0", "--yes", "--json"], cwd=folder, stdout=subprocess.PIPE)
    assert child.stdout
    answer = json.loads(child.stdout.read())
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    taken = time.perf_counter() - started
    assert answer["result"]["proof"]["whole"], answer
    journal = next((folder / ".ladder" / "climbs").glob("*/journal.jsonl"))
    records = [json.loads(line) for line in journal.read_text().splitlines()]
    done = {record["step"]: record["facts"].get("took_s", 0.0) for record in records if record["what"] == "done"}
    for step, seconds in done.items():
        if seconds >= 0.2:
            print(f"    {step:<24} {seconds:6.2f} s")
    return taken, sum(value for step, value in done.items() if step.startswith("rung-migrate:")), usage.ru_maxrss / 1024


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--folder", type=Path, default=None)
    given = parser.parse_args()
    scratch = Path(tempfile.mkdtemp(prefix="ladder-benchmark-", dir=given.folder))
    ratios, peaks = [], []
    for run in range(given.runs):
        folder = scratch / f"site-{run}"
        # In a process of its own: a child's peak counts what its parent held when it was born.
        prepare = [PROGRAM, "demo", str(folder), "--prepare-only", "--rows", str(given.rows)]
        subprocess.run(prepare, check=True, stdout=subprocess.DEVNULL)
        site = load_site(folder / "ladder.toml")
        os.sync()  # what making the site left unwritten is no part of either
        # Before and after the climb, since the machine's speed drifts while it runs.
        first = reference(folder / "quaybook", scratch)
        taken, migrations, peak = climb(folder)
        second = reference(folder / "quaybook", scratch)
        before = {name: (first[name] + second[name]) / 2 for name in first}
        stop_site(site)
        size = (folder / "quaybook" / "data" / "quaybook.sqlite").stat().st_size / 1024**2
        shutil.rmtree(folder)
        total = sum(before.values())
        ratios.append((taken - migrations) / total)
        peaks.append(peak)
        parts = ", ".join(f"{name} {seconds:.2f}" for name, seconds in before.items())
        print(f"run {run + 1}: {given.rows:,} bookings, database {size:,.0f} MiB")
        print(f"  reference {total:.2f} s ({parts})")
        print(f"  climb {taken:.2f} s, of it migrations {migrations:.2f} s; own {taken - migrations:.2f} s")
        print(f"  ratio {ratios[-1]:.2f}, largest process {peak:,.0f} MiB", flush=True)
    scratch.rmdir()
    print(f"median ratio {statistics.median(ratios):.2f} (wanted: 3), memory {max(peaks):,.0f} MiB (wanted: 300)")


if __name__ == "__main__":
    main()
