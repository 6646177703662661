"""What tables as such cost: the demonstration site with thousands of them, against the engine's own dump and load.

Run: .venv/bin/python benchmarks/many_tables.py [--engine ENGINE]... [--tables N]... [--folder DIR]

Every table has six columns, an index and two rows. For each command the whole time is told; of a climb and a descent
also what is left when the server's own dump and load of the same database, measured in the same run, are taken off, and
the SQL of the migrations.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psycopg
import pymysql

from yellow_ladder.demo.prepare import server_below, stop_site
from yellow_ladder.demo.servers import NAME, USER, PrivateServer, remove_server
from yellow_ladder.site.site import load_site

PROGRAM = str(Path(sys.executable).parent / "yl")
COLUMNS = (
    "id {key} PRIMARY KEY, name VARCHAR(80) NOT NULL, note VARCHAR(200),"
    " amount INTEGER, made VARCHAR(20), state INTEGER"
)
KEYS = {"sqlite": "INTEGER", "postgresql": "bigint", "mariadb": "BIGINT"}


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def connect(engine: str, folder: Path, server: PrivateServer | None) -> Any:
    if server is None:
        return sqlite3.connect(folder / "quaybook" / "data" / "quaybook.sqlite", isolation_level=None)
    given: dict[str, Any] = {"host": "127.0.0.1", "port": server.port, "user": USER, "password": server.password}
    if engine == "postgresql":
        return psycopg.connect(dbname=NAME, autocommit=True, **given)
    return pymysql.connect(database=NAME, autocommit=True, **given)


def add_tables(engine: str, folder: Path, server: PrivateServer | None, count: int) -> None:
    connection = connect(engine, folder, server)
    cursor = connection.cursor()
    cursor.execute("BEGIN")
    for number in range(count):
        name = f"ledger_{number:05}"
        cursor.execute(f"CREATE TABLE {name} ({COLUMNS.format(key=KEYS[engine])})")
        cursor.execute(f"CREATE INDEX {name}_state ON {name} (state)")
        cursor.execute(f"INSERT INTO {name} VALUES (1, 'berth', NULL, 3, '2026-01-02', 1), (2, 'crane', 'x', 4, '', 2)")
        if number % 200 == 199:
            cursor.execute("COMMIT")
            cursor.execute("BEGIN")
    cursor.execute("COMMIT")
    connection.close()


def called(folder: Path, *words: str) -> tuple[float, dict[str, Any], float]:
    """Seconds, the answer, and the largest process in MiB."""
    started = time.perf_counter()
    child = subprocess.Popen([PROGRAM, *words, "--json"], cwd=folder, stdout=subprocess.PIPE)
    assert child.stdout
    answer = json.loads(child.stdout.read())
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    assert child.returncode in (0, 1), answer
    return time.perf_counter() - started, answer, usage.ru_maxrss / 1024


def steps_of(folder: Path) -> dict[str, float]:
    journal = next((folder / ".ladder" / "climbs").glob("*/journal.jsonl"))
    records = [json.loads(line) for line in journal.read_text().splitlines()]
    return {one["step"]: one["facts"].get("took_s", 0.0) for one in records if one["what"] == "done"}


def own_dump_and_load(engine: str, folder: Path, server: PrivateServer | None) -> tuple[float, float]:
    """Seconds that the engine's own means take to dump the database, and to load it."""
    if server is None:
        database, copy = folder / "quaybook" / "data" / "quaybook.sqlite", folder / "copy.sqlite"
        dump = timed(lambda: subprocess.run(["sqlite3", database, f".backup '{copy}'"], check=True))
        load = timed(lambda: subprocess.run(["cp", copy, folder / "again.sqlite"], check=True))
        (folder / "again.sqlite").unlink()
        copy.unlink()
        return dump, load
    environment = {**os.environ, "PGPASSWORD": server.password, "MYSQL_PWD": server.password}
    at = ["-h", "127.0.0.1", "--port", str(server.port)]

    def run(*words: object, **options: Any) -> None:
        subprocess.run([str(word) for word in words], check=True, env=environment, **options)

    target = folder / "own-dump"
    if engine == "postgresql":
        dump = timed(lambda: run("pg_dump", *at, "-U", USER, "-Fd", "-j2", "-Z1", "-f", target, NAME))
        run("createdb", *at, "-U", USER, "loaded")
        load = timed(lambda: run("pg_restore", *at, "-U", USER, "-j2", "-d", "loaded", target))
        run("dropdb", *at, "-U", USER, "loaded")
        shutil.rmtree(target)
        return dump, load
    with target.open("wb") as stream:
        dump = timed(lambda: run("mariadb-dump", *at, "-u", USER, "--single-transaction", NAME, stdout=stream))
    run("mariadb", *at, "-u", USER, "-e", "CREATE DATABASE quaybook_loaded")
    with target.open("rb") as source:
        load = timed(lambda: run("mariadb", *at, "-u", USER, "quaybook_loaded", stdin=source))
    run("mariadb", *at, "-u", USER, "-e", "DROP DATABASE quaybook_loaded")
    target.unlink()
    return dump, load


def measure(engine: str, count: int, scratch: Path) -> None:
    folder = scratch / f"{engine}-{count}"
    words = [PROGRAM, "demo", str(folder), "--prepare-only", "--engine", engine]
    subprocess.run(words, check=True, stdout=subprocess.DEVNULL)
    server = server_below(folder)
    try:
        add_tables(engine, folder, server, count)
        dump, load = own_dump_and_load(engine, folder, server)
        print(f"{engine}, {count:,} tables; the engine's own dump {dump:.2f} s, load {load:.2f} s")
        peaks = []
        for command in (("survey",), ("check",), ("climb", "--to", "4.0", "--yes"), ("verify",), ("descend", "--yes")):
            taken, _, peak = called(folder, *command)
            peaks.append(peak)
            print(f"  {command[0]:<8} {taken:6.2f} s", end="")
            if command[0] in ("climb", "descend"):
                slow = {step: seconds for step, seconds in steps_of(folder).items() if seconds > 0.3}
                print("  ", ", ".join(f"{step} {seconds:.1f}" for step, seconds in slow.items()), end="")
            print(flush=True)
        print(f"  largest process {max(peaks):.0f} MiB")
        stop_site(load_site(folder / "ladder.toml"))
    finally:
        if server is not None:
            remove_server(server)
        shutil.rmtree(folder)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--engine", action="append", choices=KEYS)
    parser.add_argument("--tables", action="append", type=int)
    parser.add_argument("--folder", type=Path, default=None)
    given = parser.parse_args()
    scratch = Path(tempfile.mkdtemp(prefix="ladder-benchmark-", dir=given.folder))
    for engine in given.engine or KEYS:
        for count in given.tables or (10, 100, 5_000):
            measure(engine, count, scratch)
    scratch.rmdir()


if __name__ == "__main__":
    main()
