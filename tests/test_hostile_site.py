"""A site in other hands: whatever lies in it, looking comes to an end, and what is shown steers no terminal."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Demo

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


def test_a_pid_file_that_is_a_pipe_keeps_nobody_waiting(idle: Demo) -> None:
    os.mkfifo(idle.folder / "run" / "web.pid")
    began = time.monotonic()
    assert idle.json("survey")["services"]["web"]["state"] == "stopped"
    assert time.monotonic() - began < WITHIN_S
    (idle.folder / "run" / "web.pid").unlink()
