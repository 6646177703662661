"""No more is claimed than was compared, and nothing is passed over that could be."""

from __future__ import annotations

import sqlite3
from typing import Any

from tests.conftest import Demo
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
    assert remarks == ["of the rows that were there, 1 have changed and 1 are gone"]


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
    assert "log/access.log" in str(demo.json("verify", code=1)["faults"])
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
