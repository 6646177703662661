"""Fingerprints of a large table against reading it, what a contract tells of it, and finding the row that differs.

Run: .venv/bin/python benchmarks/fingerprints.py [sqlite|postgresql|mariadb] [--rows N] [--runs N] [--changed N]

References in the same run: every row drained by Python (SQLite), COPY to nowhere (PostgreSQL), the server's dump to
nowhere (MariaDB). Wanted: at most 1.0, 0.8 and 1.3 times these; one changed value found in a twentieth of comparing.
"""

from __future__ import annotations

import argparse
import os
import resource
import shutil
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median
from typing import Any

from yellow_ladder.database import Database, open_database, parse_address
from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.demo.prepare import free_port
from yellow_ladder.demo.servers import NAME, USER, PrivateServer, make_database, make_server, remove_server
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.narrowing import Look, find_rows, pairs_of
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.told import read_expected, readings
from yellow_ladder.release.contract import Contract

WORDS = ("fairlead", "mizzen", "lanyard", "Käthe", "mole", "quay", "slip", "halyard")
TABLE = "stays"
SHAPE = (
    "id integer PRIMARY KEY, guest varchar(80), note varchar(80), berth integer, nights integer, fee {},"
    " mark varchar(20), at varchar(20)"
)


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def row(n: int) -> tuple[Any, ...]:
    return (n, f"{WORDS[n % 8]} {n}", WORDS[n % 7] if n % 3 else None, n % 120, n % 30, n * 0.25, f"{n * 7919:x}",
            f"2026-{1 + n % 12:02}-{1 + n % 28:02}")  # fmt: skip


def sqlite(folder: Path, rows: int) -> tuple[Database, Database, Callable[[], object], None]:
    old, new = folder / "old.sqlite", folder / "new.sqlite"
    connection = sqlite3.connect(old)
    connection.execute(f"CREATE TABLE {TABLE} ({SHAPE.format('real')})")
    connection.executemany(f"INSERT INTO {TABLE} VALUES (?, ?, ?, ?, ?, ?, ?, ?)", map(row, range(rows)))
    connection.commit()
    connection.close()
    shutil.copy(old, new)

    def drain() -> None:
        reading = sqlite3.connect(old)
        for _ in reading.execute(f"SELECT * FROM {TABLE}"):
            pass
        reading.close()

    databases = [open_database(DatabaseAddress("main", "sqlite", path)) for path in (old, new)]
    return databases[0], databases[1], drain, None


def served(engine: str, rows: int, folder: Path) -> tuple[Database, Database, Callable[[], object], PrivateServer]:
    server = make_server(engine, free_port())
    os.environ["QUAYBOOK_PASSWORD"] = server.password
    databases = []
    for name in (NAME, f"{NAME}_new"):
        make_database(server, name)
        databases.append(open_database(parse_address("main", server.url(name), folder, "QUAYBOOK_PASSWORD")))
        _fill(server, name, rows)
    environment = {**os.environ, "PGPASSWORD": server.password, "MYSQL_PWD": server.password}
    where = ["-h", "127.0.0.1", "-P" if engine == "mariadb" else "-p", str(server.port)]
    argv = (
        ["mariadb-dump", *where, "-u", USER, NAME]
        if engine == "mariadb"
        else ["psql", *where, "-U", USER, "-d", NAME, "-c", f"COPY {TABLE} TO STDOUT"]
    )

    def drain() -> None:
        with Path(os.devnull).open("wb") as nowhere:
            subprocess.run(argv, check=True, env=environment, stdout=nowhere)

    return databases[0], databases[1], drain, server


