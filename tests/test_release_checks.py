"""What a release asks of the data: by the check, and by the climb just before the release comes."""

from __future__ import annotations

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import SERVERS
from tests.test_shapes import change_sheet
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.release.sheet import SHEET_NAME

MARK = "# What it asks."
FREE = "SELECT count(*) FROM berths WHERE id < 0"
TAKEN = "SELECT count(*) FROM berths"


def teach(demo: Demo, version: str, *, query: str, more: str = "") -> None:
    """Let a release ask, and nothing else that it was taught to ask before."""
    asked = f'[[checks]]\nname = "berths apart"\nquery = {query}\nwanted = "0"\nremedy = "count them anew"\n{more}\n'
    change_sheet(demo, version, "", "")
    beside = demo.folder / "releases" / f"quaybook-{version}.{SHEET_NAME}"
    beside.write_text(beside.read_text().partition(MARK)[0] + f"{MARK}\n{asked}")


def asked_of(demo: Demo, version: str, code: int) -> list[tuple[str, str, str]]:
    findings = demo.json("check", "--to", "3.0", code=code)["findings"]
    return [(one["level"], one["saw"], one["remedy"]) for one in findings if one["check"] == f"{version} asks"]


def test_the_next_releases_question_is_asked_by_the_check(idle: Demo) -> None:
    teach(idle, "2.6", query=f'"{FREE}"')
    assert asked_of(idle, "2.6", 0) == [("ok", "berths apart: the answer is 0", "")]
    teach(idle, "2.6", query=f'"{TAKEN}"')
    assert asked_of(idle, "2.6", 1) == [("stop", "berths apart: the answer is 120, 0 is wanted", "count them anew")]
    assert idle.yl("climb", "--to", "2.6", "--yes").code == 1
    assert idle.json("history") == []


@pytest.mark.parametrize("engine", ["sqlite", *SERVERS])
def test_a_later_releases_question_is_asked_before_it_comes_and_a_bad_answer_goes_back(
    engine: str, engine_demo: MakeDemo, make_demo: MakeDemo
) -> None:
    """The table is there only since the release before: nobody could have asked earlier."""
    demo = make_demo() if engine == "sqlite" else engine_demo(engine)
    others = "" if engine == "sqlite" else f', sqlite = "{FREE}"'
    teach(demo, "3.0", query=f'{{ {engine} = "{TAKEN}"{others} }}')
    before = picture_of(demo.site())
    assert asked_of(demo, "3.0", 0) == []
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 1
    assert "3.0 asks, berths apart: the answer is 120, 0 is wanted" in answer.out + answer.err
    assert "count them anew" in answer.out + answer.err
    assert picture_of(demo.site()) == before
    teach(demo, "3.0", query=f'"{TAKEN}"', more='level = "warn"')
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert "berths apart: the answer is 120" in answer.out + answer.err


@pytest.mark.parametrize(
    ("query", "told"),
    [("DELETE FROM berths", "readonly"), ("SELECT 1 FROM nowhere", "nowhere")],
)
def test_a_question_changes_nothing_and_one_that_cannot_be_asked_is_no_yes(idle: Demo, query: str, told: str) -> None:
    teach(idle, "2.6", query=f'"{query}"')
    before = picture_of(idle.site())
    ((level, saw, _),) = asked_of(idle, "2.6", 1)
    assert level == "stop"
    assert told in saw
    assert picture_of(idle.site()) == before


def test_a_database_that_the_site_has_not_is_named(idle: Demo) -> None:
    teach(idle, "2.6", query=f'"{FREE}"', more='database = "tides"')
    ((level, saw, _),) = asked_of(idle, "2.6", 1)
    assert (level, saw) == ("stop", "berths apart: the site file has no database tides")


def test_two_questions_of_one_name_are_refused(idle: Demo) -> None:
    again = f'[[checks]]\nname = "berths apart"\nquery = "{FREE}"\nwanted = "0"'
    teach(idle, "2.6", query=f'"{FREE}"', more=again)
    assert "asks two questions of one name" in idle.yl("check", "--to", "2.6").out
