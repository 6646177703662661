"""What a server's database restores is equal: every type of column, odd values, every kind of object."""

from __future__ import annotations

import uuid
from dataclasses import replace
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
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.records import TWO_WAYS, DatabasePrint, TablePrint
from yellow_ladder.fingerprints.scan import Job, run_job, take_fingerprint
from yellow_ladder.fingerprints.verdicts import Verdict

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


def test_rows_read_packed_have_the_sums_of_rows_read_one_by_one(engine_demo: MakeDemo) -> None:
    """Every type that may be packed, with its odd values; texts that cannot are found out and read one by one."""
    demo = engine_demo("mariadb", start=False)
    connection = connect(demo)
    with connection.cursor() as cursor:
        for statement in split_sql((ODD / "mariadb.sql").read_text(), "mariadb"):
            cursor.execute(statement)
    connection.close()
    database = demo.site().databases()["main"]
    (table,) = [one for one in database.tables() if one.name == "everything"]
    (span,) = database.spans("everything", 1)
    assert span is not None
    assert database.read_packed(table, table.columns, span) is None, "some of these hold bytes"
    columns = tuple(one for one in table.columns if database.read_packed(table, (one,), span) is not None)
    assert len(columns) > 20

    def both_ways() -> tuple[list[int], TablePrint]:
        told: list[int] = []
        job = Job(table, columns, ("id",), span, 5)
        packed = run_job(database, job, told.append)
        assert packed == run_job(database, replace(job, span=None))
        return told, packed

    told, first = both_ways()
    assert first.rows == 5
    assert told == [5], "read at one go"
    ask(demo, "UPDATE everything SET a_text = CHAR(0x1d) WHERE a_tiny = 5")
    told, second = both_ways()
    assert second.columns["a_text"] != first.columns["a_text"]
    assert second.columns["a_tiny"] == first.columns["a_tiny"]
    ask(demo, "UPDATE everything SET a_text = CONCAT('quay', CHAR(0x1f)) WHERE a_tiny = 5")
    assert both_ways()[1] != second


def test_a_postgresql_server_sums_parts_to_the_whole_and_null_is_nowhere_the_same(engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql", start=False)
    ask(
        demo,
        "CREATE TABLE tides (day integer, port text, level numeric)",
        "INSERT INTO tides SELECT n, CASE WHEN n % 3 = 0 THEN 'mole ' || n END, CASE WHEN n % 5 > 0 THEN n / 7.0 END"
        " FROM generate_series(1, 3000) AS n",
    )
    database = demo.site().databases()["main"]
    (table,) = [one for one in database.tables() if one.name == "tides"]
    jobs = [Job(table, table.columns, table.columns, span, 0) for span in database.spans("tides", 4)]
    assert len(jobs) == 4
    parts = [run_job(database, job) for job in jobs]
    whole = run_job(database, replace(jobs[0], span=None))
    assert sum(parts[1:], start=parts[0]) == whole
    assert whole.rows == 3000
    assert whole.columns["port"].values == 1000
    ask(demo, "UPDATE tides SET port = '', level = NULL WHERE day = 1")
    first = run_job(database, replace(jobs[0], span=None))
    ask(demo, "UPDATE tides SET port = NULL, level = 0 WHERE day = 1")
    second = run_job(database, replace(jobs[0], span=None))
    assert first.columns["day"].keyed != second.columns["day"].keyed, "the row as a whole is another one"


def test_sums_made_in_two_ways_say_nothing_of_each_other(engine_demo: MakeDemo) -> None:
    """Fingerprints that an earlier build kept, or a server with another hash made, are refused by name."""
    demo = engine_demo("postgresql", start=False)
    now = take_fingerprint(demo.site().databases()["main"])
    record = now.as_record()
    del record["tables"]["notices"]["way"]
    kept = DatabasePrint.from_record(record)
    assert kept.differences(now) == [f"the table notices: it {TWO_WAYS}"]
    verdicts = {one.table: one for one in judge(kept, now, compose(kept, []))}
    assert verdicts["notices"].verdict is Verdict.DIFFERS
    assert TWO_WAYS in verdicts["notices"].remarks[0]
    assert verdicts["berths"].verdict is Verdict.SAME


def test_a_postgresql_table_is_cut_by_its_key_only_where_rows_lie_in_its_order(engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql", start=False)
    ask(
        demo,
        "CREATE TABLE in_order (id bigint PRIMARY KEY, level text)",
        "INSERT INTO in_order SELECT n * 1000, repeat('x', 200) FROM generate_series(-999, 2000) AS n",
        "CREATE TABLE strewn (id integer PRIMARY KEY, level text)",
        "INSERT INTO strewn SELECT (n * 7919) % 3001, repeat('x', 200) FROM generate_series(1, 3000) AS n",
        "CREATE TABLE named (id text PRIMARY KEY, level text)",
        "INSERT INTO named SELECT 'n' || n, repeat('x', 200) FROM generate_series(1, 3000) AS n",
    )
    database = demo.site().databases()["main"]
    tables = {one.name: one for one in database.tables()}
    columns = {
        name: {span.column for span in database.spans(name, 3) if span is not None}
        for name in ("in_order", "strewn", "named")
    }
    assert columns == {"in_order": {"id"}, "strewn": {""}, "named": {""}}
    for name in columns:
        jobs = [Job(tables[name], ("id", "level"), ("id",), span, 0) for span in database.spans(name, 3)]
        parts = [run_job(database, job) for job in jobs]
        assert sum(parts[1:], start=parts[0]) == run_job(database, replace(jobs[0], span=None))
    ((first, second, third)) = database.spans("in_order", 3)
    assert database.spans("in_order", 9, (second.low, third.low)) == [first, second, third]  # type: ignore[union-attr]
