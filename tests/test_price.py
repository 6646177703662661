"""Going back says its price: every row that came, changed or went since the climb, told and kept."""

from __future__ import annotations

import csv
import os
import sqlite3
import time
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Demo
from tests.laws import examples
from tests.test_bad_input import state_of
from yellow_ladder.climb.conduct import Conditions, look_only
from yellow_ladder.climb.proving import machine
from yellow_ladder.climb.proving import price as price_module
from yellow_ladder.climb.proving.files import _outside
from yellow_ladder.climb.proving.machine import in_effect_after
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.database import Database, DatabaseAddress, open_database
from yellow_ladder.database.port import TableChanges
from yellow_ladder.database.sqlite.database import SqliteDatabase
from yellow_ladder.errors import AnswerNo, Problem

VALUES = st.none() | st.integers(-3, 3) | st.binary(max_size=2)
VALUES |= st.sampled_from(["", "a", "A", "å⚓", '"', "1", "x\ny", 0.0, 1.0, -0.5, float("inf")])
Rows = dict[int, tuple[Any, Any]]
ROWS = st.dictionaries(st.integers(1, 8), st.tuples(VALUES, VALUES), max_size=6)
SHAPES = st.sampled_from([
    "CREATE TABLE t (k INTEGER PRIMARY KEY, a COLLATE NOCASE, b)",
    "CREATE TABLE t (k, a, b COLLATE NOCASE, PRIMARY KEY (k)) WITHOUT ROWID",
    "CREATE TABLE t (k UNIQUE, a, b)",
])  # fmt: skip


def filled(path: Path, shape: str, rows: dict[int, tuple[Any, Any]]) -> None:
    path.unlink(missing_ok=True)
    connection = sqlite3.connect(path)
    connection.execute(shape)
    # Where there is no key, the row number ties a row to its earlier self.
    numbered = "UNIQUE" in shape
    for key, (a, b) in rows.items():
        columns, values = ("rowid, k, a, b", (key, key, a, b)) if numbered else ("k, a, b", (key, a, b))
        connection.execute(f"INSERT INTO t ({columns}) VALUES ({', '.join('?' * len(values))})", values)
    connection.commit()
    connection.close()


def opened(folder: Path) -> tuple[Database, Database]:
    """The two databases in a folder."""
    return (
        open_database(DatabaseAddress("main", "sqlite", folder / "then")),
        open_database(DatabaseAddress("main", "sqlite", folder / "now")),
    )


def exact(row: tuple[Any, Any]) -> list[tuple[str, Any]]:
    return [(type(value).__name__, value) for value in row]


