"""Somebody who was forgotten writes on: there is always an end, and every row that was committed is somewhere."""

from __future__ import annotations

import contextlib
import csv
import json
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.test_owners_rights import plant_journal
from tests.writer import INSERT, TITLE
from yellow_ladder.backup.catalog import list_backups
from yellow_ladder.climb.proving.written import keep_whole, keep_written
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.database import Database
from yellow_ladder.database.sqlite.database import SqliteDatabase
from yellow_ladder.errors import AnswerNo, Problem

ENGINES = ("sqlite", "postgresql", "mariadb")


@contextlib.contextmanager
def writing(demo: Demo, way: str = "anew") -> Iterator[Path]:
    """A writer at work for the length of a block; gives the file with the numbers of its rows."""
    notes = demo.folder / "committed"
    argv = [sys.executable, "-m", "tests.writer", str(demo.prepared.file), str(notes), way]
    process = subprocess.Popen(argv, cwd=Path(__file__).parent.parent)
    try:
        end = time.monotonic() + 20
        while not (notes.exists() and notes.read_text().count("\n") > 3) and time.monotonic() < end:
            time.sleep(0.05)
        yield notes
    finally:
        process.send_signal(signal.SIGKILL)
        process.wait()


def rows_in(database: Database) -> set[int]:
    table = next(one for one in database.tables() if one.name == "notices")
    at = (table.columns.index("title"), table.columns.index("body"))
    rows = (row for chunk in database.read_rows(table, table.columns, None) for row in chunk)
    return {int(row[at[1]]) for row in rows if row[at[0]] == TITLE}


def rows_kept(demo: Demo) -> set[int]:
    """What lies in `written-since`, as CSV and as whole databases."""
    found: set[int] = set()
    database = demo.site().databases()["main"]
    for path in (demo.folder / ".ladder" / "climbs").glob("*/written-since/**/*.csv"):
        with path.open(newline="") as stream:
            found |= {int(row["body"]) for row in csv.DictReader(stream) if row.get("title") == TITLE}
    for number, path in enumerate((demo.folder / ".ladder" / "climbs").glob(f"*/written-since/*.{database.ending}")):
        scratch = demo.folder / f"scratch-{number}"
        found |= rows_in(database.copied_to(path, scratch))
        database.drop_scratch(scratch)
    return found


def rows_backed_up(demo: Demo) -> set[int]:
    site, found = demo.site(), set()
    for number, backup in enumerate(list_backups(site.state.backups)):
        scratch = demo.folder / f"backup-{number}"
        database = site.databases()["main"]
        found |= rows_in(database.copied_to(backup.path / backup.database("main").file, scratch))
        database.drop_scratch(scratch)
    return found


def missing_rows(demo: Demo, notes: Path) -> set[int]:
    committed = {int(line) for line in notes.read_text().split()}
    assert len(committed) > 5
    if demo.site().addresses()[0].is_file:
        # It was killed: whoever opens the file next takes back what it had not committed.
        connection = sqlite3.connect(demo.database)
        connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
        connection.close()
    return committed - rows_in(demo.site().databases()["main"]) - rows_kept(demo) - rows_backed_up(demo)


def state_of(demo: Demo) -> str:
    return str(list_climbs(demo.site())[-1].standing.outcome)


@pytest.mark.parametrize("engine", ENGINES)
def test_a_climb_beside_a_writer_comes_to_an_end_and_loses_no_row(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine)
    with writing(demo) as notes:
        demo.yl("climb", "--yes", "--json")
        for _ in range(3):
            if not list_climbs(demo.site())[-1].standing.state.is_open:
                break
            demo.yl("descend", "--yes", "--json")
    assert state_of(demo) in ("climbed", "descended", "given up")
    assert missing_rows(demo, notes) == set()


@pytest.mark.parametrize("engine", ENGINES)
def test_going_back_beside_a_writer_comes_to_an_end_and_loses_no_row(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine)
    demo.json("climb", "--yes", "--to", "3.0")
    with writing(demo) as notes:
        for _ in range(3):
            answer = demo.yl("descend", "--yes", "--json")
            if not list_climbs(demo.site())[-1].standing.state.is_open:
                break
    assert state_of(demo) == "descended", answer
    assert missing_rows(demo, notes) == set()
    assert demo.json("survey")["versions"][0]["says"] == "2.4"


