"""Fingerprints see every change, in any order of rows; the judgement allows what was declared and nothing else."""

from __future__ import annotations

import random
import sqlite3
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from yellow_ladder.database import DatabaseAddress, open_database
from yellow_ladder.database.port import FIELD_END, NULL_MARK, ROW_END, CannotPack, Packed
from yellow_ladder.fingerprints import scan
from yellow_ladder.fingerprints.hashing import combine_keys, hash_packed, hash_values, sum_column
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.narrowing import Look, find_rows, pairs_of
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.verdicts import Verdict, is_whole
from yellow_ladder.release.contract import Contract

NUMBERS = st.integers(-(2**63), 2**63 - 1) | st.floats(allow_nan=False)
LETTERS = st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=20)
VALUES = st.none() | NUMBERS | st.text(max_size=20) | st.binary(max_size=20)


def column_sums(rows: list[tuple[Any, Any]]) -> Any:
    keys = combine_keys([hash_values([key for key, _ in rows])[0]], len(rows))
    hashes, present = hash_values([value for _, value in rows])
    return sum_column(hashes, present, keys)


ROWS = st.dictionaries(st.integers(-(2**40), 2**40), VALUES, min_size=1, max_size=40).map(lambda d: list(d.items()))


@given(rows=ROWS, seed=st.integers())
def test_the_order_of_rows_does_not_matter(rows: list[tuple[int, Any]], seed: int) -> None:
    shuffled = rows[:]
    random.Random(seed).shuffle(shuffled)
    assert column_sums(rows) == column_sums(shuffled)


@given(rows=ROWS, cut=st.integers(0, 40))
def test_parts_add_up_to_the_whole(rows: list[tuple[int, Any]], cut: int) -> None:
    cut = 1 + cut % len(rows)
    parts = [column_sums(part) for part in (rows[:cut], rows[cut:]) if part]
    assert sum(parts[1:], start=parts[0]) == column_sums(rows)


@given(
    rows=st.lists(
        st.lists(st.none() | LETTERS | st.just("\x1d") | st.just("quay \x1f 7"), min_size=3, max_size=3),
        min_size=1, max_size=9,
    )
)  # fmt: skip
def test_packed_rows_hash_like_any_other_or_are_refused(rows: list[list[str | None]]) -> None:
    lines = [FIELD_END.join(NULL_MARK if one is None else one.encode() for one in row) + ROW_END for row in rows]
    filled = tuple(sum(value is not None for value in column) for column in zip(*rows, strict=True))
    is_clear = not any(value is not None and (value == "\x1d" or "\x1f" in value) for row in rows for value in row)
    try:
        found = hash_packed(Packed(b"".join(lines), len(rows), filled))
    except CannotPack:
        assert not is_clear
        return
    assert is_clear
    for (hashes, present), column in zip(found, zip(*rows, strict=True), strict=True):
        plain, plainly_present = hash_values(column)
        assert hashes.tolist() == plain.tolist()
        assert (present is None) == (plainly_present is None)
        assert present is None or plainly_present is None or present.tolist() == plainly_present.tolist()


@given(st.lists(st.text(max_size=40) | st.just("x" * 1024) | st.just("x" * 1025), min_size=1, max_size=30))
def test_a_text_hashes_alike_among_whatever_others(texts: list[str]) -> None:
    together = hash_values(texts)[0].tolist()
    assert together == [hash_values([text])[0].tolist()[0] for text in texts]
    assert len(set(together)) == len(set(texts))


def same_value(first: Any, second: Any) -> bool:
    return type(first) is type(second) and (repr(first) == repr(second))


@given(rows=ROWS, place=st.integers(0, 100), value=VALUES)
def test_one_changed_value_is_seen(rows: list[tuple[int, Any]], place: int, value: Any) -> None:
    place %= len(rows)
    assume(not same_value(rows[place][1], value))
    changed = [*rows[:place], (rows[place][0], value), *rows[place + 1 :]]
    assert column_sums(rows) != column_sums(changed)


@given(rows=ROWS, one=st.integers(0, 100), other=st.integers(0, 100))
def test_two_swapped_values_are_seen(rows: list[tuple[int, Any]], one: int, other: int) -> None:
    one, other = one % len(rows), other % len(rows)
    assume(not same_value(rows[one][1], rows[other][1]))
    swapped = rows[:]
    swapped[one], swapped[other] = (rows[one][0], rows[other][1]), (rows[other][0], rows[one][1])
    assert column_sums(rows) != column_sums(swapped)
    assert column_sums(rows).loose == column_sums(swapped).loose


