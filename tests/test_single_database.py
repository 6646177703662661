"""A database that is a file among those of the application, as frameworks lay it, goes up and back with it."""

from __future__ import annotations

import os
import random
import signal
import sqlite3
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.crash_driver import die_at_rename, in_child, planned
from tests.sites import HEAD, SHEET
from tests.test_crash import IS_WHOLE, SEED
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.site.site import load_site

SITE = (
    HEAD.replace("[releases]", 'placement = "{}"\n[releases]') + '[[databases]]\nurl = "sqlite:///app/web/berths.db"\n'
)
MIGRATION = (
    '[[migrations]]\nid = "{0}"\nfile = "{0}.sql"\n[[contract]]\n[[contract.tables]]\nname = "berths"\nrows = "grow"\n'
)


@pytest.fixture
def site(tmp_path: Path, request: pytest.FixtureRequest) -> Path:
    """With a journal that a writer has left half-way, which the engine must find beside the database wherever it is."""
    (tmp_path / "releases").mkdir()
    for number, version in enumerate(("2.4", "2.5", "2.6")):
        parts = [entry("VERSION", content=f"{version}\n".encode()), entry("web/pages.py", content=version.encode())]
        parts += [entry(f"{version}.sql", content=f"INSERT INTO berths VALUES ({number + 5000}, 'new');".encode())]
        parts += [entry("web/berths.db", content=b"the vendor's sample")]
        sheet = SHEET.format(version) + (f'[reach]\nfrom = "==2.{number + 3}"\n' if number else "")
        sheet += MIGRATION.format(version) if number else ""
        write(tmp_path / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=sheet.encode())
    web = tmp_path / "app" / "web"
    web.mkdir(parents=True)
    (tmp_path / "app" / "VERSION").write_text("2.4\n")
    (tmp_path / "app" / "2.4.sql").write_text("INSERT INTO berths VALUES (5000, 'new');")
    (web / "pages.py").write_text("2.4")
    with sqlite3.connect(web / "berths.db") as made:
        made.execute("PRAGMA journal_mode = WAL")
        made.execute("CREATE TABLE berths (id INTEGER PRIMARY KEY, name TEXT)")
        made.executemany("INSERT INTO berths VALUES (?, ?)", [(number, f"berth {number}") for number in range(300)])
    made.close()
    (tmp_path / "ladder.toml").write_text(SITE.format(getattr(request, "param", "exchange")))
    return tmp_path


def left_by_a_dead_writer(site: Path) -> None:
    """What was committed stands in the log beside the database alone."""
    pid = os.fork()
    if not pid:
        connection = sqlite3.connect(site / "app" / "web" / "berths.db", isolation_level=None)
        connection.execute("PRAGMA wal_autocheckpoint = 0")
        connection.execute("INSERT INTO berths VALUES (4000, 'by the dead')")
        os.kill(os.getpid(), signal.SIGKILL)
    os.waitpid(pid, 0)
    assert (site / "app" / "web" / "berths.db-wal").stat().st_size


def rows(site: Path) -> list[int]:
    connection = sqlite3.connect(site / "app" / "web" / "berths.db")
    found = [number for (number,) in connection.execute("SELECT id FROM berths ORDER BY id")]
    connection.close()
    return found


@pytest.mark.parametrize("site", ["exchange", "overlay"], indirect=True)
def test_it_goes_up_two_releases_and_back(site: Path) -> None:
    left_by_a_dead_writer(site)
    before = [*range(300), 4000]
    up = run_program("climb", "--yes", folder=site)
    assert up.code == 0, up.out + up.err
    assert rows(site) == [*before, 5001, 5002]
    assert (site / "app" / "web" / "pages.py").read_text() == "2.6"
    assert run_program("verify", folder=site).code == 0
    connection = sqlite3.connect(site / "app" / "web" / "berths.db")
    connection.execute("INSERT INTO berths VALUES (9000, 'since')")
    connection.commit()
    connection.close()
    down = run_program("descend", "--yes", folder=site)
    assert down.code == 0, down.out + down.err
    assert rows(site) == before
    assert "9000" in "".join(path.read_text() for path in site.glob(".ladder/climbs/*/written-since/rows/*"))
    assert not list((site / "app").rglob("*.aside*"))


def test_killed_between_any_two_renames_it_is_found(site: Path) -> None:
    """Whichever of its files had moved by then."""

    def is_meant(names: list[str]) -> bool:
        return any(Path(name).name.startswith(("berths.db", "app", "staged-")) for name in names)

    def climb(number: int) -> int:
        die_at_rename(number, is_meant)
        begin(planned(load_site(site / "ladder.toml")), Conditions())
        return 0

    numbers = list(range(1, 9))
    died = 0
    for number in numbers if IS_WHOLE else random.Random(SEED or None).sample(numbers, 3):
        left_by_a_dead_writer(site) if 4000 not in rows(site) else None
        before = rows(site)
        _, signalled = in_child(lambda: climb(number))  # noqa: B023
        if not signalled:
            assert run_program("descend", "--yes", folder=site).code == 0
            continue
        died += 1
        if number % 2:
            answer = run_program("climb", "--continue", folder=site)
            assert answer.code == 0, (number, answer.out + answer.err)
            assert rows(site) == [*before, 5001, 5002], number
        answer = run_program("descend", "--yes", folder=site)
        assert answer.code == 0, (number, answer.out + answer.err)
        assert rows(site) == before, number
    assert died
