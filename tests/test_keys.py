"""By what the rows of a table are told apart, on every engine."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from tests.conftest import MakeDemo
from tests.engines import connect

KEYS = {
    "CREATE TABLE one (a INT NOT NULL UNIQUE, b INT)": ("a",),
    "CREATE TABLE two (a INT UNIQUE, b INT NOT NULL)": (),
    "CREATE TABLE three (a INT NOT NULL, b INT NOT NULL, c INT NOT NULL, UNIQUE (a, b), UNIQUE (c))": ("c",),
    "CREATE TABLE four (a INT NOT NULL UNIQUE, b INT NOT NULL, PRIMARY KEY (b, a))": ("b", "a"),
    "CREATE TABLE five (a INT, b INT)": (),
}


@pytest.mark.parametrize("engine", ["sqlite", "postgresql", "mariadb"])
def test_rows_are_told_apart_by_the_primary_key_or_the_shortest_unique_one(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=10, start=False)
    with closing(sqlite3.connect(demo.database) if engine == "sqlite" else connect(demo)) as connection:
        cursor = connection.cursor()
        for statement in (*KEYS, *(["CREATE UNIQUE INDEX five_few ON five (a) WHERE b > 1"] * (engine != "mariadb"))):
            cursor.execute(statement)
        connection.commit()
    found = {one.name: one.key for one in demo.site().databases()["main"].tables()}
    assert {statement.split()[2]: found[statement.split()[2]] for statement in KEYS} == {
        statement.split()[2]: key for statement, key in KEYS.items()
    }
