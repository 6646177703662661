"""How long a route takes among 5,000 releases with ranges and stops.

Run: .venv/bin/python benchmarks/route.py. Wanted: under a second.
"""

from __future__ import annotations

import time
from pathlib import Path

from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version
from yellow_ladder.route import find_route


def release(number: int) -> Release:
    major, minor, patch = number // 500, number // 20 % 25, number % 20
    version = f"{major}.{minor}.{patch}"
    reach = {"from": f">={major}.{max(0, minor - 3)},<{version}", "stop": False}
    if minor == 0 and major:
        reach = {"from": f">={max(0, major - 1)}.20,<{version}", "stop": f"{major}.0"}
    about = {"product": "quaybook", "version": version, "withdrawn": "bad" if number % 97 == 5 else ""}
    return Release(ReleaseSheet.model_validate({"format": 1, "release": about, "reach": reach}), Path(version), "")


def main() -> None:
    releases = [release(number) for number in range(1, 5001)]
    times = []
    for _ in range(5):
        started = time.perf_counter()
        route = find_route(Version("0.0.0"), None, releases)
        times.append(time.perf_counter() - started)
    print(f"{len(releases):,} releases, {len(route.rungs)} rungs to {route.target}: median {sorted(times)[2]:.2f} s")


if __name__ == "__main__":
    main()
