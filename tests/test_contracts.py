"""What releases tell of the data is held against them, rung by rung, on a site that climbs."""

from __future__ import annotations

import csv
import json
import re
import sys

import pytest
from pydantic import ValidationError

from tests.conftest import Demo
from tests.test_claims import beside, verdict_of, write
from yellow_ladder.climb.conduct import Conditions, look_only
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.climb.works.holding import hold
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.release.contract import TableChange
from yellow_ladder.release.source import sheet_in

LOOSE = '[[contract.tables]]\nname = "meta"\ncolumns_changed = ["value"]'
BOATS = '[[contract.tables]]\nname = "boats"'
TOLD = "values.value = \"CASE name WHEN 'schema' THEN '{}' ELSE value END\""
SCHEMAS = {"2.6": "26", "3.0": "30", "4.0": "40"}
# Whoever wrote the migration did not think of it: the founding year goes along.
CARELESS = (
    "CREATE TRIGGER careless AFTER UPDATE ON meta WHEN new.value = '{}'"
    " BEGIN UPDATE {}; END;"
)  # fmt: skip


def told_in_every_release(demo: Demo) -> None:
    for version, schema in SCHEMAS.items():
        beside(demo, version, LOOSE, f'[[contract.tables]]\nname = "meta"\n{TOLD.format(schema)}')


def test_a_column_that_is_told_is_held_where_a_declared_one_was_given_up(demo: Demo) -> None:
    told_in_every_release(demo)
    assert demo.yl("climb", "--yes").code == 0
    document = demo.json("verify")
    assert document["whole"] is True
    assert verdict_of(document, "meta")["remarks"] == ["value held against what it should be"]
    assert not [one for one in document["not_compared"] if "meta" in one]


def test_a_value_that_is_not_what_was_told_ends_the_climb_at_its_rung(demo: Demo) -> None:
    told_in_every_release(demo)
    write(demo, CARELESS.format("30", "meta SET value = '1912' WHERE name = 'founded'"))
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    said = "after 3.0: main.meta: value: 1 value differs (another number): name 'founded': is 1912, should be 1911"
    assert said in " ".join(answer.err.split())
    assert picture_of(demo.site()) == before
    listed = next(demo.folder.glob(".ladder/climbs/*/differing-rows/main.meta.csv"))
    rows = list(csv.reader(listed.read_text().splitlines()))
    assert rows[1] == ["changed", "founded", "value", "1911", "1912", "another number"]
    assert listed.stat().st_mode & 0o777 == 0o600


def test_what_differs_between_two_rungs_can_be_decided(demo: Demo) -> None:
    """Where a climb stops at what fails, it is no dead end; what was accepted is never called the same."""
    demo.edit('root = "quaybook"\n', 'root = "quaybook"\non_failure = "stop"\n')
    told_in_every_release(demo)
    write(demo, CARELESS.format("30", "meta SET value = '1912' WHERE name = 'founded'"))
    stopped = demo.yl("climb", "--yes")
    assert stopped.code == 3
    assert "--accept-differences" in stopped.err
    assert "main.meta: value: 1 value differs" in demo.yl("climb", "--continue", "--accept-differences").out
    answer = demo.yl("climb", "--continue", "--accept-differences", 1, "--json")
    assert answer.code == 0, answer.err
    assert answer.document["result"]["state"] == "climbed with 1 difference"
    assert [one for one in demo.json("verify")["not_compared"] if "accepted: value: 1 value differs" in one]
    assert demo.yl("descend", "--yes").code == 0


def test_what_a_release_gives_up_is_given_up_no_longer_than_its_rung(demo: Demo) -> None:
    beside(demo, "2.6", BOATS, '[[contract.tables]]\nname = "boats"\ncolumns_changed = ["name"]')
    write(demo, CARELESS.format("30", "boats SET name = upper(name) WHERE id = 3"))
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    assert "main.boats: name: 1 value differs (letter case): id 3" in " ".join(answer.err.split())
    assert demo.json("history")[0]["state"] == "descended"


def test_a_masked_column_is_told_without_its_values(demo: Demo) -> None:
    demo.edit('volatile = ["logins"]', 'volatile = ["logins"]\nmasked = ["owners.email"]')
    assert demo.yl("climb", "--yes").code == 0
    write(demo, "UPDATE owners SET email = 'somebody@else.example', payment_token = 'open sesame' WHERE id = 4;")
    answer = demo.yl("verify", "--verbose")
    assert "main.owners: email: 1 value differs" in answer.out
    assert "id 4: •••" in answer.out
    listed = next(demo.folder.glob(".ladder/climbs/*/differing-rows/main.owners.csv")).read_text()
    assert "somebody@else.example" not in answer.out + answer.err + listed
    assert '"changed",4,"payment_token","•••","•••"' in listed
    assert "sesame" not in answer.out + answer.err + listed
    assert '"changed",4,"email","•••","•••"' in listed


