"""SQL files are split by each engine's own rules, and MariaDB goes on with a half-done one only where it can tell."""

from __future__ import annotations

import hashlib
import json

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import ask
from yellow_ladder.database import Database
from yellow_ladder.database.port import LedgerEntry
from yellow_ladder.database.sql_text import Unfinished, split_sql, transaction_control
from yellow_ladder.errors import AnswerNo

ENTRY = LedgerEntry("up", "9.0", "a" * 64, "2026-11-23T12:00:00Z")
TIDES = ["CREATE TABLE tides (id INTEGER)", "INSERT INTO tides VALUES (1)"]


@pytest.mark.parametrize(
    ("engine", "text", "count"),
    [
        ("postgresql", 'SELECT \'a;b\'; SELECT "odd;""name";', 2),
        ("postgresql", "SELECT E'it\\'s;'; SELECT $$a;b$$; SELECT $tag$ $$;$$ ; $tag$;", 3),
        ("postgresql", "/* a; /* b; */ c; */ SELECT 1; -- d;\nSELECT 2;", 2),
        (
            "postgresql",
            "CREATE FUNCTION f(a bool) BEGIN ATOMIC SELECT CASE WHEN a THEN 1 END; SELECT 2; END;",
            1,
        ),
        ("postgresql", "-- nothing\n;; /* here */ ;", 0),
        ("mariadb", 'SELECT \'it\\\'s;\', "a;""b", `c;``d`; SELECT 2 # e;\n;', 2),
        ("mariadb", "DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END //\nDELIMITER ;\nSELECT 3;", 2),
        ("mariadb", "/*!40101 SET NAMES utf8mb4 */; /* plain; */ SELECT 5--1;", 2),
        ("sqlite", "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; SELECT 2; END; SELECT 3;", 2),
    ],
)
def test_statements_end_where_the_engine_ends_them(engine: str, text: str, count: int) -> None:
    assert len(split_sql(text, engine)) == count


@pytest.mark.parametrize(
    ("engine", "text"),
    [("postgresql", "SELECT 1"), ("postgresql", "SELECT $$a;"), ("postgresql", "SELECT 1; /* open"),
     ("mariadb", "SELECT 1; SELECT"), ("mariadb", "SELECT `a;"), ("sqlite", "SELECT 'a;")],
)  # fmt: skip
def test_a_text_that_breaks_off_is_refused(engine: str, text: str) -> None:
    with pytest.raises(Unfinished):
        split_sql(text, engine)


@pytest.mark.parametrize("engine", ["sqlite", "postgresql", "mariadb"])
def test_beginning_and_ending_is_not_a_files_to_say(engine: str) -> None:
    for text in ("BEGIN", "/* x */ commit", "-- y\nROLLBACK TO a"):
        assert transaction_control(text, engine)
    assert transaction_control("UPDATE begin SET commit = 1", engine) == ""


@pytest.fixture
def idle_mariadb(engine_demo: MakeDemo) -> Demo:
    return engine_demo("mariadb", start=False, rows=10)


def database_of(demo: Demo) -> Database:
    return demo.site().databases()["main"]


@pytest.mark.parametrize(
    "statement",
    ["SET @mark = 7", "SELECT max(id) INTO @mark FROM berths", "CREATE TEMPORARY TABLE lost (id INT)",
     "INSERT INTO tides VALUES (LAST_INSERT_ID())"],
)  # fmt: skip
def test_what_lived_in_a_lost_connection_is_not_built_upon(statement: str, idle_mariadb: Demo) -> None:
    statements = [*TIDES, statement, "DELETE FROM wrecks"]
    with pytest.raises(AnswerNo, match="wrecks"):
        database_of(idle_mariadb).apply(statements, ENTRY)
    ask(idle_mariadb, "CREATE TABLE wrecks (id INTEGER)")
    with pytest.raises(AnswerNo, match="depends on its connection"):
        database_of(idle_mariadb).apply(statements, ENTRY)


def begin_second(demo: Demo, statements: list[str], shape: str) -> None:
    """Leave the database as a kill would while the second statement runs; `shape` is what was noted before it."""
    with pytest.raises(AnswerNo):
        database_of(demo).apply([statements[0], "DELETE FROM nowhere"], ENTRY)
    ask(demo, f"UPDATE yellow_ladder_progress SET done = 1, begun = 2, shape = '{shape}'")


def shape_of(demo: Demo) -> str:
    return hashlib.sha256(json.dumps(database_of(demo).objects(), sort_keys=True).encode()).hexdigest()


@pytest.mark.parametrize("was_done", [False, True])
def test_a_change_of_the_schema_begun_before_a_kill_is_done_once(was_done: bool, idle_mariadb: Demo) -> None:
    statements = [TIDES[0], "ALTER TABLE tides ADD COLUMN height INTEGER"]
    begin_second(idle_mariadb, statements, "x" * 64)
    ask(idle_mariadb, f"UPDATE yellow_ladder_progress SET shape = '{shape_of(idle_mariadb)}'")
    if was_done:
        ask(idle_mariadb, statements[1])
    assert database_of(idle_mariadb).apply(statements, ENTRY)
    assert [row[0] for row in ask(idle_mariadb, "SHOW COLUMNS FROM tides")] == ["id", "height"]
    assert ask(idle_mariadb, "SELECT count(*) FROM yellow_ladder_progress") == [(0,)]


def test_a_statement_of_which_nobody_can_tell_is_not_done_again(idle_mariadb: Demo) -> None:
    statements = [TIDES[0], "CALL anything()"]
    begin_second(idle_mariadb, statements, "x" * 64)
    with pytest.raises(AnswerNo, match="nobody can tell"):
        database_of(idle_mariadb).apply(statements, ENTRY)


def test_a_half_done_file_is_not_gone_on_with_as_another(idle_mariadb: Demo) -> None:
    begin_second(idle_mariadb, TIDES, "x" * 64)
    with pytest.raises(AnswerNo, match="another file"):
        database_of(idle_mariadb).apply(TIDES, LedgerEntry("up", "9.0", "b" * 64, "2026-11-23T12:00:00Z"))
