"""A service is ready when everything that its site file names says so, and not before."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from tests.conftest import Demo
from yellow_ladder.demo.prepare import free_port
from yellow_ladder.errors import AnswerNo, BadInput, LadderError
from yellow_ladder.services import Service, services_of

LISTENS = (
    "import socket, sys, time; time.sleep(0.6); s = socket.create_server(('127.0.0.1', int(sys.argv[1])));"
    " print('the harbour is open', flush=True); time.sleep(60)"
)
RESTS = "import time; time.sleep(60)"


@pytest.fixture
def beacon(idle: Demo) -> Iterator[Demo]:
    """A site with one more service, which a test describes; whatever runs of it is stopped."""
    yield idle
    with suppress(LadderError):
        for one in services_of(idle.site()):
            one.stop()


def described(demo: Demo, ready: str, program: str, *, port: int = 0, log: bool = True) -> Service:
    lines = [
        "[[services]]", 'name = "beacon"', 'kind = "process"', 'pid_file = "run/beacon.pid"',
        f'run = ["/usr/bin/python3", "-I", "-c", "{program}", "{port}"]', f"ready = {{ {ready} }}",
        *(['log = "run/beacon.log"'] if log else []),
    ]  # fmt: skip
    demo.edit("[[services]]", "\n".join(lines) + "\n\n[[services]]")
    return next(one for one in services_of(demo.site()) if one.name == "beacon")


@pytest.mark.parametrize("way", ["port", "log line", "command", "all"])
def test_it_waits_until_it_is_so(way: str, beacon: Demo) -> None:
    port, sign = free_port(), beacon.folder / "sign"
    asks = {
        "port": f"port = {port}",
        "log line": 'log_line = "harbour is open$"',
        "command": f'command = ["test", "-e", "{sign}"]',
    }
    program = LISTENS + f"; open('{sign}', 'w')" if way == "port" else LISTENS
    if way in ("command", "all"):
        program = LISTENS.replace("print(", f"open('{sign}', 'w'); print(")
    service = described(beacon, ", ".join(asks.values()) if way == "all" else asks[way], program, port=port)
    began = time.monotonic()
    service.start()
    assert time.monotonic() - began > 0.5, "it was not so before"
    service.start()  # as after a kill: it runs, and wrote its line at an earlier start
    service.stop()


@pytest.mark.parametrize(
    ("ready", "told"),
    [
        ("port = {port}", "port {port} gave no answer (Connection refused) for 0.6 s, a connection is wanted"),
        ('log_line = "open$"', "gave no such line for 0.6 s, such a line is wanted"),
        ('command = ["false"]', "false gave status 1 for 0.6 s, status 0 is wanted"),
        ('command = ["/nowhere/beacon"]', "/nowhere/beacon gave cannot run /nowhere/beacon: No such file or directory"),
    ],
)
def test_where_it_does_not_become_so_it_is_told_what_was_asked(ready: str, told: str, beacon: Demo) -> None:
    port = free_port()
    (beacon.folder / "run").mkdir(exist_ok=True)
    (beacon.folder / "run" / "beacon.log").write_text("of an earlier start: the harbour is open\n")
    service = described(beacon, ready.replace("{port}", str(port)) + ", within_s = 0.6", RESTS)
    with pytest.raises(AnswerNo) as refusal:
        service.start()
    assert told.replace("{port}", str(port)) in refusal.value.problems[0].message


@pytest.mark.parametrize(
    ("ready", "log", "told"),
    [
        ("within_s = 5", True, "needs `url`, `port`, `log_line`, `command` or `query`"),
        ('log_line = "open"', False, "has `ready.log_line`, and no `log` to look into"),
        ("port = 70000", True, "port"),
    ],
)
def test_a_question_that_is_none_is_refused(ready: str, log: bool, told: str, beacon: Demo) -> None:
    with pytest.raises(BadInput) as refusal:
        described(beacon, ready, RESTS, log=log)
    assert told in str([one.message for one in refusal.value.problems])


def test_what_asks_whether_it_is_ready_runs_as_who_may_write_it(beacon: Demo, tmp_path: Path) -> None:
    program = beacon.root / "is-ready"
    program.write_text("#!/bin/sh\nexit 0\n")
    program.chmod(0o777)
    described(beacon, f'command = ["{program}"]', RESTS)
    told = [one["saw"] for one in beacon.yl("check", "--json").document["result"]["findings"]]
    assert [one for one in told if "services.ready of beacon runs as nobody" in one], told
