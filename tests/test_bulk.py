"""Large tables of SQLite are read in columns; what is told of them is what reading value by value tells."""

from __future__ import annotations

import os
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.crash_driver import in_child
from tests.intruder import ACCOUNT, hand_over
from yellow_ladder.database import DatabaseAddress, Table, open_database
from yellow_ladder.database.sqlite import bulk
from yellow_ladder.database.sqlite.database import SqliteDatabase
from yellow_ladder.fingerprints import scan
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint

VALUES = st.one_of(
    st.none(),
    st.integers(-(2**63), 2**63 - 1),
    st.integers(-3, 3),
    st.sampled_from([2**53, 2**53 + 1, -(2**53) - 1]),
    st.floats(allow_nan=False),
    st.sampled_from([0.0, -0.0, 1.0, 2.5]),
    st.text(st.characters(exclude_categories=["Cs"]), max_size=12),
    st.sampled_from(["", "1", "1.5", "a\0b", "x" * 1025, "Käthe"]),
    st.binary(max_size=9),
    st.sampled_from([b"", b"Mole", b"\xc3", b"\xa4"]),
)
TYPES = [
    "INTEGER",
    "BIGINT",
    "REAL",
    "DOUBLE",
    "TEXT",
    "VARCHAR(20)",
    "NUMERIC",
    "DATETIME",
    "DECIMAL(10,2)",
    "BLOB",
    "",
    "BOOLEAN",
]


@st.composite
def tables(draw: st.DrawFn) -> tuple[list[str], list[tuple[Any, ...]]]:
    """Types of columns, and rows; most columns hold values of one kind, as those of applications do."""
    kinds = draw(st.lists(st.sampled_from(TYPES), min_size=1, max_size=4))
    alike = [st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False), st.text("aäö", max_size=9)]
    values = [draw(st.sampled_from([VALUES, *(st.one_of(st.none(), one) for one in alike)])) for _ in kinds]
    return kinds, draw(st.lists(st.tuples(*values), min_size=1, max_size=12))


def made(path: Path, kinds: list[str], rows: list[tuple[Any, ...]]) -> SqliteDatabase:
    path.unlink(missing_ok=True)
    with closing(sqlite3.connect(path)) as connection, connection:
        named = ", ".join(f'"c ""{number}" {kind}' for number, kind in enumerate(kinds))
        connection.execute(f"CREATE TABLE berths (id INTEGER PRIMARY KEY, {named})")
        places = ", ".join("?" for _ in kinds)
        connection.executemany(f"INSERT INTO berths VALUES (NULL, {places})", rows)
    database = open_database(DatabaseAddress("main", "sqlite", path))
    assert isinstance(database, SqliteDatabase)
    return database


@pytest.fixture
def told_apart(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Everything is read in columns, in chunks of three rows; how many rows were is counted."""
    monkeypatch.setattr(scan, "_IN_BULK_FROM_ROWS", 0)
    monkeypatch.setattr(bulk, "_CHUNK_ROWS", 3)
    counted: list[int] = []
    read = scan._read_columns

    def counting(*words: Any) -> Any:
        found = read(*words)
        counted.append(found.rows)
        return found

    monkeypatch.setattr(scan, "_read_columns", counting)
    return counted


def by_values(database: SqliteDatabase) -> DatabasePrint:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(SqliteDatabase, "read_columns", lambda *_: None)
        return take_fingerprint(database)


@settings(max_examples=400 if os.environ.get("YELLOW_LADDER_SWEEP") else 60, deadline=None,
          suppress_health_check=[HealthCheck.function_scoped_fixture])  # fmt: skip
@given(tables())
@example((["TEXT"], [("a",), (b"a",)]))
@example((["TEXT"], [(None,)] * 5 + [("late",)]))
@example((["DATETIME", "REAL"], [(None, None)] * 5 + [("2026-01-20", 7), (1_768_867_200, 7.5)]))
@example((["DECIMAL(10,2)"], [(10,), (10.5,), (2**53 + 1,)]))
def test_columns_in_bulk_tell_what_values_one_by_one_tell(
    tmp_path: Path, told_apart: list[int], table: tuple[list[str], list[tuple[Any, ...]]]
) -> None:
    database = made(tmp_path / "bulk.sqlite", *table)
    assert take_fingerprint(database) == by_values(database)


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        ("INTEGER", [1, None, -(2**63)]),
        ("REAL", [1, 2.5, None, -0.0]),
        ("TEXT", ["Käthe", None, "", "x" * 3000, "a\0b", 7]),
        ("DATETIME", ["2026-01-20", None, "2026-01-21"]),
        ("DECIMAL(10,2)", [10, 10.5, None]),
        ("BLOB", [b"\0\xff", None, b""]),
        ("TEXT", [None] * 250 + ["late"]),
        ("TEXT", [None, None]),
    ],
)
def test_what_applications_keep_is_read_in_bulk(
    tmp_path: Path, told_apart: list[int], kind: str, values: list[Any]
) -> None:
    """And not, all of it, value by value after an attempt."""
    database = made(tmp_path / "bulk.sqlite", [kind], [(one,) for one in values])
    found = take_fingerprint(database)
    assert told_apart == [len(values)]
    assert found == by_values(database)


@pytest.mark.parametrize("text", [b"\xc3", b"a\xed\xa0\x80", b"\xa4"])
def test_a_text_that_is_none_is_found_out_though_it_fits_with_the_one_before(
    tmp_path: Path, told_apart: list[int], text: bytes
) -> None:
    database = made(tmp_path / "bulk.sqlite", ["TEXT"], [("a",)])
    with closing(sqlite3.connect(database.address.path)) as connection, connection:
        for value in (b"\xc3", text, b"z"):
            connection.execute("INSERT INTO berths VALUES (NULL, CAST(? AS TEXT))", (value,))
    assert take_fingerprint(database) == by_values(database)
    assert told_apart == []


def test_wide_rows_come_in_small_chunks(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    database = made(tmp_path / "bulk.sqlite", ["BLOB"], [(bytes(200_000),)] * 60)
    monkeypatch.setattr(bulk, "_CHUNK_BYTES", 1_000_000)
    chunks = database.read_columns(Table("berths", ("id", 'c "0'), ("id",)), ("id", 'c "0'), None)
    assert chunks is not None
    assert {len(chunk[1].data) // 200_000 for chunk in chunks} == {4}


@pytest.mark.skipif(os.geteuid() != 0, reason="only root works with another's rights")
def test_the_driver_has_the_rights_of_the_files_owner(tmp_path: Path) -> None:
    """What it makes or removes beside the file, the owner could have made or removed."""
    site = tmp_path / "site"
    site.mkdir()
    database = made(site / "bulk.sqlite", ["TEXT"], [("a",)] * 9)
    with closing(sqlite3.connect(database.address.path)) as connection:
        connection.execute("PRAGMA journal_mode = WAL")
    hand_over(site)

    def strangers() -> int:
        chunks = database.read_columns(Table("berths", ("id", 'c "0'), ("id",)), ("id",), None)
        assert chunks is not None
        assert next(chunks)[0].numbers is not None
        assert len(list(site.iterdir())) == 3, "a log, and what readers of it share"
        return sum(one.stat().st_uid != ACCOUNT for one in site.iterdir())

    assert in_child(strangers) == (0, 0)
