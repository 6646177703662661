"""A sweep that was broken off goes on, and never leaves out what has not passed on the same files."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

HOOKS = """
from pathlib import Path
from tests.going_on import begin, leave_out, pytest_runtest_logreport, pytest_sessionfinish
def pytest_configure(config):
    begin(Path(__file__).parent)
def pytest_collection_modifyitems(config, items):
    leave_out(config, items)
"""
TESTS = """
import os, pathlib, pytest
@pytest.mark.parametrize("part", range(3))
def test_part(part):
    with open(".ran", "a") as ran:
        ran.write(str(part))
    if part == 1 and not pathlib.Path(".well").exists():
        os._exit(9)
"""


def swept(folder: Path, *more: str) -> tuple[int, str]:
    """The exit code of a sweep of three parts, and which were run."""
    (folder / ".ran").unlink(missing_ok=True)
    kept = {name: value for name, value in os.environ.items() if not name.startswith(("YELLOW_LADDER", "PYTEST"))}
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *more],
        cwd=folder, capture_output=True, check=False,
        env={**kept, "YELLOW_LADDER_SWEEP": "1", "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1",
             "PYTHONPATH": str(Path(__file__).parents[1])},
    )  # fmt: skip
    return done.returncode, (folder / ".ran").read_text()


def test_what_has_passed_on_the_same_files_is_not_run_again(tmp_path: Path) -> None:
    subprocess.run(["git", "init", "-q", str(tmp_path)], check=True)
    (tmp_path / ".gitignore").write_text(".*\n__pycache__\n")
    (tmp_path / "conftest.py").write_text(HOOKS)
    (tmp_path / "test_parts.py").write_text(TESTS)
    assert swept(tmp_path) == (9, "01"), "as a power cut would"
    (tmp_path / ".well").touch()
    assert swept(tmp_path, "-k", "2") == (0, "2"), "some of it is no end"
    assert swept(tmp_path) == (0, "1"), "what was cut off"
    assert swept(tmp_path) == (0, "012"), "at its end it begins anew"
    (tmp_path / ".well").unlink()
    assert swept(tmp_path) == (9, "01")
    (tmp_path / ".well").touch()
    (tmp_path / "test_parts.py").write_text(TESTS + "\n# another file than that which was tested\n")
    assert swept(tmp_path) == (0, "012")
