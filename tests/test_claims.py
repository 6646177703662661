"""No more is claimed than was compared, and nothing is passed over that could be."""

from __future__ import annotations

import os
import sqlite3
import tomllib
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tests.archives import SHEET
from tests.conftest import Demo, MakeDemo, run_program
from tests.engines import ask
from yellow_ladder.climb.proving import proof as proof_module
from yellow_ladder.climb.record.adjusting import as_now
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.database.sqlite.database import SqliteDatabase
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.release.source import sheet_in


def beside(demo: Demo, version: str, old: str, new: str) -> None:
    """Put an altered sheet beside a release."""
    raw = sheet_in(demo.folder / "releases" / f"quaybook-{version}.tar.zst")
    assert raw is not None
    assert old in raw.decode()
    (demo.folder / "releases" / f"quaybook-{version}.release.toml").write_text(raw.decode().replace(old, new))


def write(demo: Demo, sql: str) -> None:
    connection = sqlite3.connect(demo.database)
    connection.executescript(sql)
    connection.close()


def verdict_of(document: Any, table: str) -> Any:
    return next(one for one in document["tables"]["main"] if one["table"] == table)


def test_the_headline_says_what_was_not_compared(demo: Demo) -> None:
    shown = demo.yl("climb", "--yes").out
    assert "nothing was lost" not in shown
    assert "no difference in what was compared" in shown
    assert "Not compared (" in shown
    assert "main.logins (volatile" in shown
    assert "main.meta: value rewritten" in shown, "what a release declares is said every time, too"
    document = demo.json("verify")
    assert [one.split(" ")[0] for one in document["not_compared"]] == ["main.logins"]


def test_nothing_was_lost_is_said_where_everything_was_compared(idle: Demo) -> None:
    idle.edit('volatile = ["logins"]', "volatile = []")
    shown = idle.yl("climb", "--yes").out
    assert "nothing was lost: " in shown
    assert "Not compared" not in shown


def test_a_volatile_table_keeps_its_columns(demo: Demo) -> None:
    assert demo.yl("climb", "--yes").code == 0
    write(demo, "ALTER TABLE logins ADD COLUMN surprise TEXT;")
    document = demo.json("verify", code=1)
    assert verdict_of(document, "logins")["remarks"] == ["the column surprise appeared"]


GROWING = '[[contract.tables]]\nname = "notices"\nrows = "grow"\n\n[[contract.tables]]\nname = "boats"'


def test_where_rows_may_come_the_old_ones_are_compared_each_by_its_key(demo: Demo) -> None:
    beside(demo, "2.6", '[[contract.tables]]\nname = "boats"', GROWING)
    assert demo.yl("climb", "--yes", "--to", "2.6").code == 0
    write(demo, "INSERT INTO notices (posted, title, body) VALUES ('2026-11-26', 'one more', 'x');")
    document = demo.json("verify")
    verdict = verdict_of(document, "notices")
    assert verdict["verdict"] == "as declared"
    assert verdict["old_rows_compared"]
    assert [one for one in document["not_compared"] if "notices" in one] == []
    write(demo, "UPDATE notices SET title = 'another' WHERE rowid = 1; DELETE FROM notices WHERE rowid = 2;")
    write(demo, "INSERT INTO notices (posted, title, body) VALUES ('2026-11-26', 'and more', 'x');")
    document = demo.json("verify", code=1)
    remarks = verdict_of(document, "notices")["remarks"]
    assert remarks == ["1 row gone: id 2", "title: 1 value differs: id 1: 'Shore power renewed' → 'another'"]


def test_rows_that_may_be_any_are_named_as_not_compared(demo: Demo) -> None:
    beside(demo, "2.6", '[[contract.tables]]\nname = "boats"', GROWING.replace("grow", "any"))
    assert demo.yl("climb", "--yes", "--to", "2.6").code == 0
    write(demo, "DELETE FROM notices WHERE rowid = 2;")
    document = demo.json("verify")
    assert [one for one in document["not_compared"] if "main.notices (rows: any)" in one]


