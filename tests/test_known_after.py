"""What a site file does not ask for, nobody will know when the climb is done: `yl check` says so before."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.sites import HEAD, SHEET

SITE = (
    HEAD
    + """{probes}
[[databases]]
url = "sqlite:///app/data/berths.sqlite"
[keep]
data = ["data"]
[[services]]
name = "web"
kind = "process"
run = ["/bin/sleep", "60"]
pid_file = "web.pid"
ready = {ready}
{more}
"""
)
MIGRATES = '[[migrations]]\nid = "more"\nfile = "more.sql"\n'
PORT, PAGE = "{ port = 15999 }", '{ url = "http://127.0.0.1:15999/" }'


def warnings(folder: Path, ready: str = PORT, probes: str = "", more: str = "", sheet: str = "") -> dict[str, str]:
    """What `yl check` warns of, by check."""
    (folder / "app" / "data").mkdir(parents=True)
    (folder / "releases").mkdir()
    (folder / "app" / "VERSION").write_text("2.4\n")
    with sqlite3.connect(folder / "app" / "data" / "berths.sqlite") as database:
        database.execute("CREATE TABLE berths (name)")
    for version, more_of_it in (("2.4", ""), ("2.6", sheet)):
        parts = [entry("VERSION", content=f"{version}\n".encode())]
        parts += [entry("more.sql", content=b"CREATE TABLE quays (name);")] if more_of_it else []
        sheet_text = (SHEET.format(version) + more_of_it).encode()
        write(folder / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=sheet_text)
    (folder / "ladder.toml").write_text(SITE.format(ready=ready, probes=probes, more=more))
    result = run_program("check", "--json", folder=folder).document["result"]
    return {one["check"]: one["saw"] for one in result["findings"] if one["level"] == "warn"}


def test_a_site_that_asks_for_no_page_is_told_so(tmp_path: Path) -> None:
    assert "nothing will ask the application for a page" in warnings(tmp_path)["after the climb"]


@pytest.mark.parametrize(
    "asks",
    [
        {"ready": PAGE},
        {"probes": '[[versions]]\nof = "served"\nurl = "http://127.0.0.1:15999/version"\n'},
        {"more": '[[checks]]\nname = "berths"\nurl = "http://127.0.0.1:15999/"\nwhen = "after"\n'},
    ],
    ids=["readiness", "version", "question"],
)
def test_one_that_asks_in_any_way_is_not(asks: dict[str, str], tmp_path: Path) -> None:
    assert "after the climb" not in warnings(tmp_path, **asks)


def test_where_nothing_tells_of_the_schema_and_no_sheet_migrates_it_is_told(tmp_path: Path) -> None:
    assert "nothing tells whether 2.6 must change the database" in warnings(tmp_path)["schema"]


@pytest.mark.parametrize(
    "tells",
    [
        {"sheet": MIGRATES},
        {"probes": '[[versions]]\nof = "schema"\nquery = "PRAGMA user_version"\n'},
        {"sheet": "[[contract]]\n"},
    ],
    ids=["migration", "probe", "contract"],
)
def test_where_anything_tells_it_is_not(tells: dict[str, str], tmp_path: Path) -> None:
    assert "schema" not in warnings(tmp_path, **tells)