QUESTIONS = {
    "same answer": (
        '[[contract.same_answers]]\nname = "takings"\nbefore = "SELECT sum(price_cents) FROM bookings"\n'
        'after = "SELECT sum(price_cents) FROM bookings"\n\n',
        "bookings SET price_cents = price_cents + 100 WHERE id = 9",
        "takings: is answered otherwise",
    ),
    "rule": (
        '[[contract.rules]]\nname = "no stay ends before it begins"\n'
        'query = "SELECT count(*) = 0 FROM bookings WHERE depart < arrive"\n\n',
        "bookings SET depart = '1999-01-01' WHERE id = 9",
        "no stay ends before it begins: does not hold",
    ),
}


@pytest.mark.parametrize("question", QUESTIONS)
@pytest.mark.parametrize("careless", [False, True])
def test_questions_of_a_release_are_asked_of_the_data(question: str, careless: bool, demo: Demo) -> None:
    text, harm, said = QUESTIONS[question]
    loose = '[[contract.tables]]\nname = "bookings"\ncolumns_changed = ["price_cents", "depart"]\n'
    beside(demo, "2.6", '[[contract.tables]]\nname = "bookings"\n', text + loose)
    if careless:
        write(demo, CARELESS.format("26", harm))
    answer = demo.yl("climb", "--yes")
    assert answer.code == int(careless), answer.err
    assert (said in " ".join(answer.err.split())) is careless


@pytest.mark.parametrize(
    ("told", "said"),
    [
        ('filled.draught_cm = "100"', "draught_cm: 20 values are not `100`"),
        ('must_change = ["name"]', "name: must have changed, and is as before"),
    ],
)
def test_what_must_be_in_new_columns_and_what_must_have_changed(told: str, said: str, demo: Demo) -> None:
    beside(demo, "2.6", BOATS, f"{BOATS}\n{told}")
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    assert said in " ".join(answer.err.split())


BY_QUERY = """\
tables_added = ["addresses"]

[[contract.tables]]
name = "addresses"
query = "SELECT id AS owner_id, street, town, postcode FROM owners"
matched_by = ["owner_id"]

[[contract.tables]]
name = "owners"
columns_dropped = ["street", "town", "postcode"]
"""


def test_a_table_that_is_told_by_a_query_of_what_is_gone_afterwards(demo: Demo) -> None:
    raw = sheet_in(demo.folder / "releases" / "quaybook-4.0.tar.zst")
    assert raw is not None
    start, end = raw.decode().index('tables_added = ["addresses"]'), raw.decode().index("[[contract.tables]]")
    beside(demo, "4.0", raw.decode()[start:end], BY_QUERY + "\n")
    assert demo.yl("climb", "--yes").code == 0
    document = demo.json("verify")
    assert "held against a query of before" in verdict_of(document, "addresses")["remarks"]
    write(demo, "UPDATE addresses SET town = upper(town) WHERE owner_id = 5;")
    faults = demo.json("verify", code=1)["faults"]
    assert [one for one in faults if one.startswith("main.addresses: town: 1 value differs (letter case): owner_id 5:")]


def test_a_rule_that_cannot_be_asked_is_told_with_its_release(demo: Demo) -> None:
    rule = '[[contract.rules]]\nname = "sound"\nquery = "SELECT count(*) = 0 FROM nowhere"\n\n'
    beside(demo, "2.6", '[[contract.tables]]\nname = "bookings"', rule + '[[contract.tables]]\nname = "bookings"')
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    assert "what 2.6 asks of the data could not be asked" in " ".join(answer.err.split())
    assert "nowhere" in answer.err


def test_sql_of_a_contract_that_is_wrong_here_is_known_before_the_climb(idle: Demo) -> None:
    beside(idle, "2.6", BOATS, f'{BOATS}\nvalues.name = "upper(nam)"')
    stops = [one for one in idle.json("check", code=1)["findings"] if one["level"] == "stop"]
    assert [one["check"] for one in stops] == ["contracts"]
    assert "2.6 tells of the data with SQL that main does not take" in stops[0]["saw"]
    assert "nam" in stops[0]["saw"]


def test_a_climb_that_an_older_build_took_past_a_rung_is_not_held_there(demo: Demo) -> None:
    assert demo.yl("climb", "--yes").code == 0
    climb = find_climb(demo.site(), None)
    facts = hold(climb.plan.rungs[0])(look_only(climb.plan, Conditions()))
    assert facts["summary"].startswith("not compared here")


def test_a_row_is_known_by_a_unique_key_where_there_is_no_primary_one(demo: Demo) -> None:
    """What a release rewrites is then that column alone, and not every one of the row."""
    write(demo, "CREATE TABLE marks (lock TEXT NOT NULL UNIQUE, version INT, kept TEXT);"
                "INSERT INTO marks VALUES ('X', 1, 'mine'), ('Y', 2, 'mine');"
                "CREATE TRIGGER marked AFTER UPDATE ON meta WHEN new.value = '30'"
                " BEGIN UPDATE marks SET version = version + 1; END;")  # fmt: skip
    marks = '[[contract.tables]]\nname = "marks"\ncolumns_changed = ["version"]\n\n[[contract.tables]]'
    beside(demo, "3.0", "[[contract.tables]]", marks)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    write(demo, "UPDATE marks SET kept = 'other' WHERE lock = 'Y';")
    said = " ".join(demo.yl("verify").out.split())
    assert "main.marks: kept: 1 value differs: lock 'Y': 'mine' → 'other'" in said, said


