"""A site in other hands: whatever lies in it, looking comes to an end, and what is shown steers no terminal."""

from __future__ import annotations

import os
import shutil
import sqlite3
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Demo
from yellow_ladder.release.source import sheet_in

WITHIN_S = 30.0


def pipe(path: Path) -> None:
    path.unlink()
    os.mkfifo(path)


def endless(path: Path) -> None:
    path.unlink()
    path.symlink_to("/dev/zero")


PLACES = {
    "VERSION": ("versions", "not a regular file"),
    "etc/quaybook.ini": ("settings", "etc/quaybook.ini"),
    "addons/regatta-calendar/addon.toml": ("add-ons", "cannot be read"),
}


@pytest.mark.parametrize("make", [pipe, endless])
@pytest.mark.parametrize("place", PLACES)
def test_a_pipe_or_an_endless_file_keeps_nobody_waiting(idle: Demo, place: str, make: Callable[[Path], None]) -> None:
    make(idle.root / place)
    began = time.monotonic()
    survey = idle.yl("survey", "--detail", "--json")
    checked = idle.yl("check", "--json")
    check, told = PLACES[place]
    stops = 0 if check == "add-ons" else 1  # an add-on that does not say what it is may be carried across
    assert (survey.code, checked.code) == (0, stops)
    assert idle.yl("climb", "--yes", "--json").code == stops
    assert time.monotonic() - began < WITHIN_S
    found = [one for one in checked.document["result"]["findings"] if one["check"] == check and told in one["saw"]]
    assert found, [one for one in checked.document["result"]["findings"] if one["level"] != "ok"]


def test_a_pid_file_that_cannot_be_read_is_no_sign_of_a_stopped_service(demo: Demo) -> None:
    pid_file = demo.folder / "run" / "web.pid"
    pid = pid_file.read_text()
    pipe(pid_file)
    began = time.monotonic()
    assert demo.json("survey")["services"]["web"]["state"] == "unknown"
    findings = demo.json("check", code=1)["findings"]
    assert [one for one in findings if one["level"] == "stop" and str(pid_file) in one["saw"]], findings
    assert demo.yl("climb", "--yes").code == 1
    assert time.monotonic() - began < WITHIN_S
    pid_file.unlink()
    pid_file.write_text(pid)


NASTY = "red\x1b[31m\x07\u202e\n✔ nothing was lost"


@pytest.mark.parametrize("words", [(), ("--plain",), ("--json",)])
def test_names_and_titles_steer_no_terminal_and_forge_no_line(idle: Demo, words: tuple[str, ...]) -> None:
    (idle.root / f"file {NASTY}").write_text("x")
    (idle.root / "addons" / f"addon {NASTY}").mkdir()
    (idle.root / "addons" / f"addon {NASTY}" / "addon.toml").write_text(
        'name = "\\u001b[2J"\nversion = "1\\u001b[2J"\n'
    )
    connection = sqlite3.connect(idle.database)
    connection.execute(f'CREATE TABLE "table {NASTY}" (id)')
    connection.execute(f'CREATE VIEW "view {NASTY}" AS SELECT * FROM nowhere')
    connection.close()
    raw = sheet_in(idle.folder / "releases" / "quaybook-3.0.tar.zst")
    assert raw is not None
    sheet = raw.decode().replace('title = "', 'title = "\\u001b[2J\\n✔ nothing was lost ')
    (idle.folder / "releases" / "quaybook-3.0.release.toml").write_text(sheet)
    for command in (
        ("survey", "--detail"),
        ("check", "-v"),
        ("route", "--all"),
        ("climb", "--yes"),
        ("backup", "make"),
    ):
        answer = idle.yl(*command, *words)
        shown = answer.out + answer.err
        assert set(shown) & {"\x1b", "\x07", "\u202e", "\x9b"} == set(), command
        assert [line for line in shown.splitlines() if line.lstrip().startswith("✔ nothing was lost")] == [], command
    assert "\\x1b" in idle.yl("survey", "--detail").out


def test_nobodys_program_comes_to_run_with_another_accounts_rights(idle: Demo) -> None:
    planted = idle.root / "addons" / "regatta-calendar" / "helper"
    planted.write_text("#!/bin/sh\nid\n")
    shutil.chown(planted, "nobody")
    planted.chmod(0o6755)
    server = idle.root / "server.py"  # the release's own: its successor takes over owner and mode
    shutil.chown(server, "nobody")
    server.chmod(0o4755)
    idle.edit('root = "quaybook"', 'root = "quaybook"\nowner = "root"\ngroup = "root"')
    (told,) = [one for one in idle.json("check")["findings"] if one["check"] == "set-id files"]
    assert (told["level"], "regatta-calendar/helper" in told["saw"]) == ("warn", True)
    assert idle.yl("climb", "--yes").code == 0
    for path in (planted, server):
        found = path.stat()
        assert (found.st_uid, found.st_mode & 0o6000) == (0, 0), path
    assert idle.yl("descend", "--yes").code == 0
    assert planted.stat().st_mode & 0o7777 == 0o6755, "going back gives back what was there"
    assert planted.stat().st_uid != 0
    idle.edit('owner = "root"', 'owner = "root"\nfile_mode = "4755"')
    assert "without set-id" in idle.yl("check", "--json").problems[0]["message"]
