"""What is kept beside the rows of tables is held against before: answers that a server keeps, history."""

from __future__ import annotations

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import ask
from tests.test_claims import beside
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.verdicts import Verdict
from yellow_ladder.release.contract import Contract, TableChange

CONTRACT = '[[contract]]\ndatabase = "main"\n'
REFRESH = "REFRESH MATERIALIZED VIEW tide_days"
ANSWERS = "CREATE MATERIALIZED VIEW tide_days AS SELECT day, max(level) AS level FROM tides GROUP BY day"


def found(demo: Demo, before: DatabasePrint, *contracts: Contract) -> list[str]:
    """What is wrong now, as the climb that these contracts declare would tell it."""
    line = compose(before, [("4.0", one) for one in contracts])
    after = take_fingerprint(demo.site().databases()["main"], line.ties(before))
    kept = DatabasePrint.from_record(after.as_record())
    assert kept.apart == after.apart
    return [
        f"{one.table}: {remark}"
        for one in judge(before, kept, line)
        if one.verdict is Verdict.DIFFERS
        for remark in one.remarks
    ]


def with_answers(engine_demo: MakeDemo, *, start: bool = False) -> tuple[Demo, DatabasePrint]:
    demo = engine_demo("postgresql", start=start)
    ask(demo, "CREATE TABLE tides (id INTEGER PRIMARY KEY, day INTEGER, level REAL)",
        "INSERT INTO tides SELECT n, n / 2, n / 3.0 FROM generate_series(1, 20) AS n",
        ANSWERS)  # fmt: skip
    return demo, take_fingerprint(demo.site().databases()["main"])


def test_a_materialised_view_that_lost_its_rows_is_a_difference(engine_demo: MakeDemo) -> None:
    demo, before = with_answers(engine_demo)
    assert found(demo, before) == []
    ask(demo, f"{REFRESH} WITH NO DATA")
    assert found(demo, before) == [
        "contents tide_days: 11 rows before, not filled now: REFRESH MATERIALIZED VIEW fills it"
    ]
    ask(demo, REFRESH)
    assert found(demo, before) == []


def test_one_filled_while_other_rows_stood_there_is_a_difference_and_one_filled_anew_is_none(
    engine_demo: MakeDemo,
) -> None:
    demo, before = with_answers(engine_demo)
    ask(demo, "UPDATE tides SET level = -level WHERE id = 20", REFRESH, "UPDATE tides SET level = -level WHERE id = 20")
    (told,) = found(demo, before)
    assert told == "contents tide_days: holds other rows than before, and not what its query gives"
    assert found(demo, before, Contract(definition_changed=["contents tide_days"])) == []
    ask(demo, REFRESH, "UPDATE tides SET level = 99 WHERE id = 1")
    declared = Contract(tables=[TableChange(name="tides", columns_changed=["level"])])
    assert found(demo, before, declared) == [], "as old as it was, and its query gives other rows"
    ask(demo, REFRESH)
    assert found(demo, before, declared) == [], "its rows are others, and what its query gives"


def test_one_whose_query_may_not_be_asked_is_named_as_not_compared(engine_demo: MakeDemo) -> None:
    demo, _ = with_answers(engine_demo)
    ask(demo, "CREATE MATERIALIZED VIEW odd AS SELECT id AS t, id AS yellow_ladder_id FROM tides WHERE 9 / id > 0")
    before = take_fingerprint(demo.site().databases()["main"])
    ask(demo, "REFRESH MATERIALIZED VIEW odd", "DELETE FROM tides WHERE id = 1", "REFRESH MATERIALIZED VIEW odd",
        "INSERT INTO tides VALUES (0, 0, 1)")  # fmt: skip
    line = compose(before, [])
    after = take_fingerprint(demo.site().databases()["main"], line.ties(before))
    (told,) = [one for one in judge(before, after, line) if one.table == "contents odd"]
    assert (told.verdict, told.is_uncompared) == (Verdict.NOT_COMPARED, True)
    assert told.remarks == ("not read: what its query gives (division by zero)",)


def test_one_that_became_a_plain_view_is_a_difference(engine_demo: MakeDemo) -> None:
    demo, before = with_answers(engine_demo)
    ask(demo, "DROP MATERIALIZED VIEW tide_days", ANSWERS.replace("MATERIALIZED ", ""))
    assert found(demo, before) == ["contents tide_days: is a plain view now, and no release declares it"]
    assert found(demo, before, Contract(definition_changed=["view tide_days"])) == []
    ask(demo, "DROP VIEW tide_days")
    assert found(demo, before) == ["view tide_days: is gone, and no release declares it"]


def test_while_people_write_one_filled_anew_is_no_difference(engine_demo: MakeDemo) -> None:
    demo, _ = with_answers(engine_demo, start=True)
    assert demo.yl("climb", "--yes").code == 0
    ask(demo, "INSERT INTO tides VALUES (21, 50, 4)", REFRESH, "INSERT INTO tides VALUES (22, 60, 5)")
    verdicts = {one["table"]: one["verdict"] for one in demo.json("verify")["tables"]["main"]}
    assert (verdicts["tides"], verdicts["contents tide_days"]) == (Verdict.MORE, Verdict.MORE)
    ask(demo, f"{REFRESH} WITH NO DATA")
    answer = demo.yl("verify", "--json")
    assert answer.code == 1
    assert "contents tide_days: 11 rows before, not filled now: REFRESH MATERIALIZED VIEW fills it" in str(
        answer.document["result"]["faults"]
    )


