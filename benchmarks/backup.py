"""Archiving and reading back many files, against tar, zstd and sha256sum.

Run: .venv/bin/python benchmarks/backup.py [--files N] [--mib N] [--runs N]

Wanted: archive with a digest of every file at most 1.25 times `tar | zstd -T0 -3`, reading back at most 1.25 times
`zstd -dc | sha256sum`, memory at most 300 MiB.
"""

from __future__ import annotations

import argparse
import io
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

ARCHIVE = """
import resource, sys
from pathlib import Path
from yellow_ladder.files.archives.write import TreeSource, write_archive
from yellow_ladder.files.listing import write_listing
from yellow_ladder.files.manifest import keep_all
archived = write_archive(Path(sys.argv[2]), [TreeSource("root", Path(sys.argv[1]), keep_all)])
write_listing(Path(sys.argv[2] + ".jsonl"), archived.trees["root"].values())
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""
READ_BACK = """
import resource, sys
from pathlib import Path
from yellow_ladder.backup.catalog import read_manifest
from yellow_ladder.backup.reading import read_through
read_through(Path(sys.argv[1]), read_manifest(Path(sys.argv[1] + ".jsonl")), {})
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def make_files(folder: Path, count: int, mib: int) -> None:
    """Files of many sizes: half of them as pictures are, which do not compress, half of them text, which does by 3."""
    source = random.Random(11)
    mean = mib * 1024 * 1024 // count
    text = make_text(source, 48 * 1024 * 1024)
    for n in range(count):
        path = folder / f"{n % 200:03d}" / f"file-{n:06d}"
        path.parent.mkdir(exist_ok=True)
        size = int(source.expovariate(1 / mean)) + 1
        start = source.randrange(len(text) - size)
        path.write_bytes(source.randbytes(size) if n % 2 else text[start : start + size])


def make_text(source: random.Random, size: int) -> bytes:
    """Text in an invented language: 20,000 words, the n-th of them 1/n as frequent as the first, numbers in between."""
    letters = "etaoinshrdlucmfwypvbgkjqxz"
    weights = [1 / (place + 2) for place in range(len(letters))]
    words = ["".join(source.choices(letters, weights, k=source.randint(2, 11))) for _ in range(20_000)]
    often = [1 / (place + 1) for place in range(len(words))]
    text = io.BytesIO()
    while text.tell() < size:
        chosen = source.choices(words, often, k=5_000)
        for at in range(0, len(chosen), 12):
            text.write(f"{' '.join(chosen[at : at + 12])}; {source.randrange(10**6)}\n".encode())
    return text.getvalue()


def run_ours(code: str, *words: object) -> int:
    done = subprocess.run([sys.executable, "-c", code, *map(str, words)], check=True, capture_output=True, text=True)
    return int(done.stdout)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--mib", type=int, default=1_600)
    parser.add_argument("--runs", type=int, default=5)
    chosen = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="backup-"))
    try:
        tree = folder / "tree"
        tree.mkdir()
        make_files(tree, chosen.files, chosen.mib)
        compare(tree, folder / "ours.tar.zst", folder / "theirs.tar.zst", chosen.runs)
    finally:
        shutil.rmtree(folder)


def compare(tree: Path, ours: Path, theirs: Path, runs: int) -> None:
    """Each of ours between two of the others; nobody writes over an archive, and the files are in memory."""
    by_hand = f"tar -cf - -C {tree.parent} {tree.name} | zstd -q -T0 -3 -o {theirs}"
    read_by_hand = f"zstd -dcq {theirs} | sha256sum > /dev/null"
    largest = 0

    def by_hand_anew() -> float:
        theirs.unlink(missing_ok=True)
        return timed(lambda: subprocess.run(["sh", "-c", by_hand], check=True))

    def archive() -> None:
        nonlocal largest
        largest = run_ours(ARCHIVE, tree, ours)

    def read_back() -> None:
        nonlocal largest
        largest = run_ours(READ_BACK, ours)

    by_hand_anew()
    archives, readings = [], []
    for _ in range(runs):
        before = by_hand_anew()
        ours.unlink(missing_ok=True)
        taken = timed(archive)
        floor = (before + by_hand_anew()) / 2
        archives.append(taken / floor)
        print(f"archive    {taken:5.1f} s, tar | zstd {floor:5.1f} s: {taken / floor:.2f}; {largest} MiB")
        before = timed(lambda: subprocess.run(["sh", "-c", read_by_hand], check=True))
        taken = timed(read_back)
        floor = (before + timed(lambda: subprocess.run(["sh", "-c", read_by_hand], check=True))) / 2
        readings.append(taken / floor)
        print(f"read back  {taken:5.1f} s, zstd | sha256sum {floor:5.1f} s: {taken / floor:.2f}; {largest} MiB")
    print(f"median     archive {median(archives):.2f}, read back {median(readings):.2f}")
    print(f"size       {ours.stat().st_size / theirs.stat().st_size:.3f} of what tar | zstd wrote")


if __name__ == "__main__":
    main()
