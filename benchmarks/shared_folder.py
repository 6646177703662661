"""What foreign files in a shared folder cost: the window of the same climb without them and with many.

Run: .venv/bin/python benchmarks/shared_folder.py [--files N] [--folder DIR]

The demonstration in a folder shared with another program, climbed once with no more than that program's few files and
once with N more of them (100,000), in one run. Told is the time between closing and opening, and whether any of the
foreign files was touched: inode, times, owner and mode of each.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
from datetime import datetime
from pathlib import Path

from yellow_ladder.demo.prepare import prepare_demo, start_site, stop_site
from yellow_ladder.site.site import load_site

PROGRAM = str(Path(sys.executable).parent / "yl")


def add_foreign(folder: Path, count: int) -> None:
    for number in range(count):
        place = folder / f"{number // 500:04}"
        if not number % 500:
            place.mkdir()
        (place / f"reading-{number:06}.csv").write_text(f"hour,level\n0,{number % 410}\n")


def marks(folder: Path) -> list[tuple[str, int, int, int, int, int, int]]:
    found = []
    for top, _, names in os.walk(folder):
        for name in names:
            path = os.path.join(top, name)
            one = os.lstat(path)
            found.append((path, one.st_ino, one.st_mtime_ns, one.st_ctime_ns, one.st_uid, one.st_gid, one.st_mode))
    return sorted(found)


def window(journal: Path) -> float:
    at: dict[tuple[str, str], datetime] = {}
    for line in journal.read_text().splitlines():
        record = json.loads(line)
        at[record["what"], record["step"]] = datetime.fromisoformat(record["at"])
    return (at["done", "open"] - at["begin", "close"]).total_seconds()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=100_000)
    parser.add_argument("--folder", type=Path)
    given = parser.parse_args()
    base = Path(tempfile.mkdtemp(prefix="quay-shared-", dir=given.folder))
    took: dict[int, float] = {}
    try:
        for count in (0, given.files):
            demo = prepare_demo(base / str(count), rows=2_000, shape="shared")
            other = demo.folder / "quaybook" / "tidewatch"
            (other / "archive").mkdir()
            add_foreign(other / "archive", count)
            before = marks(other)
            start_site(demo.load())
            subprocess.run([PROGRAM, "climb", "--to", "4.0", "--yes", "--json"], cwd=demo.folder, check=True,
                           stdout=subprocess.DEVNULL)  # fmt: skip
            took[count] = window(next(demo.folder.glob(".ladder/climbs/*/journal.jsonl")))
            touched = sum(one != two for one, two in zip(before, marks(other), strict=True))
            print(f"{len(before):>9,} foreign files: window {took[count]:.2f} s, {touched} of them touched")
            stop_site(load_site(demo.file))
        print(f"ratio of the windows: {took[given.files] / took[0]:.2f}")
    finally:
        shutil.rmtree(base)


if __name__ == "__main__":
    main()