def _fill(server: PrivateServer, name: str, rows: int) -> None:
    given: dict[str, Any] = {"host": "127.0.0.1", "port": server.port, "user": USER, "password": server.password}
    if server.engine == "postgresql":
        import psycopg

        with psycopg.connect(**given, dbname=name) as connection, connection.cursor() as cursor:
            cursor.execute(f"CREATE TABLE {TABLE} ({SHAPE.format('double precision')})".encode())
            with cursor.copy(f"COPY {TABLE} FROM STDIN".encode()) as copy:
                for number in range(rows):
                    copy.write_row(row(number))
        return
    import pymysql

    filling = pymysql.connect(**given, database=name, charset="utf8mb4")
    with filling.cursor() as cursor:
        cursor.execute(f"CREATE TABLE {TABLE} ({SHAPE.format('double')})")
        for start in range(0, rows, 20_000):
            marks = ", ".join(["%s"] * 8)
            cursor.executemany(
                f"INSERT INTO {TABLE} VALUES ({marks})", list(map(row, range(start, min(rows, start + 20_000))))
            )
        filling.commit()
    filling.close()


def hurt(database: Database, number: int) -> None:
    from yellow_ladder.database.port import LedgerEntry

    statement = f"UPDATE {TABLE} SET guest = upper(guest) WHERE id = {number}"
    database.apply([statement], LedgerEntry("hurt", "1", "0", "now"))


def hurt_many(database: Database, rows: int, changed: int) -> None:
    from yellow_ladder.database.port import LedgerEntry

    statement = f"UPDATE {TABLE} SET mark = upper(guest) WHERE id % {rows // changed} = 0"
    database.apply([statement], LedgerEntry("hurt many", "1", "0", "now"))


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("engine", nargs="?", default="sqlite", choices=["sqlite", "postgresql", "mariadb"])
    parser.add_argument("--rows", type=int, default=2_000_000)
    parser.add_argument("--runs", type=int, default=5)
    parser.add_argument("--changed", type=int, default=0, help="also find so many rows that differ")
    asked = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="quaybook-fingerprints-"))
    server = None
    try:
        made = sqlite(folder, asked.rows) if asked.engine == "sqlite" else served(asked.engine, asked.rows, folder)
        old, new, drain, server = made
        floors, prints, tolds, finds = [], [], [], []
        told = Contract.model_validate({"tables": [{"name": TABLE, "values": {"note": "upper(note)"}}]})
        for _ in range(asked.runs):
            floors.append(timed(drain))
            prints.append(timed(lambda: take_fingerprint(old)))
        base = take_fingerprint(old)
        wanted = readings(
            compose(base, [("2", told)]), base, asked.engine, lambda _table, query: old.query_columns(query)
        )
        tolds.append(timed(lambda: read_expected(old, wanted, [told], folder)))
        hurt(new, asked.rows // 2)
        same = compose(base, [])
        pair = pairs_of(base, take_fingerprint(new, same.ties(base)), same, [])[TABLE]
        look = Look(old, new, pair, folder / "rows.csv", (), time.monotonic() + 3600)
        finds.append(timed(lambda: find_rows(look, lambda: None)))
        floor = median(floors)
        print(f"{asked.engine}, {asked.rows:,} rows of 8 columns, median of {asked.runs}")
        print(f"reading it, by hand           {floor:8.2f} s")
        print(f"fingerprint                   {median(prints):8.2f} s  {median(prints) / floor:.2f}")
        print(f"what a contract tells of it   {tolds[0]:8.2f} s  {tolds[0] / floor:.2f}")
        print(f"the row that differs          {finds[0]:8.2f} s  {finds[0] / (2 * median(prints)):.2f} of comparing")
        if asked.changed:
            hurt_many(new, asked.rows, asked.changed)
            pair = pairs_of(base, take_fingerprint(new, same.ties(base)), same, [])[TABLE]
            look = Look(old, new, pair, folder / "many.csv", (), time.monotonic() + 3600)
            took = timed(lambda: find_rows(look, lambda: None))
            lines = sum(1 for _ in (folder / "many.csv").open())
            print(f"{asked.changed:,} rows that differ  {took:14.2f} s  {lines:,} lines of CSV")
        peak = max(resource.getrusage(who).ru_maxrss for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
        print(f"the largest process           {peak / 1024:8.0f} MiB")
    finally:
        if server is not None:
            remove_server(server)
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