@settings(max_examples=examples(150))
@given(shape=SHAPES, then=ROWS, now=ROWS)
def test_rows_that_came_changed_or_went_are_what_brute_force_finds(
    shape: str, then: Rows, now: Rows, tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("rows")
    filled(folder / "then", shape, then)
    filled(folder / "now", shape, now)
    before, after = opened(folder)
    changes = after.changes_since(before)
    added, deleted = now.keys() - then.keys(), then.keys() - now.keys()
    changed = {key for key in now.keys() & then.keys() if exact(now[key]) != exact(then[key])}
    expected = [TableChanges("t", len(added), len(changed), len(deleted))] if added or deleted or changed else []
    assert changes == expected
    written = after.write_changes_since(before, changes, folder)
    assert len(written) == len(expected)
    if written:
        with written[0].open(newline="", encoding="utf-8") as stream:
            header, *lines = csv.reader(stream)
        assert header == ["change", "k", "a", "b"]
        told = {(line[0], int(line[1])) for line in lines}
        wanted = {("added", key) for key in added} | {("deleted", key) for key in deleted}
        wanted |= {(kind, key) for key in changed for kind in ("changed", "was")}
        assert told == wanted
        assert len(lines) == len(wanted)


def test_tables_that_came_or_went_are_told_whole(tmp_path: Path) -> None:
    fresh = "CREATE TABLE fresh (a); INSERT INTO fresh VALUES (NULL);"
    for name, sql in (
        ("then", "CREATE TABLE gone (a); INSERT INTO gone VALUES (1), (2); CREATE TABLE t (a, b);"),
        ("now", f"{fresh} CREATE TABLE t (a, c); INSERT INTO t VALUES (1, 2);"),
    ):
        connection = sqlite3.connect(tmp_path / name)
        connection.executescript(sql)
        connection.close()
    before, after = opened(tmp_path)
    changes = after.changes_since(before)
    assert changes == [TableChanges("fresh", 1, 0, 0), TableChanges("gone", 0, 0, 2), TableChanges("t", 1, 0, 0)]
    after.write_changes_since(before, changes, tmp_path)
    assert (tmp_path / "main.fresh.csv").read_text() == '"change","a"\nadded,\n'
    assert (tmp_path / "main.t.csv").read_text() == '"change","a","c"\nadded,1,2\n'


def written_to(demo: Demo) -> None:
    """What users do in the days after a climb."""
    connection = sqlite3.connect(demo.database)
    connection.executescript(
        "UPDATE bookings SET remark = 'moved to berth 3' WHERE id = 7; DELETE FROM notices WHERE id IN (2, 3);"
        "INSERT INTO owners (id, name, email, phone, payment_token) VALUES (900, 'Käthe \"K\" Øre', '', NULL, X'00ff');"
    )
    connection.close()


def test_every_row_written_since_is_counted_and_kept_where_it_can_be_read(idle: Demo) -> None:
    idle.yl("climb", "--yes")
    written_to(idle)
    before = state_of(idle)
    price = idle.json("descend", "--price")["price"]
    assert state_of(idle) == before
    counts = {one["table"]: (one["added"], one["changed"], one["deleted"]) for one in price["tables"]}
    assert counts == {"bookings": (0, 1, 0), "notices": (0, 0, 2), "owners": (1, 0, 0)}
    assert price["counted_only"] == []
    (climb,) = (idle.folder / ".ladder/climbs").iterdir()
    assert not (climb / "price").exists()
    assert not (climb / "written-since").exists()
    assert "--yes" in idle.yl("descend", "--json").problems[0]["remedy"]
    assert not (climb / "price").exists()
    result = idle.json("descend", "--yes")
    assert result["price"] == price
    rows = climb / "written-since" / "rows"
    assert sorted(path.name for path in rows.iterdir()) == ["main.bookings.csv", "main.notices.csv", "main.owners.csv"]
    assert all(path.stat().st_mode & 0o777 == 0o600 for path in rows.iterdir())
    owner = (rows / "main.owners.csv").read_text().splitlines()[1]
    assert owner == 'added,900,"Käthe ""K"" Øre","",,0x00ff'
    booking = (rows / "main.bookings.csv").read_text()
    assert '"moved to berth 3"' in booking
    assert booking.count("\nwas,7,") == booking.count("\nchanged,7,") == 1
    assert not (climb / "price").exists()
    assert idle.json("survey")["version"] == "2.4"
    assert idle.yl("descend", "--price", "--json").problems[0]["code"] == "no-price"


def test_where_rows_cannot_be_compared_their_number_is_still_told(idle: Demo) -> None:
    idle.yl("climb", "--yes")
    written_to(idle)
    (backup,) = (idle.folder / ".ladder/backups").glob("*/database-main.sqlite")
    content = backup.read_bytes()
    backup.unlink()
    answer = idle.yl("descend", "--price", "--json")
    backup.write_bytes(content)
    price = answer.document["result"]["price"]
    many = {one["table"]: one["rows_now"] - one["rows_then"] for one in price["tables"]}
    assert many == {"bookings": 0, "notices": -2, "owners": 1}, "one of them has as many rows, and other values"
    assert not any(one["compared"] for one in price["tables"])
    assert len(price["counted_only"]) == 1
    assert not list((idle.folder / ".ladder/climbs").glob("*/price"))


def test_without_room_the_disk_is_not_filled_to_compare_rows(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    idle.yl("climb", "--yes")
    written_to(idle)
    monkeypatch.setattr(price_module, "_LEFT_FREE_BYTES", 2**62)
    (climb,) = list_climbs(idle.site())
    found = price_module.reckon(climb.plan)
    assert "are free" in found.counted_only[0]
    assert {one.table for one in found.tables} == {"bookings", "notices", "owners"}
    assert not (climb.plan.folder / "price").exists()


@pytest.mark.parametrize(
    ("path", "when"),
    [
        ("/etc/sysctl.d/80-harbour.conf", "`sysctl --system` or a start of the machine"),
        ("/etc/fstab", "`mount -a` or a start of the machine"),
        ("/etc/security/limits.d/harbour.conf", "the next session has begun"),
        ("/etc/sysctl.d.old/harbour.conf", ""),
        ("/etc/systemd/system/quaybook.service", ""),
    ],
)
def test_files_that_the_machine_reads_at_its_own_times_are_known(path: str, when: str) -> None:
    assert in_effect_after(path) == when


def test_what_is_in_effect_only_after_the_machine_reads_it_is_told_at_the_end(
    idle: Demo, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    outside, mark = tmp_path / "sysctl.d", tmp_path / "reboot-required"
    outside.mkdir()
    (outside / "80-harbour.conf").write_text("vm.swappiness = 10\n")
    idle.edit("[keep]\n", f'[keep]\noutside = ["{outside}"]\n')
    mark.write_text("asked for before\n")
    long_ago = time.time() - 3600  # a plan tells whole seconds: what is asked for within its own counts as new
    os.utime(mark, (long_ago, long_ago))
    idle.json("climb", "--to", "2.6", "--yes")
    monkeypatch.setattr(machine, "WANTS_START", mark)
    monkeypatch.setitem(machine._READ_WHEN, (str(outside)[1:],), "`sysctl --system`")
    (climb,) = list_climbs(idle.site())
    run = look_only(climb.plan, Conditions())
    assert list(_outside(run)) == []
    (outside / "80-harbour.conf").write_text("vm.swappiness = 1\n")
    mark.write_text("*** System restart required ***\n")
    Path(f"{mark}.pkgs").write_text("libc6\nlibc6\nharbour-kernel\n")
    changed = f"outside root, {outside}/80-harbour.conf: has another content (19 → 18 bytes)"
    assert list(_outside(run)) == [
        f"{changed}; in effect after `sysctl --system`",
        f"the machine wants to be started again ({mark}): libc6, harbour-kernel",
    ]


def test_a_file_outside_root_that_somebody_changed_since_is_told_and_kept(idle: Demo, tmp_path: Path) -> None:
    outside = tmp_path / "etc"
    outside.mkdir()
    (outside / "proxy.conf").write_text("to quaybook 2.4")
    (outside / "left alone").write_text("as ever")
    idle.edit("[keep]\n", f'[keep]\noutside = ["{outside}"]\n')
    idle.json("climb", "--to", "2.6", "--yes")
    (outside / "proxy.conf").write_text("to the new harbour")
    (outside / "new").write_text("nobody's business")
    assert idle.json("descend", "--price")["price"]["files"] == [f"{outside}/proxy.conf"]
    assert (outside / "proxy.conf").read_text() == "to the new harbour"
    idle.json("descend", "--yes")
    assert (outside / "proxy.conf").read_text() == "to quaybook 2.4"
    assert (outside / "new").read_text() == "nobody's business"
    (climb,) = list_climbs(idle.site())
    kept = climb.plan.folder / "written-since" / "outside" / str(outside / "proxy.conf")[1:]
    assert kept.read_text() == "to the new harbour"


def test_a_copy_that_failed_leaves_nothing_that_looks_like_one(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    idle.json("climb", "--yes")
    (climb,) = list_climbs(idle.site())

    def broken_off(_database: SqliteDatabase, target: Path, *_: object, **__: object) -> None:
        target.touch()
        raise AnswerNo(Problem("database-locked", "somebody holds it", ""))

    monkeypatch.setattr(SqliteDatabase, "backed_up", broken_off)
    _, folder = price_module.keep_newer(climb.plan)
    assert not (folder / "database-main.sqlite").exists()
    assert (folder / "files-of-main" / "quaybook.sqlite").read_bytes() == (
        idle.root / "data/quaybook.sqlite"
    ).read_bytes()


def test_going_back_loads_nothing_where_nothing_was_written(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    # A volatile table that is not there, or goes by another name now, hides no other.
    idle.edit('volatile = ["logins"]', 'volatile = ["logins", "gone long ago"]')
    idle.json("climb", "--yes")
    (climb,) = list_climbs(idle.site())

    def not_wanted(*_: object) -> Database:
        raise AssertionError("what the climb left was made once more")

    monkeypatch.setattr(price_module, "as_left", not_wanted)
    assert price_module.reckon(climb.plan).is_nothing
    written_to(idle)
    with pytest.raises(AssertionError, match="once more"):
        price_module.reckon(climb.plan)
