"""Files that change by themselves are told before a plan is made that could never hold."""

from __future__ import annotations

import os
import socket
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import Demo, run_program
from tests.sites import HEAD, SHEET
from yellow_ladder.site.moves import moved_text

WRITER = (
    "import sys, time\nwith open(sys.argv[1], 'a') as stream:\n    print('ready', flush=True)\n    time.sleep(600)\n"
)


@pytest.fixture
def write_to() -> Iterator[Callable[[Path], None]]:
    """Starts processes that keep a file open to write to."""
    started: list[subprocess.Popen[str]] = []

    def do(path: Path) -> None:
        one = subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True, cwd="/")
        started.append(one)
        assert one.stdout is not None
        one.stdout.readline()

    yield do
    for one in started:
        one.kill()
        one.communicate()


def stops(demo: Demo, code: int = 1) -> list[str]:
    found = demo.json("check", "--to", "3.0", code=code)["findings"]
    return [one["saw"] for one in found if one["level"] == "stop" and one["check"] == "restless files"]


def test_a_log_inside_the_tree_is_told_until_it_is_named(demo: Demo, write_to: Callable[[Path], None]) -> None:
    demo.edit("[keep]\n", '[keep]\nunclaimed = "carry"\n')
    log = demo.root / "office.log"
    write_to(log)
    write_to(demo.root / "uploads" / "being-sent.bin")
    (told,) = stops(demo)
    assert told.startswith("office.log is being written to by python")
    demo.edit("[keep]\n", '[keep]\nlogs = ["office.log"]\n')
    assert stops(demo, code=0) == []


def test_a_pid_file_and_a_socket_inside_the_tree_are_told_until_they_are_named(idle: Demo) -> None:
    idle.edit("[keep]\n", '[keep]\nunclaimed = "carry"\n')
    (idle.root / "office.pid").write_text(f"{os.getpid()}\n")
    (idle.root / "old.pid").write_text("999999999\n")
    with socket.socket(socket.AF_UNIX) as door:
        here = Path.cwd()
        os.chdir(idle.root)  # the name of a socket may not be long
        door.bind("door.sock")
        os.chdir(here)
        told = stops(idle)
        assert len(told) == 2
        assert told[0].startswith("door.sock is a socket")
        assert told[1].startswith("office.pid has the number of a running process")
        idle.edit("[keep]\n", '[keep]\ncaches = ["*.pid", "*.sock"]\n')
        assert stops(idle, code=0) == []


def test_a_cache_may_be_named_by_its_path(idle: Demo) -> None:
    """Another folder of that name is none, and what is in the cache is nobody's: not compared, and not taken away."""
    for folder in ("uploads/pages", "uploads/plans/pages"):
        (idle.root / folder).mkdir(parents=True)
        (idle.root / folder / "one").write_text("made at noon")
    idle.edit("[keep]\n", '[keep]\ncaches = ["__pycache__", "uploads/pages"]\n')
    idle.json("climb", "--to", "4.0", "--yes")
    (idle.root / "uploads" / "pages" / "one").write_text("made at dawn")
    assert not [one for one in idle.yl("verify", "--json").document["result"]["faults"] if "pages" in one]
    (idle.root / "uploads" / "plans" / "pages" / "one").unlink()
    told = idle.yl("verify", "--json").document["result"]["faults"]
    assert [one for one in told if "uploads/plans/pages/one: is missing" in one]
    idle.json("descend", "--yes")
    assert (idle.root / "uploads" / "pages" / "one").read_text() == "made at dawn"
    assert (idle.root / "uploads" / "plans" / "pages" / "one").read_text() == "made at noon"


