"""A quick look at all processes misses nobody that a slow one would find, and takes nobody for somebody else."""

from __future__ import annotations

import contextlib
import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

import psutil
import pytest

from yellow_ladder.services.mentions import having_open, listeners_on, near, with_mark
from yellow_ladder.services.port import MARK

SLEEPER = "import sys, time; held = [open(one) for one in sys.argv[1:]]; print('up', flush=True); time.sleep(99)"
HOW = ("its program", "its folder", "its words", "its environment", "an open file")


@contextlib.contextmanager
def at_work(*words: str, folder: Path = Path("/"), also: Mapping[str, str] | None = None) -> Iterator[int]:
    """A process that says that it is up, by its number."""
    surroundings = {"PATH": os.environ["PATH"], **(also or {})}
    process = subprocess.Popen(
        words, cwd=folder, env=surroundings, stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True
    )
    assert process.stdin is not None
    assert process.stdout is not None
    try:
        assert process.stdout.readline() == b"up\n"
        yield process.pid
    finally:
        process.kill()
        process.wait()
        process.stdout.close()
        process.stdin.close()


@pytest.mark.parametrize("how", HOW)
def test_whoever_has_to_do_with_a_folder_is_found_by_each_of_the_ways(how: str, tmp_path: Path) -> None:
    root, beside = tmp_path / "quäybook site", tmp_path / "other"
    for folder in (root, beside):
        folder.mkdir()
        (folder / "log").touch()
    shell = root / "harbour-sh"
    shutil.copy(shutil.which("sh") or "/bin/sh", shell)
    python = [sys.executable, "-c", SLEEPER]
    words, folder, environment = {
        "its program": ([str(shell), "-c", "echo up; read held"], Path("/"), {}),
        "its folder": (python, root, {}),
        "its words": ([sys.executable, "-c", f"{SLEEPER} # {root}/tool.py"], Path("/"), {}),
        "its environment": (python, Path("/"), {"HARBOUR": f"x@{root}"}),
        "an open file": ([*python, "log"], root, {}),
    }[how]
    with at_work(*words, folder=folder, also=environment) as pid, at_work(*python, str(beside / "log")) as other:
        found = {one.pid for one in near(root)}
        assert pid in found
        assert other not in found
        assert (pid in {one.pid for one in having_open(root / "log")}) == (how == "an open file")
        assert other in {one.pid for one in having_open(beside)}


def test_a_mark_is_known_whole_and_who_has_ended_counts_no_more() -> None:
    mark = f"harbour@/srv/{os.getpid()}"
    python = [sys.executable, "-c", SLEEPER]
    with (
        at_work(*python, also={MARK: mark}) as ours,
        at_work(*python, also={MARK: f"{mark}/deeper"}),
        at_work(*python, also={f"X{MARK}": mark}),
    ):
        assert [one.pid for one in with_mark(mark)] == [ours]
        assert {one.pid for one in with_mark("nobody's", session=ours)} == {ours}
    ended = subprocess.Popen(["true"], env={MARK: mark})
    while psutil.Process(ended.pid).status() != psutil.STATUS_ZOMBIE:
        time.sleep(0.01)
    assert with_mark(mark) == [], "it only waits for being waited for"
    ended.wait()


LISTENER = (
    "import socket, sys, time; one = socket.socket(int(sys.argv[1])); one.setsockopt(1, 15, 1);"
    " one.bind((sys.argv[2], int(sys.argv[3]))); one.listen(); print('up', flush=True); time.sleep(99)"
)


def test_everybody_who_listens_on_a_port_is_found() -> None:
    """Several may share a port, and it may be one of the other family; who is connected does not listen."""
    with socket.socket() as taken:
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        taken.bind(("127.0.0.1", 0))
        port = taken.getsockname()[1]
        assert listeners_on({port}) == {}, "bound, and nobody listens"
        here = [sys.executable, "-c", LISTENER, str(int(socket.AF_INET)), "127.0.0.1", str(port)]
        there = [sys.executable, "-c", LISTENER, str(int(socket.AF_INET6)), "::1", str(port)]
        with at_work(*here) as one, at_work(*here) as two, at_work(*there) as three:
            with socket.create_connection(("127.0.0.1", port)) as connected:
                assert connected.getpeername()[1] == port
                found = listeners_on({port, 1})
            assert {number: sorted(pids) for number, pids in found.items()} == {port: sorted([one, two, three])}
