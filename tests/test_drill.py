"""The drill: damage of every kind, through every kind of declared change, on every engine: found, located, named."""

from __future__ import annotations

import os
import random
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import MakeDemo
from tests.drill import (
    COLUMNS,
    ROLES,
    SHAPES,
    Harbour,
    Shape,
    literal,
    remarks_of,
    row,
    server_harbour,
    sqlite_harbour,
    tells,
)
from yellow_ladder.database.row_changes import ADDED, DELETED
from yellow_ladder.demo.damage import VALUES
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.narrowing import PART, Look, find_rows, pairs_of
from yellow_ladder.fingerprints.rows import InWords
from yellow_ladder.fingerprints.scan import take_fingerprint

ENGINES = ("sqlite", "postgresql", "mariadb")
HURT = (7, 8, 9, 11, 12, 13, 17, 18, 19)
WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))


@dataclass(frozen=True)
class Case:
    """Statements that hurt, and where and how that must be told."""

    kind: str
    statements: tuple[str, ...]
    column: str
    row: str
    words: str


def value_cases(shape: Shape, engine: str) -> Iterator[Case]:
    for damage in VALUES:
        column = ROLES[damage.role]
        if column in shape.gone:
            continue
        numbers = HURT[: damage.rows]
        statements = tuple(
            f"UPDATE {shape.table} SET {shape.column(column)} = {literal(damage.change(row(n)[column]), engine)}"
            f" WHERE {shape.where(n)}"
            for n in numbers
        )
        yield Case(damage.kind, statements, shape.column(column), shape.key(HURT[0]), damage.words)


def row_cases(shape: Shape) -> Iterator[Case]:
    table, where = shape.table, shape.where
    some = " OR ".join(where(n) for n in HURT)
    guest = shape.column("guest")
    key = shape.where(7).split(" = ")[0]
    names = [shape.column(one) for one in COLUMNS if one not in shape.gone and one not in ("id", "slip")]
    doubled = ", ".join(names)
    found = [
        Case("gone", (f"DELETE FROM {table} WHERE {where(7)}",), DELETED, shape.key(7), "1 row gone"),
        Case("gone-some", (f"DELETE FROM {table} WHERE {some}",), DELETED, shape.key(7), "9 rows gone"),
        Case("doubled", (f"INSERT INTO {table} (id, slip, {doubled}) SELECT 77777, 'S7777', {doubled} FROM {table}"
                         f" WHERE {where(7)}",), ADDED, "77777", "1 row"),
        Case("renumbered", (f"UPDATE {table} SET {key} = 77777 WHERE {where(7)}",), key, "", "→ '?77777"),
        Case("swapped-rows", tuple(
            f"UPDATE {table} SET {guest} = '{row(a)['guest'].replace(chr(39), chr(39) * 2)}' WHERE {where(b)}"
            for a, b in ((7, 8), (8, 7))), guest, shape.key(7), "swapped between rows"),
        Case("swapped-columns", (
            f"UPDATE {table} SET note = 'mast 7  ', padded = '{row(7)['note']}' WHERE {where(7)}",),
             "note", shape.key(7), "changed places with padded"),
        Case("repointed", (f"UPDATE {table} SET berth = 6 WHERE {where(7)}",), "berth", shape.key(7), "another row"),
    ]  # fmt: skip
    return (one for one in found if one.kind not in shape.without)


def other_cases() -> Iterator[tuple[str, Case]]:
    yield "seats", Case("in a key of two", ("UPDATE seats SET label = 'seat' WHERE dock = 'B' AND number = 2",),
                        "label", "dock 'B', number", "cut at 4")  # fmt: skip
    yield "seats", Case("gone of two", ("DELETE FROM seats WHERE dock = 'B' AND number = 2",), DELETED,
                        "dock 'B', number", "1 row gone")  # fmt: skip
    yield (
        "tides",
        Case("without a key", ("UPDATE tides SET mark = 'M3' WHERE hour = 7",), "mark", "hour", "letter case"),
    )
    yield "tides", Case("gone without", ("DELETE FROM tides WHERE hour = 7",), DELETED, "hour", "1 row gone")
    yield "tides", Case("doubled without", ("INSERT INTO tides SELECT * FROM tides WHERE hour = 7",), ADDED,
                        "hour", "1 row more")  # fmt: skip
    yield "berths", Case("in a small table", ("UPDATE berths SET name = upper(name) WHERE id = 3",), "name", "id 3",
                         "letter case")  # fmt: skip


