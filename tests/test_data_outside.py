"""Data folders that lie outside root: backed up, compared to the file, and put back like those inside it."""

from __future__ import annotations

import os
import sqlite3
import stat
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import Demo, run_program
from tests.sites import HEAD
from yellow_ladder.accounts import may_write
from yellow_ladder.backup.catalog import list_backups
from yellow_ladder.discovery.elsewhere import used_elsewhere


@pytest.fixture
def berths(idle: Demo, tmp_path: Path) -> Path:
    """A data folder outside root, with a log, a cache and a socket's name in it."""
    folder = tmp_path / "var lib" / "berths"
    for name in ("plans/north.pdf", "plans/south.pdf", "photos/buoy.jpg", "cache/small.jpg"):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(f"{name} as it was")
    (folder / "harbour.log").write_text("one\n")
    idle.edit("data = [", f'data = ["{folder}", ')
    idle.edit("[keep]\n", f'[keep]\nlogs = ["{folder}/harbour.log"]\ncaches = ["__pycache__", "{folder}/cache"]\n')
    return folder


def told(demo: Demo, *words: str) -> dict[str, list[str]]:
    """What `yl verify` finds, however it ends."""
    return dict(demo.yl("verify", *words, "--json").document["result"])


def test_files_that_are_lost_altered_or_renamed_there_are_differences(idle: Demo, berths: Path) -> None:
    idle.json("climb", "--yes", "--to", "2.6")
    silent = told(idle)["faults"]  # nothing of it is served here
    assert not any(str(berths) in one for one in silent)
    (berths / "plans/north.pdf").write_text("altered, and as long")
    os.utime(berths / "plans/north.pdf", (0, 0))
    (berths / "plans/south.pdf").unlink()
    (berths / "photos").chmod(0o700)
    (berths / "plans/new.pdf").write_text("came since")
    (berths / "cache/small.jpg").unlink()
    with (berths / "harbour.log").open("a") as log:
        log.write("two\n")
    found = told(idle)
    said = [*found["faults"], *found["written_since"], *found["remarks"]]
    assert any(f"{berths}/plans/south.pdf" in one and "is missing" in one for one in found["faults"])
    assert any(f"{berths}/photos" in one and "mode" in one for one in found["faults"])
    assert any(f"{berths}/plans/north.pdf" in one and "another content" in one for one in said)
    assert any(f"{berths}/plans/new.pdf" in one and "new in" in one for one in said)
    assert any(f"log {berths}/harbour.log: has grown" in one for one in said)
    assert not any("cache" in one for one in said)


def test_going_back_makes_them_what_they_were_and_keeps_what_came_since(idle: Demo, berths: Path) -> None:
    before = sorted(one.relative_to(berths) for one in berths.rglob("*"))
    idle.json("climb", "--yes", "--to", "2.6")
    (berths / "plans/north.pdf").write_text("written since")
    (berths / "plans/south.pdf").unlink()
    (berths / "plans/more").mkdir()
    (berths / "plans/more/new.pdf").write_text("came since")
    files = [f"{berths}/plans/more/new.pdf", f"{berths}/plans/north.pdf"]
    assert sorted(idle.json("descend", "--price")["price"]["files"]) == files
    idle.json("descend", "--yes")
    assert sorted(one.relative_to(berths) for one in berths.rglob("*")) == before
    assert (berths / "plans/north.pdf").read_text() == "plans/north.pdf as it was"
    climb = next(one for one in (idle.folder / ".ladder" / "climbs").iterdir() if one.is_dir())
    kept = climb / "written-since" / "outside" / str(berths)[1:]
    assert (kept / "plans/more/new.pdf").read_text() == "came since"
    assert (kept / "plans/north.pdf").read_text() == "written since"


def test_a_database_there_is_dumped_and_no_file_among_others(idle: Demo, tmp_path: Path) -> None:
    folder = tmp_path / "stores"
    folder.mkdir()
    site = idle.site()
    address = site.addresses()[0]
    (folder / "quaybook.sqlite").write_bytes(address.path.read_bytes())
    (folder / "plan.pdf").write_text("a plan")
    idle.edit("[keep]\n", f'[[databases]]\nname = "second"\nurl = "sqlite:///{folder}/quaybook.sqlite"\n\n[keep]\n')
    idle.edit("data = [", f'data = ["{folder}", ')
    idle.json("backup", "make")
    backup = list_backups(site.state.backups)[-1]
    outside = [path for path in backup.manifest() if path.startswith("/")]
    assert outside == [str(folder), f"{folder}/plan.pdf"]
    assert {one.name for one in backup.databases} == {"main", "second"}