@pytest.mark.parametrize(
    "pair", [(1, 1.0), (1, "1"), ("1", b"1"), (None, ""), ("", b""), (0.0, -0.0), (2**62, 2**62 + 1)]
)
def test_values_of_different_types_are_different(pair: tuple[Any, Any]) -> None:
    assert column_sums([(1, pair[0])]) != column_sums([(1, pair[1])])


def database(path: Path, script: str) -> Any:
    connection = sqlite3.connect(path)
    connection.executescript(script)
    connection.commit()
    connection.close()
    return open_database(DatabaseAddress("main", "sqlite", path))


OLD = """
CREATE TABLE owners (id INTEGER PRIMARY KEY, name TEXT, street TEXT, town TEXT);
INSERT INTO owners VALUES (1, 'Ada', 'Rope Walk 1', 'Nordmole'), (2, 'Bo', NULL, 'Sandhavn'), (3, 'Dov', '', NULL);
CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT, length REAL);
INSERT INTO boats VALUES (1, 'Zephyr', 6.5), (2, 'Pelican', 9.0);
CREATE TABLE tides (hour INTEGER, height REAL);
INSERT INTO tides VALUES (0, 1.5), (6, 4.5), (12, 1.5);
CREATE TABLE berths (dock TEXT, number INTEGER, power REAL, PRIMARY KEY (dock, number)) WITHOUT ROWID;
INSERT INTO berths VALUES ('A', 1, 16.0), ('A', 2, NULL), ('B', 1, 32.0);
CREATE VIEW long_boats AS SELECT name FROM boats WHERE length > 8;
CREATE INDEX by_dock ON berths (dock);
CREATE TRIGGER calm AFTER INSERT ON berths WHEN new.dock = 'Z' BEGIN DELETE FROM berths WHERE dock = 'Z'; END;
"""

UP = """
CREATE TABLE addresses (id INTEGER PRIMARY KEY, owner_id INTEGER, street TEXT, town TEXT);
INSERT INTO addresses (owner_id, street, town) SELECT id, street, town FROM owners ORDER BY id DESC;
ALTER TABLE owners DROP COLUMN street;
ALTER TABLE owners DROP COLUMN town;
ALTER TABLE owners ADD COLUMN phone TEXT;
ALTER TABLE boats RENAME TO vessels;
ALTER TABLE vessels RENAME COLUMN length TO length_m;
"""

CONTRACT = {
    "tables_added": ["addresses"],
    "moved": [
        {"from": "owners.street", "to": "addresses.street", "by": "owner_id"},
        {"from": "owners.town", "to": "addresses.town", "by": "owner_id"},
    ],
    "tables": [
        {"name": "owners", "columns_added": ["phone"]},
        {"name": "vessels", "renamed_from": "boats", "columns_renamed": {"length": "length_m"}},
    ],
}


def judged(tmp_path: Path, harm: str = "", contract: dict[str, Any] = CONTRACT, volatile: tuple[str, ...] = ()) -> Any:
    live = database(tmp_path / "site.sqlite", OLD)
    before = take_fingerprint(live)
    before = DatabasePrint.from_record(before.as_record())
    connection = sqlite3.connect(tmp_path / "site.sqlite")
    connection.executescript(UP + harm)
    connection.close()
    lineage = compose(before, [("2.0", Contract.model_validate(contract))])
    after = take_fingerprint(live, lineage.ties(before))
    return judge(before, after, lineage, volatile)


def test_what_was_declared_is_allowed(tmp_path: Path) -> None:
    verdicts = {one.table: one for one in judged(tmp_path)}
    assert is_whole(list(verdicts.values())), verdicts
    assert verdicts["addresses"].columns_compared == 2
    assert verdicts["vessels"].columns_compared == 3
    assert verdicts["tides"].verdict is Verdict.SAME


