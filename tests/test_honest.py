"""No false alarm: random schemas, random data, random honest contracts of every form, and nothing is ever blamed."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import MakeDemo
from tests.drill import TYPES, Harbour, literal, server_harbour, sqlite_harbour

WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
KINDS = ("text", "integer", "double", "money", "truth", "bytes", "moment")
VALUES: dict[str, st.SearchStrategy[Any]] = {
    "text": st.sampled_from(["", " ", "007", "Ærø", "a'b", "x" * 60, "back\\slash", "NULL", "ß", "two\nlines", "⚓"]),
    "integer": st.integers(-(2**31), 2**31 - 1),
    "double": st.sampled_from([0.0, -1.5, 1e-9, 12345.678901, 1e15, 3.0]),
    "money": st.sampled_from([0.0, 1.25, -3.5, 1234567.89]),
    "truth": st.booleans(),
    "bytes": st.sampled_from([b"", b"\x00\xff", b"abc"]),
    "moment": st.sampled_from(["2026-01-31 00:00:00", "1999-12-31 23:59:59.125000", "2026-03-29 02:30:00"]),
}
COLUMNS = st.lists(st.sampled_from(KINDS), min_size=2, max_size=5)


@st.composite
def tables(draw: st.DrawFn) -> tuple[list[str], list[list[Any]], str]:
    """Column kinds, rows (without their key), and how rows are found: by a key, two, or nothing."""
    kinds = draw(COLUMNS)
    row = st.tuples(*(st.none() | VALUES[kind] for kind in kinds))
    rows = draw(st.lists(row, min_size=0, max_size=12))
    return kinds, [list(one) for one in rows], draw(st.sampled_from(["one", "two", "none"]))


def made(engine: str, name: str, table: tuple[list[str], list[list[Any]], str]) -> list[str]:
    kinds, rows, key = table
    columns = ["id integer" + (" PRIMARY KEY" if key == "one" else ""), "part integer"]
    columns += [f"c{number} {TYPES[engine].get(kind, kind)}" for number, kind in enumerate(kinds)]
    columns += ["PRIMARY KEY (id, part)"] if key == "two" else []
    made = [f"CREATE TABLE {name} ({', '.join(columns)})"]
    if rows:
        listed = (
            "(" + ", ".join([str(number // 2 if key == "two" else number), str(number % 2),
                             *(literal(value, engine) for value in row)]) + ")"
            for number, row in enumerate(rows)
        )  # fmt: skip
        made.append(f"INSERT INTO {name} VALUES {', '.join(listed)}")
    return made


FORMS = ("nothing", "add", "fill", "drop", "rename table", "rename column", "loose", "told", "gone", "kept",
         "grow", "loose in some rows", "grow and told", "same", "numbered anew", "by query", "drop table",
         "index", "any", "moved")  # fmt: skip


def change(form: str, name: str, table: tuple[list[str], list[list[Any]], str], engine: str) -> Iterator[Any]:
    """The contract's part and the statements of one honest change; more than one part where it needs them."""
    kinds, _, key = table
    text = TYPES[engine]["text"]
    told = {"part": "-10 - part"}
    tell = f"UPDATE {name} SET part = -10 - part"
    come = f"INSERT INTO {name} (id, part) VALUES (90001, 1), (90002, 0)"
    first = "c0"
    yield {
        "nothing": ({}, []),
        "add": ({"tables": [{"name": name, "columns_added": ["extra"]}]},
                [f"ALTER TABLE {name} ADD COLUMN extra {text}"]),
        "fill": ({"tables": [{"name": name, "filled": {"extra": "'x'"}}]},
                 [f"ALTER TABLE {name} ADD COLUMN extra {text} DEFAULT 'x'"]),
        "drop": ({"tables": [{"name": name, "columns_dropped": [first]}]}, [f"ALTER TABLE {name} DROP COLUMN {first}"]),
        "rename table": ({"tables": [{"name": f"{name}_now", "renamed_from": name}]},
                         [f"ALTER TABLE {name} RENAME TO {name}_now"]),
        "rename column": ({"tables": [{"name": name, "columns_renamed": {first: "renamed"}}]},
                          [f"ALTER TABLE {name} RENAME COLUMN {first} TO renamed"]),
        "loose": ({"tables": [{"name": name, "columns_changed": [first]}]}, [f"UPDATE {name} SET {first} = NULL"]),
        "loose in some rows": ({"tables": [{"name": name, "columns_changed": [first], "changed_where": "part = 1"}]},
                               [f"UPDATE {name} SET {first} = NULL WHERE part = 1"]),
        "told": ({"tables": [{"name": name, "values": told}]}, [tell]),
        "gone": ({"tables": [{"name": name, "gone_where": "part = 1"}]}, [f"DELETE FROM {name} WHERE part = 1"]),
        "kept": ({"tables": [{"name": name, "kept_where": "id > 3"}]}, [f"DELETE FROM {name} WHERE NOT id > 3"]),
        "grow": ({"tables": [{"name": name, "rows": "grow"}]}, [come]),
        "grow and told": ({"tables": [{"name": name, "rows": "grow", "values": told}]}, [tell, come]),
        "same": ({"tables": [{"name": name, "same_as": {"part": "number"}}]}, _as_number(name, engine, key)),
        "numbered anew": ({"tables": [{"name": name, "values": {"id": "id + 70000"}}]},
                          [f"UPDATE {name} SET id = id + 70000"]),
        "by query": ({"tables_added": [f"{name}_by"], "tables": [
            {"name": f"{name}_by", "query": f"SELECT id, part, {first} AS value FROM {name} WHERE part = 0"}]},
            [f"CREATE TABLE {name}_by AS SELECT id, part, {first} AS value FROM {name} WHERE part = 0"]),
        "drop table": ({"tables_dropped": [name]}, [f"DROP TABLE {name}"]),
        "index": ({}, [f"CREATE INDEX {name}_by_part ON {name} (part)"]),
        "any": ({"tables": [{"name": name, "rows": "any"}]}, [f"DELETE FROM {name}"]),
        "moved": _moved(name, engine, key, first, TYPES[engine].get(kinds[0], kinds[0])),
    }[form]  # fmt: skip


