"""Dump, load and quick clone of a server's database, against the server's own programs called by hand.

Run: .venv/bin/python benchmarks/ways_back.py [postgresql|mariadb] [--mib N] [--runs N]

On a private server. Wanted: dump and load at most 1.1 times what the server's own parallel programs take by themselves;
going back by clone at most 0.1 of loading the dump.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import random
import resource
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from statistics import median
from typing import Any

from yellow_ladder.database import open_database, parse_address
from yellow_ladder.demo.prepare import free_port
from yellow_ladder.demo.servers import NAME, USER, PrivateServer, fill_server, make_database, make_server, remove_server

JOBS = str(os.cpu_count() or 1)
ROW_BYTES = 220


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def rows(mib: int) -> Iterator[tuple[str, int, Iterator[tuple[Any, ...]]]]:
    """Owners with long texts, enough of them for so many MiB of tables."""
    source = random.Random(7)
    words = ["fairlead", "mizzen", "lanyard", "halyard", "brisling", "garbord", "Käthe", "mole", "quay", "slip"]

    def owners() -> Iterator[tuple[Any, ...]]:
        for n in range(1, mib * 1024 * 1024 // ROW_BYTES):
            street = " ".join(source.choices(words, k=12))
            yield n, f"owner {n}", f"owner{n}@quaybook.example", None, street, words[n % 10], "1000", f"{n * 7919:064x}"

    yield "owners", 8, owners()


def run(argv: list[str], server: PrivateServer, **more: Any) -> None:
    env = {**os.environ, "PGPASSWORD": server.password, "MYSQL_PWD": server.password}
    subprocess.run(argv, check=True, env=env, **more)


def by_hand(server: PrivateServer, folder: Path) -> dict[str, float]:
    """The server's own programs, as an administrator would call them."""
    target = folder / "by-hand"
    if server.engine == "postgresql":
        where = ["-h", "127.0.0.1", "-p", str(server.port), "-U", USER]
        dump = timed(lambda: run(["pg_dump", *where, "-Fd", "-j", JOBS, "-Z1", "-f", str(target), NAME], server))
        make_database(server, "by_hand")
        load = timed(lambda: run(["pg_restore", *where, "-j", JOBS, "-d", "by_hand", str(target)], server))
        shutil.rmtree(target)
        run(["dropdb", *where, "by_hand"], server)
        return {"dump": dump, "load": load}
    where = ["-h", "127.0.0.1", "-P", str(server.port), "-u", USER]
    shell = f"mariadb-dump {' '.join(where)} --single-transaction --hex-blob {NAME} | zstd -1 -T0 -q -o {target}"
    dump = timed(lambda: run(["sh", "-c", shell], server))
    make_database(server, "by_hand")
    load = timed(lambda: run(["sh", "-c", f"zstd -dcq {target} | mariadb {' '.join(where)} by_hand"], server))
    target.unlink()
    run(["mariadb", *where, "-e", "DROP DATABASE by_hand"], server)
    return {"dump": dump, "load": load}


def measure(engine: str, mib: int, runs: int) -> None:
    folder = Path(tempfile.mkdtemp(prefix="ways-back-"))
    server = make_server(engine, free_port())
    try:
        make_database(server)
        filling = multiprocessing.Process(target=lambda: fill_server(server, rows(mib)))  # its memory is not ours
        filling.start()
        filling.join()
        secret = folder / "password"
        secret.touch(mode=0o600)
        secret.write_text(server.password)
        database = open_database(parse_address("main", server.url(), folder, password_file="password"))
        print(f"{engine}: {database.probe()}, {database.size_bytes() / 1024**2:,.0f} MiB")
        copy = folder / f"copy.{database.ending}"
        details = database.details()

        def dump() -> None:
            with database.backed_up(copy, lambda _done, _total: None, at_rest=True):
                pass

        ratios: dict[str, list[float]] = {"dump": [], "load": [], "back": []}
        for _ in range(runs):
            first = by_hand(server, folder)
            ours = {"dump": timed(dump), "load": timed(lambda: database.restore_from(copy, details))}
            second = by_hand(server, folder)
            for what, seconds in ours.items():
                reference = (first[what] + second[what]) / 2
                ratios[what].append(seconds / reference)
                pair = f"{first[what]:.1f} and {second[what]:.1f} s by hand"
                print(f"  {what:<12} {seconds:6.1f} s, {pair}: ratio {ratios[what][-1]:.2f}", flush=True)
            made = timed(lambda: database.make_clone(folder / "clone"))
            back = timed(lambda: database.return_to_clone(folder / "clone", details))
            database.drop_clone(folder / "clone")
            ratios["back"].append(back / ours["load"])
            print(
                f"  clone        {made:6.1f} s to make, {back:.2f} s to return to: {ratios['back'][-1]:.3f} of loading"
            )
            copy.unlink() if copy.is_file() else shutil.rmtree(copy)
        dumps, loads, returns = (median(found) for found in ratios.values())
        print(f"  median       dump {dumps:.2f}, load {loads:.2f}, back by the clone {returns:.3f} of loading")
        print(f"  largest process of ours {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MiB")
    finally:
        remove_server(server)
        shutil.rmtree(folder)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("engine", nargs="?", choices=["postgresql", "mariadb"])
    parser.add_argument("--mib", type=int, default=600)
    parser.add_argument("--runs", type=int, default=3)
    chosen = parser.parse_args()
    for engine in [chosen.engine] if chosen.engine else ["postgresql", "mariadb"]:
        measure(engine, chosen.mib, chosen.runs)


if __name__ == "__main__":
    main()