@pytest.fixture(params=ENGINES)
def harbour(request: pytest.FixtureRequest, engine_demo: MakeDemo, tmp_path: Path) -> Iterator[Harbour]:
    """Its databases, before each change and after it."""
    made = (
        sqlite_harbour(tmp_path) if request.param == "sqlite" else server_harbour(request.param, engine_demo, tmp_path)
    )
    yield made
    made.close()


def wrong_in(harbour: Harbour, shape: Shape, table: str, case: Case) -> tuple[str, bool]:
    """What of a case was not found as it must be, and whether its kind was named right."""
    contract = {**shape.contract}
    differing, found = harbour.fly(contract, shape.change(harbour.engine), case.statements)
    told = remarks_of(differing, table)
    lines = found.get(table, InWords({}, {}))
    line = {**lines.columns, **lines.rows}.get(case.column, "")
    name = f"{harbour.engine}, {shape.name}, {case.kind}"
    others = [one.table for one in differing if one.table != table]
    if not told:
        return f"{name}: not found", False
    if not line:
        return f"{name}: not located in {case.column}: {told}", False
    if case.row not in line:
        return f"{name}: not in its row: {line}", False
    if others:
        return f"{name}: {others} blamed too", False
    return "", tells(line, case.words)


def some_of_all(harbour: Harbour) -> list[tuple[Shape, str, Case]]:
    """Every case, or on a server, where each takes half a second, others in each run: all of them in a sweep."""
    found = []
    for shape in SHAPES:
        cases = [(shape.table, one) for one in (*value_cases(shape, harbour.engine), *row_cases(shape))]
        cases += other_cases() if shape.name == "nothing" else ()
        if not WHOLE:
            cases = random.sample(cases, min(len(cases), 8 if harbour.engine == "sqlite" else 2))
        found += [(shape, table, case) for table, case in cases]
    return found


def test_damage_of_every_kind_is_found_located_and_named(
    harbour: Harbour, record_property: Callable[[str, object], None]
) -> None:
    cases = some_of_all(harbour)
    faults, unnamed = [], []
    for shape, table, case in cases:
        fault, named = wrong_in(harbour, shape, table, case)
        faults += [fault] if fault else []
        unnamed += [] if fault or named else [f"{shape.name}, {case.kind}"]
    record_property("damage", (harbour.engine, len(cases)))
    assert faults == []
    assert len(unnamed) * 10 <= len(cases), unnamed


def test_an_honest_change_raises_no_alarm(harbour: Harbour) -> None:
    for shape in SHAPES:
        differing, _ = harbour.fly({**shape.contract}, shape.change(harbour.engine), [])
        assert [(one.table, one.remarks) for one in differing] == [], shape.name


def test_a_list_of_rows_that_is_not_whole_does_not_look_like_one(tmp_path: Path) -> None:
    """Broken off for its time, or by a full disk: what was found so far stays, under a name that says so."""
    harbour = sqlite_harbour(tmp_path)
    harbour.fly({}, [], ["UPDATE stays SET code = 'x'"])
    before, after = take_fingerprint(harbour.old), take_fingerprint(harbour.new)
    pair = pairs_of(before, after, compose(before, []), [])["stays"]
    listed = tmp_path / "main.stays.csv"
    with pytest.raises(TimeoutError):
        find_rows(Look(harbour.old, harbour.new, pair, listed, (), until=0), lambda: None)
    assert not listed.exists()
    assert (tmp_path / f"main.stays.csv{PART}").exists()
    find_rows(Look(harbour.old, harbour.new, pair, listed, (), until=time.monotonic() + 60), lambda: None)
    assert len(listed.read_text().splitlines()) == 41
    assert not (tmp_path / f"main.stays.csv{PART}").exists()
