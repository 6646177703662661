"""Killed at any instant, the next command knows: everything new and verified, or everything as before."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Demo, need, warm
from tests.crash_driver import chosen, in_child
from tests.engines import SERVERS
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.journal import Instant, JournalRecord
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.demo.servers import missing_programs
from yellow_ladder.events import silent

# How each mode is swept: the parts of a whole sweep, and how many kill points there are at least.
MODES = {
    "record-continue": (4, 80),
    "record-descend": (4, 80),
    "call-continue": (8, 100),
    "call-descend": (8, 100),
    "back-call-descend": (4, 40),
    "back-call-continue": (4, 40),
    "failing-record-continue": (3, 80),
    "failing-record-descend": (3, 80),
    "plain-call-continue": (8, 100),
    "plain-call-descend": (8, 100),
    "environment:record-continue": (4, 80),
    "environment:record-descend": (4, 80),
    "environment:call-continue": (8, 100),
    "environment:call-descend": (8, 100),
    "environment:back-call-descend": (4, 40),
    "environment:failing-record-descend": (3, 80),
    "shared:record-continue": (4, 80),
    "shared:call-continue": (8, 100),
    "shared:call-descend": (8, 100),
    "shared:back-call-descend": (4, 40),
    "postgresql:record-continue": (4, 80),
    "postgresql:record-descend": (4, 80),
    "postgresql:back-call-descend": (4, 40),
    "mariadb:record-continue": (4, 80),
    "mariadb:record-descend": (4, 80),
    "mariadb:back-call-descend": (4, 40),
}
# Kill points in a usual run, other ones each time; it prints its seed. What is killed alike is made ready once.
USUAL = {
    "record-continue+descend": 4,
    "call-continue+descend": 4,
    "back-call-descend+continue": 3,
    "failing-record-continue+descend": 2,
    "plain-call-descend+continue": 2,
    "environment:call-continue+descend": 2,
    "shared:call-descend+continue": 2,
    "postgresql:record-continue+descend": 1,
    "postgresql:back-call-descend": 1,
    "mariadb:record-descend+continue": 1,
    "mariadb:back-call-descend": 1,
}
IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
SEED = os.environ.get("YELLOW_LADDER_SEED", "")


def pieces() -> list[tuple[str, str]]:
    """Every mode with the kill points that one test tries."""
    if not IS_WHOLE:
        return [(mode, str(count)) for mode, count in USUAL.items()]
    return [(mode, f"{first}/{parts}") for mode, (parts, _) in MODES.items() for first in range(parts)]


@pytest.mark.parametrize(("mode", "choice"), pieces())
def test_a_climb_killed_anywhere_ends_whole(
    mode: str, choice: str, tmp_path: Path, record_property: Callable[[str, object], None]
) -> None:
    engine = mode.rpartition(":")[0]
    need(missing_programs(engine) if engine in SERVERS else [], f"a test of {engine}")
    choice = choice if "/" in choice else f"{choice}@{SEED}"
    words = [str(tmp_path), mode, choice]
    done = warm().call("tests.crash_driver:main", words, Path(__file__).parent.parent, dict(os.environ), 3600)
    assert done.code == 0, done.err
    found = json.loads(done.out.splitlines()[-1])
    record_property("kill points", (mode, found["points"], len(found["tried"])))
    assert found["points"] >= MODES[mode.partition("+")[0]][1]
    assert found["tried"] == chosen(found["points"], choice)
    assert found["failures"] == {}, f"of {choice}"


def test_choices_of_kill_points_leave_none_out_and_differ_by_seed() -> None:
    assert sorted(at for first in range(3) for at in chosen(10, f"{first}/3")) == chosen(10, "all")
    assert chosen(90, "5@one") == chosen(90, "5@one") != chosen(90, "5@two")
    assert len(set(chosen(90, "5@one"))) == 5
    assert chosen(4, "9@one") == [0, 1, 2, 3]


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


def test_a_survey_says_first_that_a_climb_was_cut_off_and_what_to_do(idle: Demo) -> None:
    journal = kill_at(idle, 20)
    told = idle.yl("survey").out
    assert re.search(r"^ ✘ the climb \S+ is not finished", told, re.MULTILINE), told
    assert told.index("✘ the climb") < told.index("\n ! ")
    assert re.search(r"Next +yl climb --continue.*\n or +yl descend", told)
    original = journal.read_bytes()
    journal.write_bytes(b"".join(drop_line(original.splitlines(keepends=True))))
    told = idle.yl("survey").out
    assert "what earlier climbs left cannot be read" in told
    assert "--continue" not in told  # nobody can go on with it
    journal.write_bytes(original)
    assert idle.yl("descend", "--yes").code == 0
    assert "not finished" not in idle.yl("survey").out


@pytest.mark.parametrize("tail", [b'{"n": 21, "at": "2026-', b"\0" * 300, b"{"])
def test_a_torn_last_line_is_dropped_and_the_climb_goes_on(demo: Demo, tail: bytes) -> None:
    journal = kill_at(demo, 20)
    with journal.open("ab") as stream:
        stream.write(tail)
    answer = demo.yl("climb", "--continue")
    assert answer.code == 0, answer
    assert "no difference in what was compared" in answer.out
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
