"""Killed at any instant, the next command knows: everything new and verified, or everything as before."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Demo, need
from tests.crash_driver import in_child
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.journal import Instant, JournalRecord
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.demo.servers import missing_programs
from yellow_ladder.events import silent

SHARDS = 4
# Every journal record is tried; of the single changes of the file system every seventh, since there are hundreds.
SWEEPS = [
    *(("record-continue", shard, SHARDS, 80) for shard in range(SHARDS)),
    *(("record-descend", shard, SHARDS, 80) for shard in range(SHARDS)),
    ("call-continue", 3, 7, 100),
    ("call-descend", 5, 7, 100),
    ("back-call-descend", 1, 7, 40),
    ("back-call-continue", 4, 9, 40),
    ("failing-record-continue", 1, 6, 80),
    ("failing-record-descend", 4, 6, 80),
    ("plain-call-continue", 2, 9, 100),
    ("plain-call-descend", 6, 9, 100),
    ("postgresql:record-continue", 3, 17, 80),
    ("postgresql:record-descend", 5, 17, 80),
    ("postgresql:back-call-descend", 5, 17, 40),
    ("mariadb:record-continue", 2, 17, 80),
    ("mariadb:record-descend", 7, 17, 80),
    ("mariadb:back-call-descend", 9, 17, 40),
]


@pytest.mark.parametrize(("mode", "first", "step", "fewest_points"), SWEEPS)
def test_a_climb_killed_anywhere_ends_whole(
    mode: str, first: int, step: int, fewest_points: int, tmp_path: Path
) -> None:
    engine = mode.rpartition(":")[0]
    need(missing_programs(engine) if engine else [], f"a test of {engine}")
    done = subprocess.run(
        [sys.executable, "-m", "tests.crash_driver", str(tmp_path), mode, str(first), str(step)],
        capture_output=True,
        text=True,
        timeout=900,
        check=False,
        cwd=Path(__file__).parent.parent,
    )
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["points"] >= fewest_points
    assert found["tried"] == len(range(first, found["points"], step))
    assert found["failures"] == {}


def kill_at(demo: Demo, number: int, instant: Instant = Instant.AFTER) -> Path:
    """Climb, and be killed at a journal record; returns the journal."""

    def die(when: Instant, record: JournalRecord) -> None:
        if (when, record.number) == (instant, number):
            os.kill(os.getpid(), 9)

    def climb() -> int:
        plan = stage_climb(look_ahead(demo.site(), None, utc_now()), utc_now(), silent)
        begin(plan, Conditions(on_append=die))
        return 0

    _, signalled = in_child(climb)
    assert signalled == 9
    return next((demo.folder / ".ladder" / "climbs").glob("*/plan.json")).with_name("journal.jsonl")


@pytest.mark.parametrize("tail", [b'{"n": 21, "at": "2026-', b"\0" * 300, b"{"])
def test_a_torn_last_line_is_dropped_and_the_climb_goes_on(demo: Demo, tail: bytes) -> None:
    journal = kill_at(demo, 20)
    with journal.open("ab") as stream:
        stream.write(tail)
    answer = demo.yl("climb", "--continue")
    assert answer.code == 0, answer
    assert "nothing was lost" in answer.out
    assert demo.json("history")[0]["state"] == "climbed"


def alter_fact(lines: list[bytes]) -> list[bytes]:
    return [*lines[:5], lines[5].replace(b'"done"', b'"begin"'), *lines[6:]]


def drop_line(lines: list[bytes]) -> list[bytes]:
    return [*lines[:5], *lines[6:]]


def swap_lines(lines: list[bytes]) -> list[bytes]:
    return [*lines[:5], lines[6], lines[5], *lines[7:]]


def tear_in_the_middle(lines: list[bytes]) -> list[bytes]:
    return [*lines[:5], lines[5][:-20] + b"\n", *lines[6:]]


@pytest.mark.parametrize("alter", [alter_fact, drop_line, swap_lines, tear_in_the_middle])
@pytest.mark.parametrize("words", [("climb", "--continue"), ("descend", "--yes")])
def test_a_journal_altered_by_hand_is_refused(idle: Demo, alter, words: tuple[str, ...]) -> None:  # type: ignore[no-untyped-def]
    journal = kill_at(idle, 20)
    original = journal.read_bytes()
    journal.write_bytes(b"".join(alter(original.splitlines(keepends=True))))
    altered = journal.read_bytes()
    answer = idle.yl(*words, "--json")
    assert (answer.code, answer.problems[0]["code"]) == (2, "journal-altered")
    assert "line 6" in answer.problems[0]["message"]
    assert journal.read_bytes() == altered
    journal.write_bytes(original)
    assert idle.yl("descend", "--yes").code == 0


def test_a_plan_altered_by_hand_is_refused(idle: Demo) -> None:
    journal = kill_at(idle, 20)
    plan = journal.with_name("plan.json")
    plan.write_text(plan.read_text().replace('"to_version": "4.0"', '"to_version": "4.1"'))
    answer = idle.yl("climb", "--continue", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (2, "journal-altered")


def test_while_a_climb_is_unfinished_no_other_begins(idle: Demo) -> None:
    kill_at(idle, 20)
    for words, code in ((("climb", "--yes"), "climb-unfinished"), (("check",), "check-stops")):
        answer = idle.yl(*words, "--json")
        assert answer.code == 1
        found = [one for one in answer.problems if one["code"] == code and "climb --continue" in one["remedy"]]
        assert found, answer.problems