@pytest.mark.parametrize("placement", ["exchange", "overlay"])
@pytest.mark.parametrize(
    ("named", "where"),
    [
        ("cache", "cache/pages"),
        ("*cache", "cache/pages"),
        ("cache/pages", "cache/pages"),
        ("none", "node_modules/.cache"),
    ],
)
def test_a_release_may_bring_what_is_a_cache_of_the_site(
    tmp_path: Path, placement: str, named: str, where: str
) -> None:
    """It comes where there is none, is none of what is compared, and is the site's again when going back."""
    for version in ("2.4", "2.6"):
        parts = [entry("VERSION", content=f"{version}\n".encode()), entry(f"{where}/empty", content=b"")]
        parts += [entry("code/cache/" + version, content=b"made beforehand")]
        (tmp_path / "releases").mkdir(exist_ok=True)
        write(tmp_path / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=SHEET.format(version).encode())
    pages = tmp_path / "app" / where
    pages.mkdir(parents=True)
    (pages / "empty").write_text("no more")
    (pages / "noon").write_text("made at noon")
    (tmp_path / "app" / "VERSION").write_text("2.4\n")
    said = HEAD.replace("[releases]", f'placement = "{placement}"\n[releases]')
    (tmp_path / "ladder.toml").write_text(f'{said}[keep]\ncaches = ["{named}"]\n')
    up = run_program("climb", "--yes", folder=tmp_path)
    assert up.code == 0, up.out + up.err
    assert (pages / "empty").exists()
    (pages / "empty").write_text("written since")
    assert run_program("verify", folder=tmp_path).code == 0
    down = run_program("descend", "--yes", folder=tmp_path)
    assert down.code == 0, down.out + down.err
    assert (pages / "noon").read_text() == "made at noon"
    assert placement == "overlay" or (pages / "empty").read_text() == "no more"


def test_the_path_of_a_cache_is_followed_where_a_release_moves_it_and_a_name_is_none() -> None:
    text = '[keep]\ncaches = ["pages", "static/pages", "*.sock"] # made anew\n'
    moves = {"static/pages": "public/pages", "pages": "public/other"}
    assert moved_text(text, moves) == '[keep]\ncaches = ["pages", "public/pages", "*.sock"] # made anew\n'


@pytest.mark.parametrize("wrong", ["uploads/*", "../pages", "/var/cache/*", "/var/../pages", "/"])
def test_a_cache_is_a_pattern_of_names_or_a_plain_path(idle: Demo, wrong: str) -> None:
    idle.edit("[keep]\n", f'[keep]\ncaches = ["{wrong}"]\n')
    told = idle.yl("survey")
    assert told.code == 2
    assert "caches" in told.err


def test_init_sees_what_a_running_process_writes_to(tmp_path: Path, write_to: Callable[[Path], None]) -> None:
    app = tmp_path / "app"
    (app / "logs").mkdir(parents=True)
    (app / "serve.py").write_text(WRITER)
    (app / "app.ini").write_text("[database]\nfile = quay.sqlite\n")
    with closing(sqlite3.connect(app / "quay.sqlite")) as base:
        base.execute("CREATE TABLE berths (id)")
    opened = [subprocess.Popen([sys.executable, "-c", WRITER, str(path)], stdout=subprocess.PIPE, text=True, cwd=app)
              for path in (app / "logs" / "access", app / "store.bin", app / "quay.sqlite-wal")]  # fmt: skip
    for one in opened:
        assert one.stdout is not None
        one.stdout.readline()
    # The words of a program of the application's own: its script lies there.
    script = subprocess.Popen([sys.executable, app / "serve.py", app / "office.log"], stdout=subprocess.PIPE, text=True)
    assert script.stdout is not None
    script.stdout.readline()
    try:
        answer = run_program("init", app, "--show", "--units", tmp_path, folder=tmp_path)
        assert "office.log: a running process writes to it" in answer.out
        assert 'logs = ["logs/access", "office.log"]' in answer.out
        assert "store.bin is written to while it runs" in answer.out
        assert "quay.sqlite-wal is written to" not in answer.out  # a database is told as one
    finally:
        for one in [*opened, script]:
            one.kill()
            one.communicate()
