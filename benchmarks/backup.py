"""Archiving and reading back many files, against tar, zstd and sha256sum.

Run: .venv/bin/python benchmarks/backup.py [--files N] [--mib N] [--runs N]

Wanted: archive with a digest of every file at most 1.25 times `tar | zstd -T0 -3`, reading back at most 1.25 times
`zstd -dc | sha256sum`, memory at most 300 MiB.
"""

from __future__ import annotations

import argparse
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

ARCHIVE = """
import resource, sys
from pathlib import Path
from yellow_ladder.files.archive_write import TreeSource, write_archive
from yellow_ladder.files.manifest import keep_all
write_archive(Path(sys.argv[2]), [TreeSource("root", Path(sys.argv[1]), keep_all)])
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""
READ_BACK = """
import resource, sys
from pathlib import Path
from yellow_ladder.backup.files import members_of
from yellow_ladder.files.manifest import digest_file
members_of(Path(sys.argv[1]))
digest_file(sys.argv[1])
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024)
"""


def timed(work: Callable[[], object]) -> float:
    started = time.perf_counter()
    work()
    return time.perf_counter() - started


def make_files(folder: Path, count: int, mib: int) -> None:
    """Files of many sizes, half of them as good as incompressible."""
    source = random.Random(11)
    mean = mib * 1024 * 1024 // count
    words = b"berth boat quay mole slip tide fog horn light " * 4000
    for n in range(count):
        path = folder / f"{n % 200:03d}" / f"file-{n:06d}"
        path.parent.mkdir(exist_ok=True)
        size = int(source.expovariate(1 / mean)) + 1
        start = source.randrange(100_000)
        content = source.randbytes(size) if n % 2 else (words[start:] * (size // len(words[start:]) + 1))[:size]
        path.write_bytes(content)


def run_ours(code: str, *words: object) -> int:
    done = subprocess.run([sys.executable, "-c", code, *map(str, words)], check=True, capture_output=True, text=True)
    return int(done.stdout)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--mib", type=int, default=1_600)
    parser.add_argument("--runs", type=int, default=3)
    chosen = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="backup-"))
    try:
        tree = folder / "tree"
        tree.mkdir()
        make_files(tree, chosen.files, chosen.mib)
        ours, theirs = folder / "ours.tar.zst", folder / "theirs.tar.zst"
        by_hand = ["sh", "-c", f"tar -cf - -C {folder} tree | zstd -q -T0 -3 -f -o {theirs}"]
        subprocess.run(by_hand, check=True)  # the files are in memory for everybody
        pipe = ["sh", "-c", f"zstd -dcq {theirs} | sha256sum > /dev/null"]

        def read_by_hand() -> None:
            subprocess.run(pipe, check=True)

        everything = f"find {tree} -type f -print0; printf '%s\\0' {theirs}"
        digest_by_hand = ["sh", "-c", f"({everything}) | xargs -0 -P2 -n 500 sha256sum > /dev/null"]

        for _ in range(chosen.runs):
            reference = [timed(lambda: subprocess.run(by_hand, check=True))]
            ours.unlink(missing_ok=True)
            largest = 0

            def archive() -> None:
                nonlocal largest
                largest = run_ours(ARCHIVE, tree, ours)

            taken = timed(archive)
            reference.append(timed(lambda: subprocess.run(by_hand, check=True)))
            floor = sum(reference) / 2
            digests = timed(lambda: subprocess.run(digest_by_hand, check=True))
            print(f"digests    {digests:5.1f} s of every file and of the archive, by sha256sum in two processes")
            print(f"archive    {taken:5.1f} s, tar | zstd {floor:5.1f} s: {taken / floor:.2f}; {largest} MiB")
            reference = [timed(read_by_hand)]

            def read_back() -> None:
                nonlocal largest
                largest = run_ours(READ_BACK, ours)

            taken = timed(read_back)
            reference.append(timed(read_by_hand))
            floor = sum(reference) / 2
            print(f"read back  {taken:5.1f} s, zstd | sha256sum {floor:5.1f} s: {taken / floor:.2f}; {largest} MiB")
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