def held_rows(demo: Demo) -> dict[str, int]:
    """How many rows were read between rungs."""
    journal = next(demo.folder.glob(".ladder/climbs/*/journal.jsonl")).read_text().splitlines()
    done = [json.loads(one) for one in journal]
    return {
        one["step"]: one["facts"]["rows"]
        for one in done
        if one["what"] == "done" and one["step"].startswith("rung-hold:")
    }


def test_tables_of_which_nothing_is_given_up_are_not_read_between_rungs(demo: Demo) -> None:
    """`bookings` and `boats` have a new column each in 2.6, which is read there; 3.0 gives one another name."""
    assert demo.yl("climb", "--yes").code == 0
    assert held_rows(demo) == {"rung-hold:1": 60 + 20 + 2, "rung-hold:2": 2}
    remarks = verdict_of(demo.json("verify"), "bookings")["remarks"]
    assert remarks == ["channel added", "total_cents from price_cents"]


UNBILLED = "(SELECT max(id) FROM bookings WHERE id NOT IN (SELECT booking_id FROM invoices))"
LATER, CHANNEL = "depart = '1999-01-01'", "channel = 'pigeon'"


@pytest.mark.parametrize(
    ("schema", "harm", "told"),
    [
        ("26", LATER, ["depart: 1 value differs", "id 9: '"]),
        ("26", "price_cents = 1", ["total_cents: 1 value differs (another number): id 9"]),
        ("30", LATER, ["depart: 1 value differs", "id 9: '"]),
        ("30", "berth_id = 7", ["berth_id: 1 value differs", "id 9: "]),
        # What a release has added is held from then on; done once more, the next one's migrations do the same to it.
        ("30", CHANNEL, ["channel: values have changed"]),
        ("40", CHANNEL, ["channel: 1 value differs: id 9: 'counter' → 'pigeon'"]),
        ("26", "", ["1 row gone: id 60"]),
        ("30", "", ["1 row gone: id 60"]),
    ],
)
def test_harm_to_such_a_table_is_found_by_the_end_whichever_release_does_it(
    schema: str, harm: str, told: list[str], demo: Demo
) -> None:
    done = f"UPDATE bookings SET {harm} WHERE id = 9" if harm else f"DELETE FROM bookings WHERE id = {UNBILLED}"
    write(demo, f"CREATE TRIGGER careless AFTER UPDATE ON meta WHEN new.value = '{schema}' BEGIN {done}; END;")
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    said = " ".join(answer.err.split())
    assert f"main.bookings: {told[0]}" in said
    assert all(one in said for one in told)
    assert picture_of(demo.site()) == before


def test_a_column_that_a_release_should_have_added_is_missed_at_its_rung(demo: Demo) -> None:
    more = 'columns_added = ["channel", "pilot"]'
    beside(demo, "2.6", 'columns_added = ["channel"]', more)
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1
    assert "after 2.6: main.bookings: the column pilot is gone" in " ".join(answer.err.split())


def test_a_table_that_a_release_speaks_of_and_is_gone_is_told_at_its_rung(demo: Demo) -> None:
    beside(demo, "2.6", BOATS, '[[contract.tables]]\nname = "notices"\ncolumns_added = ["pinned"]\n\n' + BOATS)
    drop = f"import sqlite3; sqlite3.connect('{demo.database}').executescript('DROP TABLE notices')"
    demo.edit(
        "[maintenance]",
        f'[[commands]]\nname = "tidy"\nat = "after-migrations"\nfor = "2.6"\n'
        f'run = ["{sys.executable}", "-c", "{drop}"]\n\n[maintenance]',
    )
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--yes")
    assert answer.code == 1, answer.err
    assert "main.notices: is gone, and no release declares it" in " ".join(answer.err.split())
    assert picture_of(demo.site()) == before


@pytest.mark.parametrize(
    ("said", "why"),
    [
        ({"changed_where": "id = 1"}, "columns of `columns_changed`"),
        ({"columns_changed": ["level"], "changed_where": "level = 'low'"}, "reads level"),
        ({"columns_changed": ["level"], "changed_where": {"sqlite": "Level = 'low'"}}, "reads level"),
        ({"columns_changed": ["level"], "columns_renamed": {"id": "nr"}, "changed_where": "id = 1"}, "reads id"),
    ],
)
def test_in_which_rows_a_column_is_rewritten_is_told_by_columns_that_stay(said: dict[str, object], why: str) -> None:
    with pytest.raises(ValidationError, match=re.escape(why)):
        TableChange.model_validate({"name": "tides", **said})
    for fine in ("level_of = 1 AND paid", "name IN ('level', 'the port''s level')"):
        assert TableChange.model_validate({"name": "tides", "columns_changed": ["level"], "changed_where": fine})