HARMS = {
    "UPDATE owners SET name = 'Adah' WHERE id = 1": "owners",
    "DELETE FROM owners WHERE id = 3": "owners",
    "INSERT INTO owners (id, name) VALUES (9, 'Nobody')": "owners",
    "UPDATE vessels SET length_m = 6.500000001 WHERE id = 1": "vessels",
    "UPDATE vessels SET name = CASE id WHEN 1 THEN 'Pelican' ELSE 'Zephyr' END": "vessels",
    "UPDATE addresses SET street = '' WHERE street IS NULL": "addresses",
    "UPDATE addresses SET street = NULL WHERE street = ''": "addresses",
    "UPDATE addresses SET owner_id = 4 - owner_id": "addresses",
    "DELETE FROM addresses WHERE owner_id = 1": "addresses",
    "UPDATE tides SET height = 1.5 + (hour = 6) * 3 + (hour = 0) - (hour = 12)": "tides",
    "UPDATE tides SET hour = 12 - hour, height = height WHERE hour <> 6": "",
    "UPDATE berths SET power = 32.0 WHERE dock = 'A' AND number = 1": "berths",
    "UPDATE berths SET power = NULL": "berths",
    "DROP TABLE tides": "tides",
    "DROP VIEW long_boats": "view long_boats",
    "CREATE TABLE surprise (id INTEGER)": "surprise",
    "ALTER TABLE berths ADD COLUMN depth REAL": "berths",
    "ALTER TABLE berths RENAME COLUMN power TO current": "berths",
    "DROP INDEX by_dock; CREATE UNIQUE INDEX by_dock ON berths (dock, number)": "index by_dock",
    "DROP TRIGGER calm; CREATE TRIGGER calm AFTER INSERT ON berths BEGIN DELETE FROM berths; END": "trigger calm",
    "PRAGMA writable_schema = ON; UPDATE sqlite_master SET sql = replace(sql, 'height REAL', 'height REAL DEFAULT 7')"
    " WHERE name = 'tides'": "table tides",
}


@pytest.mark.parametrize(("harm", "table"), HARMS.items())
def test_whatever_was_not_declared_is_a_difference(tmp_path: Path, harm: str, table: str) -> None:
    differing = [one.table for one in judged(tmp_path, harm) if one.verdict is Verdict.DIFFERS]
    assert differing == ([table] if table else [])


def test_a_definition_that_is_declared_may_change(tmp_path: Path) -> None:
    harm = "DROP INDEX by_dock; CREATE UNIQUE INDEX by_dock ON berths (dock, number)"
    declared = {**CONTRACT, "definition_changed": ["index by_dock"]}
    assert is_whole(judged(tmp_path, harm, declared))


def test_volatile_tables_may_change(tmp_path: Path) -> None:
    assert is_whole(judged(tmp_path, "DELETE FROM tides; UPDATE berths SET power = 1", volatile=("tides", "berths")))


def test_a_contract_that_fits_no_database_says_so(tmp_path: Path) -> None:
    before = take_fingerprint(database(tmp_path / "x.sqlite", OLD))
    wrong = {
        "tables_added": ["owners"],
        "tables_dropped": ["lighthouses"],
        "tables": [
            {"name": "boats", "columns_dropped": ["mast"]},
            {"name": "pilots"},
            {"name": "berths", "rows": "grow", "columns_changed": ["id"]},
        ],
        "moved": [{"from": "pilots.name", "to": "owners.pilot", "by": "id"}],
    }
    found = compose(before, [("3.0", Contract.model_validate(wrong))]).contradictions
    assert len(found) == 6
    assert all(text.startswith("3.0") for text in found)


