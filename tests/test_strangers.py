"""A SQLite file that asks for what only its application has: orders of texts, functions and modules of its own."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from tests.conftest import Demo
from yellow_ladder.database.sqlite import look
from yellow_ladder.database.sqlite.strangers import has_own_order, lend_orders, own_orders
from yellow_ladder.errors import AnswerNo

ORDERS = """
CREATE TABLE names (name TEXT COLLATE HARBOUR PRIMARY KEY, number INTEGER) WITHOUT ROWID;
CREATE TABLE shelf (code TEXT COLLATE "Harbour" PRIMARY KEY, number INTEGER);
CREATE TABLE books (id INTEGER PRIMARY KEY, title TEXT NOT NULL, sort TEXT);
CREATE INDEX books_title ON books (title COLLATE HARBOUR);
CREATE TABLE tides (
  id INTEGER PRIMARY KEY, a INTEGER, b INTEGER GENERATED ALWAYS AS (twice(a)) STORED, CHECK (twice(a) < 5000)
);
CREATE INDEX books_sort ON books (sorted(title));
CREATE TRIGGER books_in AFTER INSERT ON books BEGIN UPDATE books SET sort = sorted(NEW.title) WHERE id = NEW.id; END;
CREATE VIEW sorted_books AS SELECT id, sorted(title) FROM books;
"""


@contextmanager
def by_application(path: Path) -> Iterator[sqlite3.Connection]:
    """The database as its application opens it: names are in order backwards, whatever the case."""
    with closing(sqlite3.connect(path)) as connection:
        connection.create_collation(
            "HARBOUR", lambda a, b: (a.lower()[::-1] > b.lower()[::-1]) - (a.lower()[::-1] < b.lower()[::-1])
        )
        connection.create_function("sorted", 1, lambda text: text and text[::-1], deterministic=True)
        connection.create_function("twice", 1, lambda number: (number or 0) * 2, deterministic=True)
        yield connection
        connection.commit()


@pytest.fixture
def harbour(idle: Demo) -> Demo:
    with by_application(idle.database) as connection:
        connection.executescript(ORDERS)
        for number in range(300):
            connection.execute("INSERT INTO names VALUES (?, ?)", (f"Pier {number}", number))
            connection.execute("INSERT INTO shelf VALUES (?, ?)", (f"S{number}", number))
            connection.execute("INSERT INTO books (title) VALUES (?)", (f"Tide {number}",))
            connection.execute("INSERT INTO tides (a) VALUES (?)", (number,))
    return idle


def test_it_is_compared_to_the_row_and_what_was_written_is_kept(harbour: Demo) -> None:
    result = harbour.json("climb", "--to", "2.6", "--yes")
    verdicts = {one["table"]: one["verdict"] for one in result["proof"]["tables"]["main"]}
    assert {verdicts[one] for one in ("names", "shelf", "books", "tides")} == {"same"}
    with by_application(harbour.database) as connection:
        connection.execute("UPDATE names SET number = 7777 WHERE name = 'PIER 7'")
        connection.execute("UPDATE shelf SET code = 's10' WHERE code = 'S10'")
        connection.execute("DELETE FROM names WHERE name = 'Pier 99'")
        connection.execute("INSERT INTO names VALUES ('Zulu', 1)")
        connection.execute("UPDATE books SET title = 'Ebb' WHERE id = 5")
    told = " ".join(harbour.yl("verify", "--json").document["result"]["faults"])
    assert "main.shelf: code: 1 value differs (letter case): code 'S10': 'S10' → 's10'" in told
    assert "main.books: title: 1 value differs: id 5: 'Tide 4' → 'Ebb'" in told
    assert "Pier 99" in told
    price = {one["table"]: one for one in harbour.json("descend", "--price")["price"]["tables"]}
    counts = {name: (one["added"], one["changed"], one["deleted"]) for name, one in price.items()}
    assert counts == {"names": (1, 1, 1), "shelf": (1, 0, 1), "books": (0, 1, 0)}
    harbour.json("descend", "--yes")
    (rows,) = harbour.folder.glob(".ladder/climbs/*/written-since/rows")
    kept = "".join(path.read_text() for path in rows.iterdir())
    assert "Zulu" in kept
    assert "7777" in kept
    with by_application(harbour.database) as connection:
        assert connection.execute("SELECT number FROM names WHERE name = 'pier 7'").fetchone() == (7,)
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",), "its own orders hold"


def test_a_migration_by_sql_that_needs_it_is_announced_refused_and_taken_back(harbour: Demo) -> None:
    """A stand-in for its order would put rows where the application does not find them."""
    found = harbour.json("check")["findings"]
    (told,) = [one for one in found if one["check"] == "contracts" and one["level"] == "warn"]
    assert told["saw"].endswith("is the application's own")
    objects = [one["saw"] for one in found if one["check"] == "database objects"]
    assert (
        "main: the view sorted_books, the trigger books_in of books: the function sorted is the application's own"
        in objects
    )
    assert not [one for one in found if one["check"] == "database objects" and one["level"] != "ok"]
    answer = harbour.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "no such collation sequence: HARBOUR" in answer.err
    assert harbour.json("survey")["version"] == "2.4"
    with by_application(harbour.database) as connection:
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)


def test_its_backups_are_made_checked_and_loaded(harbour: Demo) -> None:
    harbour.json("backup", "make")
    harbour.json("backup", "test", "--load")
    assert harbour.json("survey", "--thorough")["databases"][0]["invalid"] == []


def test_what_can_be_checked_of_its_structure_is(tmp_path: Path) -> None:
    """The whole cannot be, for want of a function; a row that breaks a rule in another table is found all the same."""
    path = tmp_path / "shelf.sqlite"
    with by_application(path) as connection:
        connection.executescript(ORDERS)
        connection.execute("CREATE TABLE plain (number INTEGER)")
        connection.execute("INSERT INTO plain VALUES (100)")
        connection.execute("INSERT INTO tides (a) VALUES (1)")
        connection.executemany("INSERT INTO names VALUES (?, 1)", [(f"{number}",) for number in range(100)])
        connection.commit()
        connection.execute("PRAGMA writable_schema = ON")
        rule = "replace(sql, 'number INTEGER)', 'number INTEGER CHECK (number < 9))')"
        connection.execute(f"UPDATE sqlite_master SET sql = {rule} WHERE name = 'plain'")
    with closing(sqlite3.connect(path)) as connection:
        lend_orders(connection)
        with pytest.raises(sqlite3.OperationalError, match="unknown function: twice"):
            connection.execute("PRAGMA quick_check(50)").fetchall()
        assert look.unsound(connection, "quick_check") == ["CHECK constraint failed in plain"]
        assert look.unsound(connection, "integrity_check") == ["CHECK constraint failed in plain"]


def test_what_a_question_would_not_find_by_another_order_is_refused_and_no_reference_is_called_broken(
    harbour: Demo,
) -> None:
    with by_application(harbour.database) as connection:
        connection.execute("CREATE TABLE visits (name TEXT REFERENCES names (name))")
        connection.executemany("INSERT INTO visits VALUES (?)", [(f"pier {number}",) for number in range(300)])
    assert harbour.json("survey", "--thorough")["databases"][0]["invalid"] == []
    with pytest.raises(AnswerNo, match="no such collation sequence: HARBOUR"):
        harbour.site().databases()["main"].scalar("SELECT number FROM names WHERE name = 'Pier 7'")


def test_a_module_that_is_not_here_keeps_nothing_else_from_being_read(harbour: Demo) -> None:
    with by_application(harbour.database) as connection:
        connection.execute("PRAGMA writable_schema = ON")
        connection.execute(
            "INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql)"
            " VALUES ('table', 'chart', 'chart', 0, 'CREATE VIRTUAL TABLE chart USING seachart(x)')"
        )
    found = harbour.json("check", "--to", "2.6")["findings"]
    assert [one for one in found if "the virtual table chart is made by seachart" in one["saw"]]
    result = harbour.json("climb", "--to", "2.6", "--yes")
    assert "names" in {one["table"] for one in result["proof"]["tables"]["main"] if one["verdict"] == "same"}


def test_rows_in_an_order_of_their_own_are_counted_right(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever looked up by another order would not find half of them."""
    monkeypatch.setattr(look, "_PIECE_ROWS", 50)
    path = tmp_path / "names.sqlite"
    with by_application(path) as connection:
        connection.executescript(ORDERS)
        connection.executemany("INSERT INTO names VALUES (?, 1)", [(f"{number}",) for number in range(1000)])
    with closing(sqlite3.connect(path)) as connection:
        lend_orders(connection)
        assert look.count_gently(connection, "names") == 1000
        assert has_own_order(connection, "books"), "by an index"
        assert not has_own_order(connection, "tides")
        assert own_orders(connection)["HARBOUR"] == ["index books_title", "table names"]