def _moved(name: str, engine: str, key: str, column: str, kind: str) -> tuple[dict[str, Any], list[str]]:
    if key != "one":
        return {}, []  # values are found again by a key of one column
    return (
        {"tables_added": [f"{name}_of"],
         "moved": [{"from": f"{name}.{column}", "to": f"{name}_of.value", "by": "owner"}]},
        [f"CREATE TABLE {name}_of (nr integer, owner integer, value {kind})",
         f"INSERT INTO {name}_of SELECT 5000 - id, id, {column} FROM {name}",
         f"ALTER TABLE {name} DROP COLUMN {column}"],
    )  # fmt: skip


def _as_number(name: str, engine: str, key: str) -> list[str]:
    if key == "two":
        return []  # the column is a part of the key
    if engine == "sqlite":
        return [f"ALTER TABLE {name} ADD COLUMN fresh TEXT", f"UPDATE {name} SET fresh = part || '.0'",
                f"ALTER TABLE {name} DROP COLUMN part", f"ALTER TABLE {name} RENAME COLUMN fresh TO part"]  # fmt: skip
    if engine == "postgresql":
        return [f"ALTER TABLE {name} ALTER part TYPE numeric(9,3)"]
    return [f"ALTER TABLE {name} MODIFY part decimal(9,3)"]


@pytest.fixture(params=["sqlite", "postgresql", "mariadb"])
def harbour(request: pytest.FixtureRequest, engine_demo: MakeDemo, tmp_path: Path) -> Iterator[Harbour]:
    found = (
        sqlite_harbour(tmp_path) if request.param == "sqlite" else server_harbour(request.param, engine_demo, tmp_path)
    )
    yield found
    found.close()


def test_no_honest_change_is_ever_blamed(harbour: Harbour) -> None:
    engine = harbour.engine
    examples = {"sqlite": 60, "postgresql": 12, "mariadb": 6}[engine] * (6 if WHOLE else 1)

    @settings(max_examples=examples, deadline=None, suppress_health_check=list(HealthCheck), database=None)
    @given(st.lists(st.tuples(tables(), st.sampled_from(FORMS)), min_size=1, max_size=3))
    def fly(chosen: list[tuple[tuple[list[str], list[list[Any]], str], str]]) -> None:
        contract: dict[str, Any] = {}
        before, after = [], []
        for number, (table, form) in enumerate(chosen):
            before += made(engine, f"t{number}", table)
            for part, statements in change(form, f"t{number}", table, engine):
                after += statements
                for key, more in part.items():
                    contract[key] = [*contract.get(key, []), *more]
        harbour.begin(before)
        differing, _ = harbour.fly(contract, after, [])
        told = [(one.table, one.remarks) for one in differing]
        assert told == [], (contract, before, after)

    fly()
