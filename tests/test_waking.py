"""A program may say that it is well before its pages are there: whoever has just started it asks again."""

from __future__ import annotations

import json
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import pytest

from tests.conftest import Demo


class Waking(BaseHTTPRequestHandler):
    """The site's page of its version, in front of the program: not there for the first questions after each start."""

    root: Path
    asked: dict[str, int]
    sleeps: dict[str, int]

    def do_GET(self) -> None:
        version = (self.root / "VERSION").read_text().strip()
        pid_file = self.root.parent / "run" / "web.pid"
        started = f"{version} {pid_file.read_text() if pid_file.exists() else ''}"
        self.asked[started] = self.asked.get(started, 0) + 1
        is_there = self.asked[started] > self.sleeps.get(version, 0)
        self.send_response(200 if is_there else 404)
        self.end_headers()
        self.wfile.write(json.dumps({"version": version}).encode() if is_there else b"starting up")

    def log_message(self, *_: object) -> None:
        """Nothing."""


@pytest.fixture
def sleeps(demo: Demo) -> Iterator[dict[str, int]]:
    """How many questions each version leaves unanswered after it was started."""
    found: dict[str, int] = {}
    handler = type("Here", (Waking,), {"root": demo.root, "asked": {}, "sleeps": found})
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        thread = Thread(target=server.serve_forever)
        thread.start()
        text = demo.prepared.file.read_text()
        head, _, tail = text.partition('of = "served"\nurl = "')
        page = f'of = "served"\nurl = "http://127.0.0.1:{server.server_port}/'
        demo.prepared.file.write_text(head + page + tail[tail.index("about.json") :])
        try:
            yield found
        finally:
            server.shutdown()
            thread.join()


def test_pages_that_are_not_there_yet_are_asked_for_again_going_up_and_back(demo: Demo, sleeps: dict[str, int]) -> None:
    sleeps.update({"2.6": 3, "2.4": 3})
    demo.yl("survey")
    up = demo.yl("climb", "--to", "2.6", "--yes")
    assert up.code == 0, up.out + up.err
    down = demo.yl("descend", "--yes")
    assert down.code == 0, down.out + down.err


def test_a_page_that_never_comes_takes_the_climb_back(demo: Demo, sleeps: dict[str, int]) -> None:
    demo.edit("within_s = 20", "within_s = 7")
    sleeps["2.6"] = 10_000
    answer = demo.yl("climb", "--to", "2.6", "--yes")
    assert answer.code == 1
    assert "waiting for http://127.0.0.1:" in answer.out + answer.err
    assert "for at most 7.0 s: the page answers with status 404" in answer.out + answer.err
    assert "the served probe says the page answers with status 404, 2.6 is wanted" in answer.out + answer.err
    assert '`holds = "<2.6"` makes it one for versions before' in " ".join(answer.err.split())
    assert demo.json("survey")["version"] == "2.4"
