"""How long a route takes among 5,000 releases with ranges, stops, inner numbers and needs.

Run: .venv/bin/python benchmarks/route.py. Wanted: under a second.
"""

from __future__ import annotations

import time
from pathlib import Path

from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version
from yellow_ladder.route import Machine, Thing, find_route


def release(number: int) -> Release:
    major, minor, patch = number // 500, number // 20 % 25, number % 20
    version = f"{major}.{minor}.{patch}"
    reach = {"from": f">={major}.{max(0, minor - 3)},<{version}", "waypoint": False}
    if minor == 0 and major:
        reach = {"from": f">={max(0, major - 1)}.20,<{version}", "waypoint": f"{major}.0"}
    about: dict[str, object] = {"product": "quaybook", "version": version}
    about["withdrawn"] = "bad" if number % 97 == 5 else ""
    about["schema_number"] = number + (40 if patch == 19 else 0)  # the last patch of each line runs ahead inside
    needs = {"runtime": f">={max(1, major - 2)},<{major + 3}"}
    sheet = ReleaseSheet.model_validate({"format": 1, "release": about, "reach": reach, "needs": needs})
    return Release(sheet, Path(version), "")


def main() -> None:
    releases = [release(number) for number in range(1, 5001)]
    times = []
    for _ in range(5):
        started = time.perf_counter()
        route = find_route(Version("0.0.0"), None, releases, machine=Machine({Thing("runtime"): "1"}))
        times.append(time.perf_counter() - started)
    count, ways = f"{len(releases):,} releases", f"{len(route.rungs)} rungs and {len(route.landings)} landings"
    print(f"{count}, {ways} to {route.target}: median {sorted(times)[2]:.2f} s")


if __name__ == "__main__":
    main()