def test_a_log_may_grow_and_keeps_its_beginning(demo: Demo) -> None:
    (demo.root / "log").mkdir()
    log = demo.root / "log" / "access.log"
    log.write_text("first line\n")
    demo.edit('data = ["data", "uploads"]', 'data = ["data", "uploads"]\nlogs = ["log"]')
    assert demo.yl("climb", "--yes").code == 0
    assert log.read_text() == "first line\n"
    log.write_text("first line\nsecond line\n")
    document = demo.json("verify")
    assert [one for one in document["remarks"] if one.startswith("log log/access.log: has grown")]
    log.write_text("another line\nsecond line\n")
    document = demo.json("verify")  # the application's own: it was begun anew since
    assert [one for one in document["written_since"] if one.startswith("log log/access.log: has another content")]
    assert demo.yl("descend", "--yes").code == 0
    assert log.read_text() == "first line\n"


def test_settings_changes_that_would_not_be_made_stop_the_climb(idle: Demo) -> None:
    idle.edit('settings = [{ file = "etc/quaybook.ini" }]', "settings = []")
    idle.edit('assets = ["static/logo.svg"]', 'assets = ["static/logo.svg", "etc/quaybook.ini"]')
    findings = idle.json("check", code=1)["findings"]
    stops = [one for one in findings if one["check"] == "settings changes" and one["level"] == "stop"]
    assert stops
    assert "etc/quaybook.ini" in stops[0]["saw"]
    assert "keep.settings" in stops[0]["remedy"]


def test_nothing_that_tells_two_things_apart_is_cut_at_80_columns(idle: Demo) -> None:
    assert idle.yl("climb", "--yes").code == 0
    for command, name in (
        (("history",), next((idle.folder / ".ladder" / "climbs").iterdir()).name),
        (("backup", "list"), next((idle.folder / ".ladder" / "backups").iterdir()).name),
    ):
        shown = idle.yl(*command, COLUMNS="80").out
        assert name in shown
        assert [line for line in shown.splitlines() if line != line.rstrip()] == []
        assert max(map(len, shown.splitlines())) <= 80
    assert "climbed" in idle.yl("history", COLUMNS="80").out


def test_a_version_is_not_read_from_a_warning(idle: Demo) -> None:
    program = idle.folder / "tide"
    program.write_text("#!/bin/sh\necho 'warning: 9.9 is old' >&2\necho 'tide 3.2'\n")
    program.chmod(0o755)
    quiet = idle.folder / "ebb"
    quiet.write_text("#!/bin/sh\necho 'ebb 1.8' >&2\n")
    quiet.chmod(0o755)
    tools = "".join(f'\n[[tools]]\nname = "{one.name}"\ncommand = ["{one}"]\n' for one in (program, quiet))
    idle.prepared.file.write_text(idle.prepared.file.read_text() + tools)
    says = {one["part"]: one["says"] for one in idle.json("survey")["versions"] if one["part"]}
    assert says == {"tide": "3.2", "ebb": "1.8"}


def test_a_tree_that_was_lost_comes_back_with_its_own_owner_and_mode(idle: Demo) -> None:
    os.chown(idle.root, 4321, 4321)
    idle.root.chmod(0o751)
    assert idle.yl("backup", "make").code == 0
    assert idle.yl("backup", "restore", "--into", idle.folder / "looked-at").code == 0
    status = (idle.folder / "looked-at" / "root").stat()
    assert (status.st_uid, status.st_gid, status.st_mode & 0o7777) == (4321, 4321, 0o751)


def test_a_link_out_of_ones_own_tree_is_told_as_that(tmp_path: Path) -> None:
    (tmp_path / "tree").mkdir()
    (tmp_path / "tree" / "release.toml").write_bytes(SHEET)
    (tmp_path / "tree" / "link").symlink_to("../elsewhere")
    answer = run_program("pack", tmp_path / "tree", "--into", tmp_path, folder=tmp_path)
    assert answer.code == 2
    assert "points out of the tree" in answer.err
    assert "publisher" not in answer.err


