"""Never a dead end: what blocks a climb for ever otherwise can be corrected, or accepted with open eyes."""

from __future__ import annotations

import json
import sqlite3
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Demo
from yellow_ladder.climb.record.adjusting import proposed
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.errors import BadInput


def state_of(demo: Demo) -> str:
    return str(list_climbs(demo.site())[-1].standing.outcome)


def stop_at_failures(demo: Demo) -> None:
    demo.edit('root = "quaybook"\n', 'root = "quaybook"\non_failure = "stop"\n')


def wrong_page(demo: Demo) -> tuple[str, str]:
    """The page that tells readiness is one that the new version does not have."""
    right = f'ready = {{ url = "http://127.0.0.1:{demo.prepared.port}/about.json", within_s = 20 }}'
    wrong = f'ready = {{ url = "http://127.0.0.1:{demo.prepared.port}/gone", within_s = 1 }}'
    demo.edit(right, wrong)
    return right, wrong


def test_a_wrong_readiness_page_is_corrected_and_the_climb_goes_on(demo: Demo) -> None:
    stop_at_failures(demo)
    right, wrong = wrong_page(demo)
    answer = demo.yl("climb", "--yes", "--json")
    assert answer.code == 3
    assert "yl adjust" in json.dumps(answer.problems)
    assert demo.yl("climb", "--continue").code == 3, "and it would be so for ever"
    assert demo.yl("adjust", "--yes").code == 1, "nothing has been corrected yet"
    demo.edit(wrong, right)
    shown = demo.yl("adjust", "--yes")
    assert shown.code == 0, shown.err
    assert "services.web.ready.url" in shown.out
    assert state_of(demo) == "climbed"
    assert demo.yl("descend", "--yes").code == 0
    assert state_of(demo) == "descended"


def test_going_back_is_corrected_too(demo: Demo) -> None:
    assert demo.yl("climb", "--yes").code == 0
    text = demo.prepared.file.read_text()
    plan = next((demo.folder / ".ladder" / "climbs").glob("*/plan.json"))
    # As if the plan had been frozen with a page that the old version does not have.
    record = json.loads(plan.read_bytes())
    right = f'127.0.0.1:{demo.prepared.port}/about.json", within_s = 20'
    assert right in record["site_text"]
    _refreeze(plan, record, right, f'127.0.0.1:{demo.prepared.port}/gone", within_s = 1')
    assert demo.yl("descend", "--yes").code == 3
    assert state_of(demo) == "descending"
    assert demo.yl("adjust", "--yes", "--json").code == 0
    assert state_of(demo) == "descended"
    assert demo.prepared.file.read_text() != text, "paths that had moved have their old form again"


def _refreeze(plan: Path, record: dict[str, Any], old: str, new: str) -> None:
    """Write another plan with a journal that fits it."""
    from yellow_ladder.climb.record.journal import Journal
    from yellow_ladder.climb.record.plan import read_plan

    journal = plan.with_name("journal.jsonl")
    records = Journal(journal, read_plan(plan.parent).digest()).records
    record["site_text"] = record["site_text"].replace(old, new)
    plan.write_text(json.dumps(record))
    journal.unlink()
    fresh = Journal(journal, read_plan(plan.parent).digest())
    for one in records:
        fresh.append(one.what, one.step, one.at, one.facts)


def with_statement(demo: Demo, at: str, statement: str) -> None:
    """A command of the site's own that writes to the database, and that no release declares."""
    code = f"import sqlite3; c = sqlite3.connect('quaybook/data/quaybook.sqlite'); c.execute({statement!r}); c.commit()"
    words = f'run = ["{sys.executable}", "-I", "-c", {json.dumps(code)}]\nfolder = "{{site}}"\ntwice = true\n'
    demo.edit("[maintenance]", f'[[commands]]\nname = "write {at}"\nat = "{at}"\n{words}\n[maintenance]')


def test_a_table_that_the_new_version_rewrites_is_declared_volatile_afterwards(demo: Demo) -> None:
    stop_at_failures(demo)
    demo.edit('volatile = ["logins"]', "volatile = []")
    with_statement(demo, "before-start", "UPDATE logins SET seen = 'just now'")
    answer = demo.yl("climb", "--yes", "--json")
    assert answer.code == 3
    assert "--accept-differences" in json.dumps(answer.problems)
    demo.edit("volatile = []", 'volatile = ["logins"]')
    answer = demo.yl("adjust", "--yes", "--json")
    assert (answer.code, answer.document["result"]["state"]) == (0, "climbed")
    assert answer.document["result"]["changes"] == [{"key": "databases.main.volatile", "old": [], "new": ["logins"]}]


