"""What files as such cost: trees of small files, archived, read back, climbed over, verified and gone back from.

Run: .venv/bin/python benchmarks/many_files.py [--files N]... [--bytes N] [--only archive|climb] [--folder DIR]
     [--libraries]

With --libraries, files lie as those of packages do: thirty to a folder, deep below long names, with a time of 1985.

References, in the same run: `tar | zstd -T0 -3` for archiving, `zstd -dc | tar -t` for reading back, and one
`find -printf` of the tree (path, size, times, inode, mode, owner) for everything that looks at every file.
The window of a climb that copied first is told without its steps for databases and services.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

PROGRAM = str(Path(sys.executable).parent / "yl")
A_FOLDER = 500
# What the site is closed for, but for databases and services.
OPENING, CLOSING = "open", "close"
NOT_FILES = ("backup-database", "clone", "rung-migrate", "start", "stop", "back-start", "back-stop", "back-database")


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def fill_libraries(folder: Path, count: int, size: int) -> None:
    for number in range(count):
        if number % 30 == 0:
            below = folder / f"node_modules/some-library-of-the-harbour-{number // 30:05}/lib/of/many/folders/below"
            below.mkdir(parents=True)
        file = below / f"a-rather-long-name-of-a-module-{number:07}.js"
        file.write_bytes((b"%08d" % number * (size // 8 + 1))[:size])
        os.utime(file, (499_162_500, 499_162_500))


def fill(folder: Path, count: int, size: int) -> None:
    block = os.urandom(64 * 1024) + b"The harbour master's log says: fair, wind from the west. " * 400
    for number in range(count):
        if number % A_FOLDER == 0:
            below = folder / f"{number // A_FOLDER // 100:03}" / f"{number // A_FOLDER % 100:02}"
            below.mkdir(parents=True)
        start = number * 7919 % (len(block) - min(size, 4096))
        content = (b"%08d" % number + block[start : start + min(size, 4096)] * (size // 4096 + 1))[:size]
        with (below / f"scan-{number:08}.txt").open("wb") as stream:
            stream.write(content)


def shell(command: str) -> float:
    return timed(
        lambda: subprocess.run(["bash", "-c", f"set -o pipefail; {command}"], check=True, stdout=subprocess.DEVNULL)
    )


def archive(root: Path, scratch: Path) -> None:
    reference = shell(f"tar -C '{root.parent}' -cf - '{root.name}' | zstd -q -T0 -3 -o '{scratch}/reference.tar.zst'")
    listed = shell(f"zstd -dc '{scratch}/reference.tar.zst' | tar -t")
    looked = shell(f"find '{root}' -printf '%p %s %T@ %C@ %i %m %U %G\\n'")
    own = json.loads(subprocess.check_output([sys.executable, __file__, "--archive-only", str(root), str(scratch)]))
    print(f"  tar | zstd {reference:.2f} s, zstd | tar -t {listed:.2f} s, find {looked:.2f} s")
    print(f"  archive    {own['archive']:6.2f} s  {own['archive'] / reference:5.2f} of tar | zstd   (wanted 4)")
    print(f"  read back  {own['read_back']:6.2f} s  {own['read_back'] / listed:5.2f} of zstd | tar -t (wanted 8)")
    print(f"  largest process {own['peak']:.0f} MiB", flush=True)


def archive_only(root: Path, scratch: Path) -> None:
    """In a process of its own, whose memory is told."""
    import resource

    from yellow_ladder.backup.reading import read_through
    from yellow_ladder.files.archives.write import TreeSource, write_archive
    from yellow_ladder.files.listing import Listing, in_order, write_listing
    from yellow_ladder.files.manifest import keep_all

    def write() -> None:
        archived = write_archive(scratch / "own.tar.zst", [TreeSource("root", root, keep_all)])
        write_listing(scratch / "own.jsonl", in_order(archived.trees["root"]))

    def read() -> None:
        read_through(scratch / "own.tar.zst", Listing.opened(scratch / "own.jsonl"))

    taken = {"archive": timed(write), "read_back": timed(read)}
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({**taken, "peak": peak}))
    for name in ("own.tar.zst", "own.jsonl", "reference.tar.zst"):
        (scratch / name).unlink()


def called(folder: Path, *words: str) -> tuple[float, float]:
    """Seconds, and the largest process in MiB."""
    started = time.perf_counter()
    child = subprocess.Popen([PROGRAM, *words], cwd=folder, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    assert child.returncode == 0, words
    return time.perf_counter() - started, usage.ru_maxrss / 1024


def steps_of(folder: Path) -> dict[str, float]:
    journal = next((folder / ".ladder" / "climbs").glob("*/journal.jsonl"))
    records = [json.loads(line) for line in journal.read_text().splitlines()]
    return {one["step"]: one["facts"].get("took_s", 0.0) for one in records if one["what"] == "done"}


def window(steps: dict[str, float], first: str, last: str) -> float:
    names = list(steps)
    inside = names[names.index(first) : names.index(last) + 1]
    return sum(steps[name] for name in inside if not name.startswith(NOT_FILES))


def climb(folder: Path, count: int, size: int) -> None:
    subprocess.run([PROGRAM, "demo", str(folder), "--prepare-only"], check=True, stdout=subprocess.DEVNULL)
    fill(folder / "quaybook" / "uploads" / "more", count, size)
    site = folder / "ladder.toml"
    site.write_text(site.read_text() + '\n[backup]\nfirst_copy = "always"\n')
    time.sleep(2.5)  # what was written in the last seconds is read again
    looked = shell(f"find '{folder / 'quaybook'}' -printf '%p %s %T@ %C@ %i %m %U %G\\n'")
    print(f"  find {looked:.2f} s")
    peaks = []
    for words in (("survey",), ("survey",), ("check",), ("climb", "--to", "4.0", "--yes"), ("verify",)):
        taken, peak = called(folder, *words)
        peaks.append(peak)
        print(f"  {words[0]:<8} {taken:6.2f} s  {peak:.0f} MiB", flush=True)
    closed = window(steps_of(folder), CLOSING, OPENING)
    print(f"  window   {closed:6.2f} s  {closed / looked:.2f} of find (wanted 2)")
    for number in range(10):
        (folder / "quaybook" / "uploads" / "more" / "000" / "00" / f"scan-{number:08}.txt").write_text("changed")
    taken, peak = called(folder, "descend", "--yes")
    peaks.append(peak)
    print(f"  descend  {taken:6.2f} s  {taken / looked:.2f} of find (wanted 4)  {peak:.0f} MiB")
    slow = {step: seconds for step, seconds in steps_of(folder).items() if seconds > looked / 10}
    print("  ", ", ".join(f"{step} {seconds:.2f}" for step, seconds in slow.items()))
    print(f"  largest process {max(peaks):.0f} MiB (wanted 300)", flush=True)
    subprocess.run([PROGRAM, "demo", "--remove", str(folder)], check=True, stdout=subprocess.DEVNULL)


def main() -> None:
    if sys.argv[1:2] == ["--archive-only"]:
        archive_only(Path(sys.argv[2]), Path(sys.argv[3]))
        return
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", action="append", type=int)
    parser.add_argument("--bytes", type=int, default=600)
    parser.add_argument("--only", choices=("archive", "climb"))
    parser.add_argument("--libraries", action="store_true")
    parser.add_argument("--folder", type=Path, default=None)
    given = parser.parse_args()
    scratch = Path(tempfile.mkdtemp(prefix="ladder-benchmark-", dir=given.folder))
    try:
        for count in given.files or (10_000, 100_000, 1_000_000):
            print(f"{count:,} files of {given.bytes:,} bytes", flush=True)
            if given.only != "climb":
                (fill_libraries if given.libraries else fill)(scratch / "tree", count, given.bytes)
                archive(scratch / "tree", scratch)
                shutil.rmtree(scratch / "tree")
            if given.only != "archive":
                climb(scratch / "site", count, given.bytes)
    finally:
        shutil.rmtree(scratch)


if __name__ == "__main__":
    main()
