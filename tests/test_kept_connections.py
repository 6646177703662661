"""One connection serves many questions, and is never in the way of what needs the database for itself."""

from __future__ import annotations

import shutil
import sqlite3
import time
from collections import Counter
from collections.abc import Generator

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import SERVERS, ask, databases_on
from yellow_ladder.database import Database, open_database
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.survey.databases import look_at_database

WHO = {"postgresql": "SELECT pg_backend_pid()", "mariadb": "SELECT connection_id()"}
OTHERS = {
    "postgresql": "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database()"
    " AND pid <> pg_backend_pid() AND backend_type = 'client backend'",
    "mariadb": "SELECT count(*) FROM information_schema.processlist WHERE db = DATABASE() AND id <> connection_id()",
}
THERE = {
    "postgresql": "SELECT count(*) FROM pg_stat_activity WHERE pid = {}",
    "mariadb": "SELECT count(*) FROM information_schema.processlist WHERE id = {}",
}


def main_database(demo: Demo) -> Database:
    return demo.site().databases()["main"]


@pytest.mark.parametrize("engine", SERVERS)
def test_questions_share_a_connection_that_ends_with_the_work(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    with connections_kept():
        first = main_database(demo).scalar(WHO[engine])
        assert [main_database(demo).scalar(WHO[engine]) for _ in range(3)] == [first] * 3
        take_fingerprint(main_database(demo))
        look_at_database("main", main_database(demo))
        assert main_database(demo).scalar(WHO[engine]) is not None
        assert main_database(demo).sessions() == [], "the tool's own connections are nobody's"
    assert ask(demo, OTHERS[engine]) == [(0,)]
    assert main_database(demo).scalar(WHO[engine]) != first


@pytest.mark.parametrize("engine", SERVERS)
def test_a_connection_that_was_cut_is_made_anew(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    with connections_kept():
        first = main_database(demo).scalar(WHO[engine])
        ask(demo, f"SELECT pg_terminate_backend({first})" if engine == "postgresql" else f"KILL CONNECTION {first}")
        end = time.monotonic() + 30
        while ask(demo, THERE[engine].format(first)) != [(0,)] and time.monotonic() < end:
            time.sleep(0.05)  # the server has taken the order; on a busy machine it is carried out a moment later
        assert main_database(demo).scalar(WHO[engine]) != first


@pytest.mark.parametrize("engine", SERVERS)
def test_each_question_sees_what_others_have_committed_by_then(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    with connections_kept():
        before = main_database(demo).count_all(["notices", "berths"])
        ask(demo, "DELETE FROM notices WHERE id = 1")
        after = main_database(demo).count_all(["notices", "berths"])
    assert (after["notices"], after["berths"]) == (before["notices"] - 1, before["berths"])


@pytest.mark.parametrize("engine", SERVERS)
def test_what_is_kept_keeps_no_database_from_being_dropped(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    there, place = databases_on(demo), demo.folder / "scratch"
    database = main_database(demo)
    with connections_kept():
        copy = demo.folder / f"copy.{database.ending}"
        with database.backed_up(copy, lambda _done, _total: None, at_rest=True) as still:
            wanted = take_fingerprint(still)
        scratch = database.copied_to(copy, place)
        assert take_fingerprint(scratch).rows == wanted.rows
        database.drop_scratch(place)
        assert databases_on(demo) == there
        database.restore_from(copy, database.details())
        assert take_fingerprint(main_database(demo)).differences(wanted) == []
        database.drop_leftovers()
    assert databases_on(demo) == there


def test_another_file_under_the_name_is_another_database(idle: Demo) -> None:
    other = idle.folder / "other.sqlite"
    shutil.copyfile(idle.database, other)
    with sqlite3.connect(other) as connection:
        connection.execute("DELETE FROM notices")
    with connections_kept():
        assert main_database(idle).count_rows("notices") > 0
        other.rename(idle.database)
        assert main_database(idle).count_rows("notices") == 0


def test_a_failed_question_leaves_no_connection_for_the_next(idle: Demo) -> None:
    with connections_kept():
        rows = main_database(idle).read_rows(main_database(idle).tables()[0], ("id",), None)
        assert isinstance(rows, Generator)
        next(rows)
        rows.close()
        assert main_database(idle).scalar("SELECT count(*) FROM notices") > 0
    assert main_database(idle).holders() == []
    writable = sqlite3.connect(idle.database)
    writable.execute("BEGIN EXCLUSIVE")
    writable.close()


@pytest.mark.parametrize("count", [1, 99, 100, 101, 250])
def test_every_table_is_counted_however_many_fit_in_a_statement(count: int, engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql", start=False)
    made = [f'CREATE TABLE "many {n}\'s" AS SELECT generate_series(1, {n % 7}) AS id' for n in range(count)]
    ask(demo, *made)
    database = open_database(main_database(demo).address)
    names = [table.name for table in database.tables() if table.name.startswith("many")]
    assert database.count_all(names) == {f"many {n}'s": n % 7 for n in range(count)}


@pytest.mark.parametrize("engine", ["sqlite", *SERVERS])
def test_objects_are_counted_as_they_are_listed(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    if engine != "sqlite":
        ask(demo, "CREATE VIEW longest AS SELECT max(length_cm) AS length FROM berths")
    database = main_database(demo)
    listed = Counter(name.split(" ", 1)[0] for name in database.objects())
    counts = database.object_counts()
    assert counts["index"] >= 1
    assert {kind: listed[kind] for kind in counts} == counts
    assert {"view", "trigger", "index"} & listed.keys() <= counts.keys()