def test_a_first_site_file_takes_no_sample_for_settings_and_shows_how_services_are_named(tmp_path: Path) -> None:
    root = tmp_path / "app"
    root.mkdir()
    (root / "VERSION").write_text("1.0\n")
    for name in ("config.ini", "config.sample.ini", "config.ini.dist", "default.ini"):
        (root / name).write_text("[database]\nhost = 127.0.0.1\n")
    assert run_program("init", root, folder=tmp_path).code == 0
    text = (tmp_path / "ladder.toml").read_text()
    assert tomllib.loads(text)["keep"]["settings"] == [{"file": "config.ini", "shipped": "config.ini.dist"}]
    assert "default.ini" not in text
    assert "# [[services]]" in text


def test_a_table_that_may_not_be_read_any_more_is_not_told_as_gone(demo: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    assert demo.yl("climb", "--yes").code == 0
    plan = list_climbs(demo.site())[-1].plan
    gone = TableVerdict("notices", Verdict.DIFFERS, 40, None, 0, ("is gone, and no release declares it",))
    assert proof_module._or_unreadable(plan, "main", gone) == replace(gone, rows_before=40), "it can be read"

    def refused(_database: SqliteDatabase, table: str) -> int:
        raise AnswerNo(Problem("database-refused", f"SELECT command denied to user for table `{table}`", ""))

    monkeypatch.setattr(SqliteDatabase, "count_rows", refused)
    (remark,) = proof_module._or_unreadable(plan, "main", gone).remarks
    assert remark.startswith("cannot be read any more: SELECT command denied")


def test_verify_goes_by_the_limits_that_the_site_file_has_now(demo: Demo) -> None:
    assert demo.yl("climb", "--yes").code == 0
    climb = list_climbs(demo.site())[-1]
    demo.edit('volatile = ["logins"]', 'volatile = ["logins"]\nlock_wait_s = 2')
    now = as_now(climb.plan, climb.standing, demo.prepared.file.read_text())
    assert now.site.database_spec("main").lock_wait_s == 2
    assert demo.yl("verify").code == 0
    demo.edit('root = "quaybook"', 'root = "elsewhere"')
    frozen = as_now(climb.plan, climb.standing, demo.prepared.file.read_text())
    assert (frozen.site.root, frozen.site.database_spec("main").lock_wait_s) == (climb.plan.site.root, 30)


@pytest.mark.parametrize(
    ("engine", "statements", "told"),
    [
        ("postgresql", ["CREATE UNLOGGED TABLE tides (id INTEGER PRIMARY KEY)"], "the table tides is unlogged"),
        (
            "postgresql",
            [
                "CREATE EXTENSION postgres_fdw",
                "CREATE SERVER far FOREIGN DATA WRAPPER postgres_fdw",
                "CREATE FOREIGN TABLE tides (id INTEGER) SERVER far",
            ],
            "the foreign table tides has its rows on another server",
        ),
        ("mariadb", ["CREATE TABLE tides (id INTEGER) ENGINE = MEMORY"], "the table tides lies in the server's memory"),
    ],
)
def test_what_no_backup_holds_is_named_before(
    engine: str, statements: list[str], told: str, engine_demo: MakeDemo
) -> None:
    demo = engine_demo(engine, start=False)
    assert told not in demo.yl("check").out
    ask(demo, *statements)
    findings = [one["saw"] for one in demo.json("check")["findings"] if one["check"] == "database objects"]
    assert [text for text in findings if told in text], findings


def test_a_key_called_type_is_told_as_kind(idle: Demo) -> None:
    idle.edit('kind = "process"', 'type = "process"')
    told = idle.yl("check").err
    assert "unknown key `services[0].type`; what it is stands in `kind`" in told
