"""Processes that keep old code loaded are named, and nobody else is."""

from __future__ import annotations

import _ctypes
import ctypes
import os
import shutil
import signal
from pathlib import Path

from tests.conftest import Demo
from yellow_ladder.services.resident import _old_file, keeping_old_code

LINE = "7f21c4a00000-7f21c4a22000 r--p 00000000 fe:01 1835 {}"


def test_what_is_loaded_and_gone_or_aside_is_old_and_what_is_in_place_is_not() -> None:
    root, aside = Path("/srv/harbour/quaybook"), [Path("/srv/harbour/quaybook/releases/2.4")]
    for path, old in (
        ("/srv/harbour/quaybook/lib/tide.so", ""),
        ("/srv/harbour/quaybook/lib/tide.so (deleted)", "/srv/harbour/quaybook/lib/tide.so"),
        ("/srv/harbour/quaybook-other/tide.so (deleted)", ""),
        ("/srv/harbour/quaybook/releases/2.4/a b.so", "/srv/harbour/quaybook/releases/2.4/a b.so"),
        ("/usr/lib/libc.so.6 (deleted)", ""),
        ("[heap]", ""),
    ):
        assert _old_file(f"{LINE.format('/usr/bin/x')}\n{LINE.format(path)}\n".encode(), root, aside) == old


def loads(path: Path) -> int:
    """A process of nobody's that has a file loaded and nothing open; returns its number."""
    ready, told = os.pipe()
    pid = os.fork()
    if pid == 0:
        ctypes.CDLL(str(path))
        os.write(told, b"x")
        signal.pause()
    os.read(ready, 1)
    os.close(ready)
    os.close(told)
    return pid


def test_a_climb_names_who_keeps_the_old_code(demo: Demo) -> None:
    library = demo.root / "addons" / "regatta-calendar" / "tides.so"
    shutil.copy(_ctypes.__file__, library)  # any will do
    pid = loads(library)
    try:
        assert not list(keeping_old_code(demo.root, []))
        answer = demo.yl("climb", "--to", "4.0", "--yes")
        assert answer.code == 0, answer
        told = " ".join(answer.err.split())
        assert f"process {pid} (" in told
        assert "keeps old code" in told
        assert demo.yl("descend", "--yes").code == 0
    finally:
        os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