def test_a_program_that_keeps_its_connection_loses_no_row_either(demo: Demo) -> None:
    demo.json("climb", "--yes", "--to", "3.0")
    with writing(demo, "held") as notes:
        answer = demo.yl("descend", "--yes", "--json")
        if answer.code != 0:
            assert "process" in json.dumps(answer.problems), "it is named, and nothing is put back beneath it"
    assert demo.yl("descend", "--yes").code in (0, 1)
    assert state_of(demo) == "descended"
    assert missing_rows(demo, notes) == set()


def test_what_is_still_open_under_its_new_name_is_named(idle: Demo) -> None:
    database = idle.site().databases()["main"]
    assert isinstance(database, SqliteDatabase)
    copy = idle.folder / "copy"
    with database.backed_up(copy, lambda _done, _total: None, at_rest=True):
        pass
    holder = subprocess.Popen(["tail", "-f", str(idle.database)], stdout=subprocess.DEVNULL)
    try:
        end = time.monotonic() + 10
        while holder.pid not in database.holders() and time.monotonic() < end:
            time.sleep(0.02)
        database.restore_from(copy, database.details())
        with pytest.raises(AnswerNo, match=str(holder.pid)):
            database.set_aside()
    finally:
        holder.kill()
        holder.wait()
    assert database.set_aside() is not None
    database.drop_leftovers()
    assert database.set_aside() is None


def test_a_transaction_that_a_crash_left_is_told_as_that(idle: Demo) -> None:
    plant_journal(idle.database, idle.folder / "nothing")
    (idle.folder / "nothing").touch()
    answer = idle.yl("check", "--json")
    assert "has a transaction that a crash left unfinished" in answer.out
    assert "PRAGMA user_version" in answer.out


def test_a_log_follows_its_file_also_after_a_kill_in_between(idle: Demo) -> None:
    connection = sqlite3.connect(idle.database)
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA wal_autocheckpoint = 0")
    connection.execute(INSERT.format(title=TITLE, number=77))
    connection.commit()
    shutil.copytree(idle.root / "data", idle.folder / "as-left-by-a-crash")
    connection.close()
    shutil.rmtree(idle.root / "data")
    (idle.folder / "as-left-by-a-crash").rename(idle.root / "data")
    database = idle.site().databases()["main"]
    assert (idle.root / "data" / "quaybook.sqlite-wal").stat().st_size > 0
    # Killed after the first of the renames that set a database aside.
    idle.database.rename(idle.database.with_name(".quaybook.sqlite.aside"))
    aside = database.set_aside()
    assert aside is not None
    assert rows_in(aside) == {77}
    database.drop_leftovers()
    assert sorted(path.name for path in (idle.root / "data").iterdir()) == []


def test_what_lies_aside_is_not_dropped_where_it_cannot_be_kept(
    engine_demo: MakeDemo, monkeypatch: pytest.MonkeyPatch
) -> None:
    demo = engine_demo("mariadb")
    assert demo.yl("climb", "--yes", "--to", "3.0").code == 0
    plan = list_climbs(demo.site())[-1].plan
    database = demo.site().databases()["main"]
    backup = list_backups(demo.site().state.backups)[-1]
    copy = backup.database("main")
    database.restore_from(backup.path / copy.file, copy.details)
    assert database.set_aside() is not None

    def full(*_words: object, **_how: object) -> None:
        raise AnswerNo(Problem("disk-full", "no space left", "free some"))

    monkeypatch.setattr("yellow_ladder.climb.proving.written.see_room", full)
    monkeypatch.setattr("yellow_ladder.database.mariadb.move.dump", full)
    written = keep_written(plan, "main")
    assert written is not None
    assert not written.is_kept
    with pytest.raises(AnswerNo, match="cannot be kept"):
        keep_whole(plan, "main")
    assert database.set_aside() is not None
    database.drop_leftovers()