def with_history(engine_demo: MakeDemo) -> tuple[Demo, DatabasePrint]:
    demo = engine_demo("mariadb", start=False)
    ask(demo, "CREATE TABLE tides (id INTEGER PRIMARY KEY, level INTEGER) WITH SYSTEM VERSIONING",
        "INSERT INTO tides VALUES (1, 1), (2, 2)", "UPDATE tides SET level = 3 WHERE id = 1",
        "DELETE FROM tides WHERE id = 2",
        "CREATE TABLE buoys (id INTEGER PRIMARY KEY) WITH SYSTEM VERSIONING")  # fmt: skip
    return demo, take_fingerprint(demo.site().databases()["main"])


def test_history_that_is_gone_is_a_difference_and_what_came_since_is_none(engine_demo: MakeDemo) -> None:
    demo, before = with_history(engine_demo)
    ask(demo, "UPDATE tides SET level = 5", "UPDATE tides SET level = 3", "INSERT INTO buoys VALUES (1)",
        "DELETE FROM buoys")  # fmt: skip
    assert found(demo, before) == []
    ask(demo, "ALTER TABLE tides DROP SYSTEM VERSIONING", "ALTER TABLE tides ADD SYSTEM VERSIONING")
    assert found(demo, before) == ["history tides: 2 earlier rows before, 0 earlier rows now"]
    assert found(demo, before, Contract(definition_changed=["history tides"])) == []


def test_history_follows_a_renamed_table_and_goes_with_a_dropped_one(engine_demo: MakeDemo) -> None:
    demo, before = with_history(engine_demo)
    ask(demo, "RENAME TABLE tides TO levels")
    renamed = Contract(tables=[TableChange(name="levels", renamed_from="tides")])
    assert found(demo, before, renamed) == []
    ask(demo, "DELETE HISTORY FROM levels")
    assert found(demo, before, renamed) == ["history levels: 2 earlier rows before, 0 earlier rows now"]
    ask(demo, "DROP TABLE levels")
    assert found(demo, before, Contract(tables_dropped=["tides"])) == []


@pytest.mark.parametrize("kind", ["timestamp(6)", "bigint unsigned"])
def test_history_kept_by_columns_of_the_tables_own_is_seen_as_well(engine_demo: MakeDemo, kind: str) -> None:
    demo = engine_demo("mariadb", start=False)
    ask(demo, f"CREATE TABLE tides (id INTEGER PRIMARY KEY, level INTEGER, since {kind} GENERATED ALWAYS AS ROW START,"
        f" `till it ended` {kind} GENERATED ALWAYS AS ROW END, PERIOD FOR SYSTEM_TIME (since, `till it ended`))"
        " WITH SYSTEM VERSIONING", "INSERT INTO tides VALUES (1, 1, DEFAULT, DEFAULT)",
        "UPDATE tides SET level = 3")  # fmt: skip
    before = take_fingerprint(demo.site().databases()["main"])
    assert before.apart["history tides"].startswith("1 earlier row, the last until ")
    assert found(demo, before) == []
    ask(demo, "DELETE HISTORY FROM tides")
    assert found(demo, before) == ["history tides: 1 earlier row before, 0 earlier rows now"]


@pytest.mark.parametrize(
    ("harm", "declared", "found"),
    [
        ("REFRESH MATERIALIZED VIEW tide_days WITH NO DATA", "contents tide_days", ""),
        ("DROP MATERIALIZED VIEW tide_days; CREATE VIEW tide_days AS SELECT 1 AS level", "view tide_days", ""),
        (
            "REFRESH MATERIALIZED VIEW tide_days WITH NO DATA",
            "",
            "tide_days: 11 rows before, not filled now: REFRESH MATERIALIZED VIEW fills it",
        ),
    ],
)
def test_what_one_release_declares_is_no_difference_at_the_end_of_the_way(
    engine_demo: MakeDemo, harm: str, declared: str, found: str
) -> None:
    """The data are read when its rung is done, and what it declared there is not asked of the releases after it."""
    demo, _ = with_answers(engine_demo, start=True)
    ask(demo, f"CREATE FUNCTION harm() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {harm}; RETURN NULL; END $$",
        "CREATE TRIGGER harm AFTER UPDATE ON meta FOR EACH ROW WHEN (new.value = '26')"
        " EXECUTE FUNCTION harm()")  # fmt: skip
    if declared:
        beside(demo, "2.6", CONTRACT, f'{CONTRACT}definition_changed = ["{declared}"]\n')
    answer = demo.yl("climb", "--yes")
    assert answer.code == bool(found), answer.err
    assert found in " ".join(answer.err.split())