def test_a_backup_is_held_against_them_as_well(idle: Demo, berths: Path) -> None:
    idle.json("backup", "make")
    name = list_backups(idle.site().state.backups)[-1].name
    (berths / "plans/new.pdf").write_text("came since")
    assert idle.json("verify", "--against", name)["faults"] == []
    (berths / "plans/south.pdf").write_text("altered")
    faults = idle.json("verify", "--against", name, code=1)["faults"]
    assert len(faults) == 1
    assert f"{berths}/plans/south.pdf" in faults[0]


def test_a_program_that_has_them_open_keeps_a_site_from_being_at_rest(idle: Demo, berths: Path) -> None:
    # A worker that nobody named, started from elsewhere, that knows the data folder alone.
    holding = f"import time; stream = open({str(berths / 'photos/buoy.jpg')!r}, 'a'); print(flush=True); time.sleep(60)"
    with subprocess.Popen([sys.executable, "-c", holding], cwd="/", stdout=subprocess.PIPE) as worker:
        assert worker.stdout is not None
        worker.stdout.readline()
        said = idle.yl("climb", "--yes", "--to", "2.6", "--json").out
        worker.kill()
    assert f"has {berths}/photos/buoy.jpg open" in said


@pytest.mark.parametrize(
    ("path", "says"),
    [
        ("{root}/data", "name it by its path below root"),
        ("{above}", "a backup would hold itself"),
        ("/", "should be a path below the application's folder, or the whole path of what lies elsewhere"),
        ("/srv/../etc", "should be a path below the application's folder, or the whole path of what lies elsewhere"),
    ],
)
def test_a_folder_that_cannot_be_data_there_is_refused_by_name(idle: Demo, path: str, says: str) -> None:
    site = idle.site()
    named = path.format(root=site.root, above=site.root.parent)
    idle.edit("data = [", f'data = ["{named}", ')
    answer = idle.yl("survey", "--json")
    assert (answer.code, says in answer.out) == (2, True)


def test_a_survey_counts_them_and_room_is_looked_for(idle: Demo, berths: Path) -> None:
    found = idle.json("survey")
    size = sum(one.stat().st_size for one in berths.rglob("*") if one.is_file() and one.parent.name != "cache")
    (counted,) = found["data_outside"]
    assert (counted["path"], counted["files"], counted["bytes"]) == (str(berths), 4, size)


def test_what_runs_with_its_owners_rights_and_devices_among_them_are_told(idle: Demo, berths: Path) -> None:
    (berths / "plans" / "tool").write_text("#!/bin/sh")
    (berths / "plans" / "tool").chmod(0o4755)
    os.mknod(berths / "photos" / "disk", 0o600 | stat.S_IFBLK, os.makedev(7, 200))
    told = [one["saw"] for one in idle.json("check")["findings"] if one["check"] == "set-id files"]
    assert any(f"{berths}/plans/tool" in one for one in told)
    assert any(f"{berths}/photos/disk" in one for one in told)


SITE = (
    HEAD
    + """[keep]
settings = [{ file = "harbour.json" }]
[[services]]
name = "web"
kind = "process"
run = ["python3", "app.py"]
pid_file = "web.pid"
"""
)
WORKS = """
import sqlite3, sys, time
database = sqlite3.connect(sys.argv[1] + "/rows/berths.sqlite")
database.execute("PRAGMA journal_mode = wal")
database.execute("CREATE TABLE IF NOT EXISTS berths (name)")
database.commit()
other = open(sys.argv[2] + "/queue.bin", "ab")
log = open(sys.argv[2] + "/quaybook.log", "a")
print(flush=True)
time.sleep(60)
"""