def test_several_processes_find_what_one_finds(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    rows = scan.PARALLEL_FROM_ROWS + 1_000
    live = database(
        tmp_path / "large.sqlite",
        "CREATE TABLE visits (id INTEGER PRIMARY KEY, note TEXT, fee REAL);"
        f" WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})"
        " INSERT INTO visits SELECT i * 3, 'visit ' || i, CASE WHEN i % 5 THEN i / 7.0 END FROM n;"
        " CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO boats VALUES (1, 'Zephyr');",
    )
    seen: list[int] = []
    one = take_fingerprint(live, workers=1)
    three = take_fingerprint(live, workers=3, on_rows=seen.append)
    assert one == three
    assert one.tables["visits"].rows == rows
    assert sum(seen) == rows + 1


@settings(max_examples=15, deadline=None)
@given(rows=st.lists(st.tuples(VALUES, VALUES), min_size=1, max_size=30))
def test_what_is_stored_is_what_is_hashed(
    rows: list[tuple[Any, Any]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    path = tmp_path_factory.mktemp("rows") / "x.sqlite"
    live = database(path, "CREATE TABLE t (id INTEGER PRIMARY KEY, a, b)")
    connection = sqlite3.connect(path)
    connection.executemany("INSERT INTO t (a, b) VALUES (?, ?)", rows)
    connection.commit()
    first = take_fingerprint(live)
    connection.execute("CREATE TABLE u AS SELECT * FROM t ORDER BY id DESC")
    connection.execute("DELETE FROM t")
    connection.execute("INSERT INTO t SELECT * FROM u")
    connection.execute("DROP TABLE u")
    connection.commit()
    connection.execute("VACUUM")
    connection.close()
    assert take_fingerprint(live) == first


def test_text_that_is_no_text_is_compared_all_the_same(tmp_path: Path) -> None:
    live = database(tmp_path / "x.sqlite", "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT)")
    connection = sqlite3.connect(tmp_path / "x.sqlite")
    connection.execute("INSERT INTO t VALUES (1, 'fine'), (2, CAST(x'ff' AS TEXT))")
    connection.commit()
    first = take_fingerprint(live)
    connection.execute("UPDATE t SET a = CAST(x'fe' AS TEXT) WHERE id = 2")
    connection.commit()
    connection.close()
    assert take_fingerprint(live) != first


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    numbers=st.sets(st.integers(-500, 500) | st.integers(-(2**40), 2**40), min_size=30, max_size=80),
    gone=st.sets(st.integers(0, 29), max_size=4),
    come=st.sets(st.integers(-600, 600) | st.integers(2**41, 2**42), max_size=3),
    changed=st.sets(st.integers(0, 29), max_size=3),
)
def test_every_row_that_differs_lies_in_the_pieces_that_are_looked_through(
    numbers: set[int],
    gone: set[int],
    come: set[int],
    changed: set[int],
    tmp_path_factory: pytest.TempPathFactory,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(scan, "PARALLEL_FROM_ROWS", 8)
    monkeypatch.setattr(scan, "_ROWS_A_PIECE", 4)
    folder = tmp_path_factory.mktemp("pieces")
    listed = sorted(numbers)
    rows = ", ".join(f"({number}, {number * 7})" for number in listed)
    script = f"CREATE TABLE tides (id INTEGER PRIMARY KEY, level INTEGER); INSERT INTO tides VALUES {rows}; BEGIN;"
    then = database(folder / "then.sqlite", f"{script} COMMIT;")
    harm = "".join(f"DELETE FROM tides WHERE id = {listed[place]};" for place in gone)
    harm += "".join(f"INSERT OR IGNORE INTO tides VALUES ({number}, {number * 7});" for number in come)
    harm += "".join(f"UPDATE tides SET level = level + 1 WHERE id = {listed[place]};" for place in changed - gone)
    now = database(folder / "now.sqlite", f"{script} {harm} COMMIT;")
    before = take_fingerprint(then, workers=1)
    same = compose(before, [])
    pieces = before.tables["tides"].pieces
    assert len(pieces) > 2
    assert DatabasePrint.from_record(before.as_record()).tables["tides"].pieces == pieces
    after = take_fingerprint(now, same.ties(before), workers=1)
    wanted = {listed[place] for place in gone | changed} | (come - numbers)
    pair = pairs_of(before, after, same, []).get("tides")
    assert (pair is None) == (not wanted), "nothing is looked through where nothing differs"
    if pair is None:
        return
    look = Look(then, now, pair, folder / "rows.csv", (), time.monotonic() + 60)
    narrow, whole = (find_rows(one, lambda: None) for one in (look, replace(look, pair=replace(pair, ranges=()))))
    assert narrow.in_words(()) == whole.in_words(())
    assert not whole.in_words(()).is_nothing
    if pair.ranges:  # else all rows are looked through
        assert all(any((low is None or low <= one) and (high is None or one <= high) for low, high in pair.ranges)
                   for one in wanted)  # fmt: skip
        assert len(pair.ranges) <= len(wanted)


def test_one_value_among_many_is_looked_for_in_its_piece_alone(tmp_path: Path) -> None:
    rows = scan.PARALLEL_FROM_ROWS + 25_000
    script = (
        "CREATE TABLE visits (id INTEGER PRIMARY KEY, note TEXT);"
        f" WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})"
        " INSERT INTO visits SELECT i, 'visit ' || i FROM n;"
    )
    then = database(tmp_path / "then.sqlite", script)
    now = database(tmp_path / "now.sqlite", f"{script} UPDATE visits SET note = upper(note) WHERE id = 70001;")
    before = take_fingerprint(then)
    same = compose(before, [])
    after = take_fingerprint(now, same.ties(before))
    ((low, high),) = pairs_of(before, after, same, [])["visits"].ranges
    assert low is not None
    assert high is not None
    assert low <= 70_001 <= high
    assert high - low < 35_000
