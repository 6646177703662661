"""A whole sweep takes hours: one that was broken off goes on where the very same files were tested before.

What has passed is kept under a digest of all files of the repository, so that any change begins anew, and so does a
sweep that has come to its end. What failed, or was not reached, is run.
"""

from __future__ import annotations

import hashlib
import json
import os
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

_KNOWN = "YELLOW_LADDER_PASSED_BEFORE"  # what all processes of a run leave out, as it was when the run began
_HERE = Path(__file__).parents[1]
_kept: list[Path] = []
_called: dict[str, list[Any]] = {}


def digest_of(root: Path) -> str:
    """Of the names and contents of all files that are in the repository, or could be."""
    told = subprocess.run(
        ["git", "ls-files", "-z", "--cached", "--others", "--exclude-standard"],
        cwd=root, capture_output=True, check=True,
    )  # fmt: skip
    total = hashlib.sha256()
    for name in sorted(told.stdout.split(b"\0")):
        path = root / os.fsdecode(name)
        if name and path.is_file():
            total.update(name + b"\0" + hashlib.sha256(path.read_bytes()).digest())
    return total.hexdigest()[:16]


def begin(root: Path = _HERE) -> None:
    """Know what has passed before; nothing where this is no whole sweep, or a worker of one."""
    if not os.environ.get("YELLOW_LADDER_SWEEP") or "PYTEST_XDIST_WORKER" in os.environ:
        return
    folder = root / ".sweep"
    folder.mkdir(exist_ok=True)
    _kept[:] = [folder / f"{digest_of(root)}.jsonl"]
    for other in folder.glob("*.jsonl"):
        if other != _kept[0]:
            other.unlink()
    known = folder / "known"
    known.write_bytes(_kept[0].read_bytes() if _kept[0].exists() else b"")
    os.environ[_KNOWN] = str(known)


def passed_before() -> Iterator[tuple[str, list[Any]]]:
    """Each test that passed in earlier runs of the same files, with what it recorded."""
    place = os.environ.get(_KNOWN, "")
    for line in Path(place).read_text().splitlines() if place else ():
        record = json.loads(line)
        yield record["test"], record["recorded"]


def leave_out(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Take out of a collection what need not be run."""
    known = {test for test, _ in passed_before()}
    left_out = [one for one in items if one.nodeid in known]
    if left_out:
        config.hook.pytest_deselected(items=left_out)
        items[:] = [one for one in items if one.nodeid not in known]


def pytest_runtest_logreport(report: pytest.TestReport) -> None:
    if not _kept or not report.passed:
        return
    if report.when == "call":
        _called[report.nodeid] = [list(one) for one in report.user_properties]
    elif report.when == "teardown" and report.nodeid in _called:
        with _kept[0].open("a") as kept:
            kept.write(json.dumps({"test": report.nodeid, "recorded": _called.pop(report.nodeid)}) + "\n")


def pytest_sessionfinish(session: pytest.Session, exitstatus: int) -> None:
    """A sweep of everything that has come to its end, and in which nothing failed, has nothing to go on with."""
    asked = session.config
    is_whole = asked.args_source is not pytest.Config.ArgsSource.ARGS and not (
        asked.option.keyword or asked.option.markexpr
    )
    if _kept and exitstatus == pytest.ExitCode.OK and is_whole:
        _kept[0].unlink(missing_ok=True)