@pytest.mark.parametrize(
    ("old", "new", "key"),
    [
        ('root = "quaybook"\n', 'root = "elsewhere"\n', "root"),
        ('"uploads"]', "]", "keep.data"),
        ('assets = ["static/logo.svg"]', "assets = []", "keep.assets"),
        ('source = "releases"', 'source = "other"', "releases.source"),
        ('flag = "quaybook/data/closed"', 'flag = "quaybook/closed"', "maintenance.flag"),
        ('name = "web"', 'name = "site"', "services.site"),
    ],
)
def test_what_alters_the_way_of_the_data_stays_frozen(demo: Demo, old: str, new: str, key: str) -> None:
    stop_at_failures(demo)
    wrong_page(demo)
    demo.yl("climb", "--yes")
    climb = list_climbs(demo.site())[-1]
    with pytest.raises(BadInput) as refused:
        proposed(climb.plan, climb.standing, demo.prepared.file.read_text().replace(old, new))
    assert key in refused.value.problems[0].message
    assert "services (commands" in refused.value.problems[0].remedy


def test_an_adjustment_is_part_of_the_chain(demo: Demo) -> None:
    stop_at_failures(demo)
    right, wrong = wrong_page(demo)
    demo.yl("climb", "--yes")
    demo.edit(wrong, right)
    demo.edit("within_s = 20", "within_s = 21")
    demo.yl("adjust", "--yes")
    journal = next((demo.folder / ".ladder" / "climbs").glob("*/journal.jsonl"))
    journal.write_bytes(journal.read_bytes().replace(b"within_s = 21", b"within_s = 22"))
    assert "altered" in demo.yl("history").err


def spoil(demo: Demo) -> None:
    """Two rows that nobody declared: one gone, one changed."""
    connection = sqlite3.connect(demo.database)
    connection.execute("DELETE FROM notices WHERE rowid = (SELECT min(rowid) FROM notices)")
    connection.execute("UPDATE notices SET title = 'other' WHERE rowid = (SELECT max(rowid) FROM notices)")
    connection.commit()
    connection.close()


def test_differences_are_accepted_by_their_number_and_never_called_whole(demo: Demo) -> None:
    stop_at_failures(demo)
    demo.edit('volatile = ["logins"]', "volatile = []")
    with_statement(demo, "before-start", "UPDATE logins SET seen = 'just now' WHERE id = 1")
    with_statement(demo, "going-back", "UPDATE logins SET seen = 'just now' WHERE id = 1")
    assert demo.yl("climb", "--yes").code == 3
    spoil(demo)
    refused = demo.yl("climb", "--continue", "--accept-differences")
    assert refused.code == 2
    assert "notices: 2 rows" in refused.out
    assert "logins: 1 row" in refused.out
    assert demo.yl("climb", "--continue", "--accept-differences", 99).code == 1
    assert state_of(demo) == "climbing", "another number accepts nothing"
    answer = demo.yl("climb", "--continue", "--accept-differences", 3, "--json")
    assert answer.code == 0, answer.err
    assert answer.document["result"]["state"] == "climbed with 3 differences"
    assert "nothing was lost" not in demo.yl("history").out
    assert "with 3 differences" in demo.yl("history").out
    kept = (demo.folder / ".ladder" / "climbs").glob("*/differences/main.notices.csv")
    assert next(kept).read_text().count("\n") == 4, "a row that went, and one as it is and as it was"
    assert not (demo.root / "data" / "closed").exists()
    assert demo.yl("descend", "--yes").code == 3, "a command writes to it each time"
    demo.edit("volatile = []", 'volatile = ["logins"]')
    assert demo.yl("adjust", "--yes").code == 0
    assert state_of(demo) == "descended"


def test_going_back_with_differences_opens_the_site(demo: Demo) -> None:
    # A command changes a row each time that the site goes back: what was put back never holds.
    with_statement(demo, "going-back", "UPDATE notices SET title = title || '!' WHERE rowid = 1")
    assert demo.yl("climb", "--yes").code == 0
    stopped = demo.yl("descend", "--yes", "--json")
    assert stopped.code == 3
    assert "--accept-differences" in json.dumps(stopped.problems)
    assert [one.what for one in _records(demo)].count("again") == 2, "put back again, and not for ever"
    answer = demo.yl("descend", "--accept-differences", 1, "--json")
    assert answer.code == 0, answer
    assert answer.document["result"]["state"] == ("descended with 1 difference")
    assert not (demo.root / "data" / "closed").exists()
    assert demo.yl("check", "--json").document["result"]["findings"]


def _records(demo: Demo) -> list[Any]:
    from yellow_ladder.climb.record.catalog import records_of

    return records_of(list_climbs(demo.site())[-1].plan)


def test_there_is_nothing_to_accept_where_no_comparison_said_no(demo: Demo) -> None:
    assert demo.yl("climb", "--accept-differences", "--yes").code == 2
    demo.json("climb", "--yes")
    answer = demo.yl("descend", "--accept-differences", 1)
    assert answer.code == 1
    assert "no comparison" in answer.err
    assert list_climbs(demo.site())[-1].standing.state is ClimbState.CLIMBED
    assert demo.yl("adjust", "--yes").code == 1