@pytest.fixture
def forgetful(tmp_path: Path) -> Iterator[Path]:
    """A site whose application keeps everything outside root, and whose site file names nothing of it."""
    (tmp_path / "app").mkdir()
    (tmp_path / "releases").mkdir()
    (tmp_path / "app" / "VERSION").write_text("2.4\n")
    (tmp_path / "app" / "harbour.json").write_text(f'{{"data": "{tmp_path}/lib/berths", "tools": "/usr/bin"}}')
    (tmp_path / "lib" / "berths" / "rows").mkdir(parents=True)
    (tmp_path / "spool").mkdir()
    (tmp_path / "ladder.toml").write_text(SITE)
    (tmp_path / "etc").mkdir()
    (tmp_path / "etc" / "berths").write_text(f"[store]\nplans = {tmp_path}/plans\n")
    (tmp_path / "plans" / "north" / ".plans.cache").mkdir(parents=True)
    words = [sys.executable, "-c", WORKS, str(tmp_path / "lib" / "berths"), str(tmp_path / "spool")]
    words.append(f"--config={tmp_path}/etc/berths")
    with subprocess.Popen(words, cwd=tmp_path / "app", stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        process.stdout.readline()
        (tmp_path / "web.pid").write_text(str(process.pid))
        yield tmp_path
        process.kill()


def found_elsewhere(folder: Path) -> dict[str, tuple[str, str]]:
    """What `yl check` finds outside root: level and remedy, by path."""
    answer = run_program("check", "--json", folder=folder)
    findings = [one for one in answer.document["result"]["findings"] if one["check"] == "data elsewhere"]
    return {one["saw"].partition(" ")[0]: (one["level"], one["remedy"]) for one in findings if one["level"] != "ok"}


def test_what_an_application_keeps_elsewhere_and_nobody_named_is_found(forgetful: Path) -> None:
    database, folder = f"{forgetful}/lib/berths/rows/berths.sqlite", f"{forgetful}/lib/berths"
    found = found_elsewhere(forgetful)
    assert {path: level for path, (level, _) in found.items()} == {
        database: "stop",
        folder: "warn",
        f"{forgetful}/spool": "warn",
    }
    assert f'url = "sqlite:///{database}"' in found[database][1]
    assert f'data = ["{folder}"]' in found[folder][1]


def test_a_database_that_a_process_of_several_applications_has_open_stops_nothing(forgetful: Path) -> None:
    words = [sys.executable, "-c", WORKS, str(forgetful / "lib" / "berths"), str(forgetful / "spool")]
    with subprocess.Popen(words, cwd="/", stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        process.stdout.readline()
        (forgetful / "web.pid").write_text(str(process.pid))
        found = found_elsewhere(forgetful)
        process.kill()
    level, remedy = found[f"{forgetful}/lib/berths/rows/berths.sqlite"]
    assert (level, remedy.endswith("or see whose it is")) == ("warn", True)


def test_what_is_named_in_any_way_is_not_told_again(forgetful: Path) -> None:
    file, database = forgetful / "ladder.toml", "lib/berths/rows/berths.sqlite"
    named = f'[[databases]]\nurl = "sqlite:///{database}"\n[keep]\ndata = ["{forgetful}/lib/berths"]\n'
    file.write_text(SITE.replace("[keep]\n", f'{named}caches = ["{forgetful}/spool"]\n'))
    assert found_elsewhere(forgetful) == {}
    # A database in a folder of data is kept as a file, at rest.
    file.write_text(SITE.replace("[keep]\n", f'[keep]\ndata = ["{forgetful}/lib/berths"]\n'))
    assert list(found_elsewhere(forgetful)) == [f"{forgetful}/spool"]


def test_a_log_elsewhere_and_what_another_account_alone_may_write_is_no_data(forgetful: Path) -> None:
    found = list(used_elsewhere(forgetful / "app", [int((forgetful / "web.pid").read_text())]))
    assert not any(one.path.endswith(".log") for one in found)
    assert {one.path for one in found if one.is_open} == {
        f"{forgetful}/lib/berths/rows/berths.sqlite",
        f"{forgetful}/spool/queue.bin",
    }
    assert not may_write(forgetful / "lib", "nobody")
    assert may_write(forgetful / "lib", "root")


HOME_KEEPER = """
import os, sys, time
log = open(os.path.expanduser("~/.config/tide-table/logs/today.log"), "a")
print(flush=True)
time.sleep(60)
"""


def test_what_a_program_keeps_in_its_accounts_home_is_found(tmp_path: Path) -> None:
    """By its name, or since it writes there, be it a log; what tools keep for the account is none of it."""
    home, app = tmp_path / "home", tmp_path / "app"
    for folder in (".berths", ".cache/berths", ".config/tide-table/logs", ".local/share/other", ".npm"):
        (home / folder).mkdir(parents=True)
    app.mkdir()
    (app / "VERSION").write_text("2.4\n")
    (app / "berths.py").write_text(HOME_KEEPER)
    environment = {**os.environ, "HOME": str(home)}
    words = [sys.executable, str(app / "berths.py")]
    with subprocess.Popen(words, cwd=app, stdout=subprocess.PIPE, env=environment) as process:
        assert process.stdout is not None
        process.stdout.readline()
        found = {one.path for one in used_elsewhere(app, [process.pid]) if one.path.startswith(str(home))}
        run_program("init", "app", folder=tmp_path)
        process.kill()
    assert found == {f"{home}/.berths", f"{home}/.config/tide-table"}
    site = tomllib.loads((tmp_path / "ladder.toml").read_text())
    assert site["keep"]["data"] == [f"{home}/.berths", f"{home}/.config/tide-table"]
    assert site["keep"]["logs"] == [f"{home}/.config/tide-table/logs"]


def test_init_proposes_what_settings_name_and_processes_have_open_elsewhere(forgetful: Path) -> None:
    library = forgetful / "lib" / "berths"
    (library / "logs").mkdir()
    (library / "logs" / "today.log").write_text("one\n")
    for number in range(6):  # one for each owner of a boat
        (library / "owners").mkdir(exist_ok=True)
        with sqlite3.connect(library / "owners" / f"owner-{number}.sqlite") as database:
            database.execute("CREATE TABLE boats (name)")
    (forgetful / "ladder.toml").unlink()
    run_program("init", "app", folder=forgetful)
    text = (forgetful / "ladder.toml").read_text()
    site = tomllib.loads(text)
    assert [one["url"] for one in site["databases"]] == ["sqlite:///lib/berths/rows/berths.sqlite"]
    assert site["keep"]["data"] == [str(library), f"{forgetful}/plans", f"{forgetful}/spool"]
    files = [one["file"] for one in site["keep"]["settings"]]
    assert files == [f"{forgetful}/etc/berths"]
    assert site["keep"]["caches"] == ["__pycache__", ".plans.cache"]
    assert site["keep"]["logs"] == [f"{library}/logs", f"{forgetful}/spool/quaybook.log"]
    assert f"{library}/owners has 6 SQLite files" in " ".join(text.replace("\n# ", " ").split())
    assert run_program("survey", folder=forgetful).code == 0


def test_many_databases_of_one_folder_below_root_stay_files_as_well(tmp_path: Path) -> None:
    (tmp_path / "app" / "data" / "owners").mkdir(parents=True)
    (tmp_path / "app" / "VERSION").write_text("2.4\n")
    for name in ("berths", *(f"owners/owner-{number}" for number in range(6))):
        with sqlite3.connect(tmp_path / "app" / "data" / f"{name}.sqlite") as database:
            database.execute("CREATE TABLE boats (name)")
    run_program("init", "app", folder=tmp_path)
    site = tomllib.loads((tmp_path / "ladder.toml").read_text())
    assert [one["url"] for one in site["databases"]] == ["sqlite:///app/data/berths.sqlite"]
    assert site["keep"]["data"] == ["data"]


def test_a_link_of_another_account_in_a_folders_place_is_followed_nowhere(idle: Demo, berths: Path) -> None:
    """Whoever has broken into the account that owns the folder above may put a link there; it can be gone back all the
    same.
    """
    idle.json("climb", "--yes", "--to", "2.6")
    away = berths.parent / "away"
    berths.rename(away)
    elsewhere = idle.folder / "not for them"
    elsewhere.mkdir()
    (elsewhere / "secret").write_text("as ever")
    berths.symlink_to(elsewhere)
    os.chown(berths, 4242, 4242, follow_symlinks=False)
    answer = idle.yl("descend", "--yes")
    assert answer.code == 2
    assert f"{berths}, which is data, is reached by a link of another account" in " ".join(answer.err.split())
    assert (elsewhere / "secret").read_text() == "as ever"
    berths.unlink()
    idle.json("descend", "--yes")
    assert (berths / "plans/north.pdf").read_text() == "plans/north.pdf as it was"
    assert [path.name for path in elsewhere.iterdir()] == ["secret"]
