"""`yl verify` against a backup, and against a fingerprint alone that came from another machine."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import ask


def backed_up(demo: Demo) -> tuple[str, Path]:
    """A backup's name and folder."""
    folder = Path(demo.json("backup", "make")["path"])
    return folder.name, folder


def write(demo: Demo, statement: str) -> None:
    with closing(sqlite3.connect(demo.database)) as connection, connection:
        connection.execute(statement)


def test_a_site_is_held_against_a_backup_with_its_files(idle: Demo) -> None:
    name, _ = backed_up(idle)
    (idle.root / "uploads" / "later.txt").write_text("came since")
    same = idle.json("verify", "--against", name)
    assert same["whole"] is True
    assert same["files_compared"] > 20
    assert "the same: " in idle.yl("verify", "--against", name).out
    write(idle, "UPDATE boats SET name = 'Another' WHERE id = 3")
    write(idle, "CREATE TABLE more (x)")
    path = next(one for one in sorted((idle.root / "uploads").rglob("*")) if one.is_file() and one.name != "later.txt")
    path.write_bytes(b"spoilt")
    (idle.root / "etc" / "secret.key").unlink()
    faults = idle.json("verify", "--against", name, code=1)["faults"]
    assert any(one.startswith("main.boats: name") for one in faults)
    assert "main.more: appeared" in faults, "no release has anything to do with it"
    assert f"file {path.relative_to(idle.root)}: " in " ".join(faults)
    assert "file etc/secret.key: is missing" in faults
    assert len(faults) == 4, faults


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_a_server_is_held_against_a_backup(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=40, start=False)
    name, _ = backed_up(demo)
    assert demo.json("verify", "--against", name)["whole"] is True
    ask(demo, "UPDATE bookings SET remark = 'changed' WHERE id = 7")
    (fault,) = demo.json("verify", "--against", name, code=1)["faults"]
    assert fault.startswith("main.bookings: remark: ")


def test_a_fingerprint_alone_is_enough_on_another_machine(make_demo: MakeDemo, tmp_path: Path) -> None:
    here, there = make_demo("here", start=False), make_demo("there", start=False, rows=30)
    _, folder = backed_up(here)
    alone = tmp_path / "from-the-old-machine.json"
    shutil.copyfile(folder / "fingerprint-main.json", alone)
    assert there.json("verify", "--with", str(alone), code=1)["whole"] is False
    shutil.copyfile(here.database, there.database)
    found = there.json("verify", "--with", f"main={alone}")
    assert found["whole"] is True
    assert found["files_compared"] == 0
    write(there, "DELETE FROM bookings WHERE id = 7")
    faults = there.json("verify", "--with", str(alone), code=1)["faults"]
    assert any("main.bookings: 1 row fewer than before" in one for one in faults), faults


@pytest.mark.parametrize(
    ("content", "told"),
    [("{}", "it is none"), ("[1]", "it is none"), ("no JSON", "it is none"), (None, "No such file")],
)
def test_what_is_no_fingerprint_is_named(idle: Demo, tmp_path: Path, content: str | None, told: str) -> None:
    path = tmp_path / "print.json"
    if content is not None:
        path.write_text(content)
    answer = idle.yl("verify", "--with", str(path), "--json")
    assert answer.code == 2
    assert told in answer.problems[0]["message"]
    assert "fingerprint-NAME.json" in answer.problems[0]["remedy"]


def test_one_thing_to_compare_with_and_a_database_that_is_there(idle: Demo) -> None:
    _, folder = backed_up(idle)
    path = str(folder / "fingerprint-main.json")
    assert "two things to compare with" in idle.yl("verify", "--with", path, "--against", "x").err
    assert "the site has no database 'other'" in idle.yl("verify", "--with", f"other={path}").err
    assert "there is no climb no-such" in idle.yl("verify", "--against", "no-such").err
    record = json.loads(Path(path).read_text())
    assert record["format"] == 1
