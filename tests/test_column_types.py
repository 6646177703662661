"""What a server's database restores is equal: every type of column, odd values, every kind of object."""

from __future__ import annotations

import uuid
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import MakeDemo
from tests.engines import SERVERS, ask, connect
from yellow_ladder.backup.make import load_and_compare, make_backup
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.database import Database
from yellow_ladder.database.sql_text import split_sql
from yellow_ladder.events import silent
from yellow_ladder.fingerprints.scan import take_fingerprint

ODD = Path(__file__).parent / "odd"
KINDS = {
    "postgresql": {"table", "view", "index", "rule", "policy", "function", "type", "sequence", "collation", "extension",
                   "schema", "event", "default", "trigger"},
    "mariadb": {"table", "view", "index", "trigger", "event", "procedure", "function", "sequence", "default"},
}  # fmt: skip


def around(database: Database, folder: Path) -> None:
    """Back up and put back; every difference fails."""
    before = take_fingerprint(database)
    copy = folder / f"copy.{database.ending}"
    with database.backed_up(copy, lambda _done, _total: None, at_rest=True) as still:
        assert still.objects() == before.objects
    details = database.details()
    database.restore_from(copy, details)
    after = take_fingerprint(database)
    assert [(name, column) for name, table in before.tables.items() for column, sums in table.columns.items()
            if name in after.tables and after.tables[name].columns[column] != sums] == []  # fmt: skip
    assert after.differences(before) == []
    assert before.tables


@pytest.mark.parametrize("engine", SERVERS)
def test_every_type_and_every_object_comes_back(engine: str, engine_demo: MakeDemo, tmp_path: Path) -> None:
    demo = engine_demo(engine, start=False)
    connection = connect(demo)
    with connection.cursor() as cursor:
        for statement in split_sql((ODD / f"{engine}.sql").read_text(), engine):
            cursor.execute(statement)
    connection.close()
    database = demo.site().databases()["main"]
    assert {name.split(" ", 1)[0] for name in database.objects()} >= KINDS[engine]
    before = take_fingerprint(database)
    seen = before.tables["everything"]
    assert all(sums.values for name, sums in seen.columns.items()), "a column has no value at all"
    around(database, tmp_path)
    backup = make_backup(demo.site(), "2.4", utc_now(), silent)
    assert load_and_compare(backup, demo.site(), silent)["main"].rows == before.rows


TEXTS = st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="\0"), max_size=60)


@pytest.mark.parametrize("engine", SERVERS)
@settings(max_examples=6, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    rows=st.lists(
        st.tuples(TEXTS, st.binary(max_size=60), st.floats(allow_nan=False, width=32)), min_size=1, max_size=12
    )
)
def test_whatever_stands_in_a_row_comes_back(engine: str, rows, engine_demo: MakeDemo, tmp_path_factory) -> None:  # type: ignore[no-untyped-def]
    demo = engine_demo(engine, name=uuid.uuid4().hex, start=False, rows=10)
    types = {"postgresql": ("text", "bytea", "real"), "mariadb": ("LONGTEXT", "LONGBLOB", "FLOAT")}[engine]
    ask(
        demo, f"CREATE TABLE odd (id INTEGER PRIMARY KEY, a {types[0]}, b {types[1]}, c {types[2]}, d DOUBLE PRECISION)"
    )
    connection = connect(demo)
    with connection.cursor() as cursor:
        for number, (text, raw, real) in enumerate(rows):
            finite = real if abs(real) < 3e38 else 1.0
            cursor.execute("INSERT INTO odd VALUES (%s, %s, %s, %s, %s)", (number, text, raw, finite, finite / 3))
    connection.close()
    around(demo.site().databases()["main"], tmp_path_factory.mktemp("around"))
    assert [text for (text,) in ask(demo, "SELECT a FROM odd ORDER BY id")] == [text for text, _, _ in rows]
    assert [bytes(raw) for (raw,) in ask(demo, "SELECT b FROM odd ORDER BY id")] == [raw for _, raw, _ in rows]


HISTORY = "SELECT id, level, ROW_START, ROW_END FROM tides FOR SYSTEM_TIME ALL ORDER BY ROW_START, id"


def test_the_history_of_system_versioned_tables_comes_back(engine_demo: MakeDemo) -> None:
    demo = engine_demo("mariadb", start=False)
    ask(demo, "CREATE TABLE tides (id INTEGER PRIMARY KEY, level FLOAT) WITH SYSTEM VERSIONING",
        "INSERT INTO tides VALUES (1, 1.5), (2, 2.5)", "UPDATE tides SET level = 3.5 WHERE id = 1",
        "DELETE FROM tides WHERE id = 2")  # fmt: skip
    before = ask(demo, HISTORY)
    assert len(before) == 3
    assert demo.yl("climb", "--yes").code == 0
    ask(demo, "UPDATE tides SET level = 9 WHERE id = 1")
    assert demo.yl("descend", "--yes").code == 0
    assert ask(demo, HISTORY) == before

    # A value that the server does not print in full cannot be written anew beside its history: told before, not lost.
    ask(demo, "UPDATE tides SET level = 0.123456789 WHERE id = 1")
    findings = demo.json("check", code=1)["findings"]
    (told,) = [one for one in findings if one["check"] == "database rights"]
    assert (told["level"], "tides" in told["saw"], "DOUBLE" in told["remedy"]) == ("stop", True, True)
    answer = demo.yl("backup", "make", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "history-not-exact")
