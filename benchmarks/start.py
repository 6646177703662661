"""How fast the program starts: `yl --version` and `yl --help` against importing click and rich.

Run: .venv/bin/python benchmarks/start.py [RUNS]. The wanted ratio is at most 2.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path

PROGRAM = str(Path(sys.executable).parent / "yl")
COMMANDS = {
    "import click, rich": [sys.executable, "-c", "import click, rich"],
    "yl --version": [PROGRAM, "--version"],
    "yl --help": [PROGRAM, "--help"],
}


def seconds(argv: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(argv, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    for argv in COMMANDS.values():
        seconds(argv)
    # In turn, so that a machine that slows down slows all of them.
    taken: dict[str, list[float]] = {name: [] for name in COMMANDS}
    for _ in range(runs):
        for name, argv in COMMANDS.items():
            taken[name].append(seconds(argv))
    reference = taken["import click, rich"]
    for name, times in taken.items():
        ratio = statistics.median(one / other for one, other in zip(times, reference, strict=True))
        print(f"{name:<20} median {statistics.median(times) * 1000:6.0f} ms   ratio {ratio:.2f}")


if __name__ == "__main__":
    main()
