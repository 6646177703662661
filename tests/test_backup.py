"""A backup restores with common tools alone, and a damaged one is never taken for sound."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import stat
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.conftest import Demo, MakeDemo
from yellow_ladder.backup.catalog import Ground
from yellow_ladder.backup.files import Making, backup_name, write_files
from yellow_ladder.backup.make import make_backup
from yellow_ladder.backup.restore import restore_files
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.events import silent
from yellow_ladder.files.manifest import compare_manifests, take_manifest
from yellow_ladder.fingerprints.scan import take_fingerprint


def rows_of(database: Path) -> dict[str, list[tuple[object, ...]]]:
    connection = sqlite3.connect(database)
    try:
        tables = [name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        return {name: connection.execute(f"SELECT * FROM {name} ORDER BY 1").fetchall() for name in tables}
    finally:
        connection.close()


def test_a_backup_restores_with_tar_and_sqlite3_alone(demo: Demo, tmp_path: Path) -> None:
    (demo.root / "uploads" / "a\nb").write_bytes(b"odd name")
    demo.json("backup", "make")
    backup = next((demo.folder / ".ladder" / "backups").iterdir())
    target = tmp_path / "by hand"
    target.mkdir()
    script = f"""
        set -e
        cd '{backup}'
        sha256sum -c --quiet SHA256SUMS
        zstd -dcq files.tar.zst | tar -xp -C '{target}' --strip-components=1 root
        sqlite3 '{target}/data/quaybook.sqlite' ".restore 'database-main.sqlite'"
        test "$(sqlite3 '{target}/data/quaybook.sqlite' 'PRAGMA integrity_check')" = ok
    """
    subprocess.run(["bash", "-c", script], check=True)
    skip = demo.site().skipped()
    assert compare_manifests(take_manifest(demo.root, skip), take_manifest(target, skip)) == []
    assert rows_of(target / "data/quaybook.sqlite") == rows_of(demo.database)


def test_the_tool_restores_aside_what_it_backed_up(idle: Demo, tmp_path: Path) -> None:
    made = idle.json("backup", "make")
    assert idle.json("backup", "list")[0]["path"] == made["path"]
    assert idle.json("backup", "test")["files"] == made["files"]
    idle.json("backup", "restore", "--into", tmp_path / "aside")
    skip = idle.site().skipped()
    assert compare_manifests(take_manifest(idle.root, skip), take_manifest(tmp_path / "aside" / "root")) == []
    assert rows_of(tmp_path / "aside" / "database-main.sqlite") == rows_of(idle.database)
    again = idle.yl("backup", "restore", "--into", tmp_path / "aside", "--json")
    assert (again.code, again.problems[0]["code"]) == (2, "folder-not-empty")


def test_a_backup_taken_while_the_site_writes_is_whole(make_demo: MakeDemo) -> None:
    demo = make_demo(rows=3_000, start=False)
    writer = sqlite3.connect(demo.database)
    writer.execute("PRAGMA journal_mode = WAL")
    writer.execute("INSERT INTO notices VALUES (900, '2026-01-01', 'in the log', 'still in the write-ahead log')")
    writer.commit()
    assert demo.database.with_name("quaybook.sqlite-wal").stat().st_size > 0
    backup = make_backup(demo.site(), "2.4", utc_now(), silent)
    writer.close()
    copy = rows_of(backup.path / "database-main.sqlite")
    assert (900, "2026-01-01", "in the log", "still in the write-ahead log") in copy["notices"]
    assert copy == rows_of(demo.database)


def test_a_climb_takes_a_database_with_a_write_ahead_log_up_and_back(idle: Demo) -> None:
    writer = sqlite3.connect(idle.database)
    writer.execute("PRAGMA journal_mode = WAL")
    writer.execute("INSERT INTO notices VALUES (901, '2026-01-01', 'in the log', '')")
    writer.commit()
    before = rows_of(idle.database)
    assert idle.json("climb", "--yes")["proof"]["whole"]
    writer.close()
    idle.json("descend", "--yes")
    assert rows_of(idle.database) == before


def flip_byte(path: Path, place: float) -> None:
    raw = bytearray(path.read_bytes())
    raw[min(len(raw) - 1, int(len(raw) * place))] ^= 0x01
    path.write_bytes(raw)


@pytest.mark.parametrize("place", [0.0, 0.3, 0.7, 1.0])
@pytest.mark.parametrize("name", ["files.tar.zst", "files.jsonl", "database-main.sqlite", "backup.json", "SHA256SUMS"])
def test_one_flipped_bit_is_found_and_refused(idle: Demo, name: str, place: float, tmp_path: Path) -> None:
    made = idle.json("backup", "make")
    flip_byte(Path(made["path"]) / name, place)
    for words in (("backup", "test", made["path"].rsplit("/", 1)[-1]), ("backup", "restore", "--into", tmp_path / "x")):
        answer = idle.yl(*words, "--json")
        assert (answer.code, answer.problems[0]["code"]) == (1, "backup-damaged"), answer
    assert not (tmp_path / "x").exists()


def remove_file(backup: Path) -> None:
    (backup / "files.tar.zst").unlink()


def add_file(backup: Path) -> None:
    (backup / "notes.txt").write_text("what is this")


@pytest.mark.parametrize("hurt", [remove_file, add_file])
def test_a_file_too_few_or_too_many_is_found(idle: Demo, hurt: Callable[[Path], None]) -> None:
    hurt(Path(idle.json("backup", "make")["path"]))
    assert idle.yl("backup", "test").code == 1


def test_an_unfinished_backup_is_never_listed(idle: Demo) -> None:
    site = idle.site()
    making = Making(site, "2.4", backup_name(site, "2.4", utc_now()), silent)
    site.state.ensure()
    write_files(making)
    assert making.folder.is_dir()
    assert idle.json("backup", "list") == []
    answer = idle.yl("backup", "test", making.folder.name, "--json")
    assert (answer.code, answer.problems[0]["code"]) == (2, "no-backup")


def test_a_file_that_cannot_be_backed_up_stops_it_and_leaves_nothing(idle: Demo, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "none", str(small)], check=False).returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    try:
        (idle.root / "uploads" / "large").write_bytes(os.urandom(2_000_000))
        idle.edit('root = "quaybook"', f'root = "quaybook"\nstate = "{small}/state"')
        answer = idle.yl("backup", "make", "--json")
        assert (answer.code, answer.problems[0]["code"]) == (1, "backup-failed")
        assert "No space left" in answer.problems[0]["message"]
        assert list((small / "state" / "backups").iterdir()) == []
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_backups_are_private(idle: Demo) -> None:
    backup = Path(idle.json("backup", "make")["path"])
    assert stat.S_IMODE(backup.stat().st_mode) == 0o700
    assert {stat.S_IMODE(path.stat().st_mode) for path in backup.iterdir()} == {0o600}


KINDS = ["remove", "change", "chmod", "add", "to folder", "to link", "touch"]
HARM = st.lists(st.tuples(st.sampled_from(KINDS), st.integers(0, 10**6)), max_size=12)


def harm(root: Path, kind: str, number: int, decoy: Path) -> None:
    paths = sorted(path for path in root.rglob("*") if not path.name.startswith("quaybook.sqlite"))
    path = paths[number % len(paths)]
    is_folder = path.is_dir() and not path.is_symlink()
    if kind == "add":
        new = (path if is_folder else path.parent).joinpath(f"new {number}")
        if not new.is_symlink():  # an earlier harm may have made it one, and nothing here may write through it
            new.write_text("new")
    elif kind == "chmod" and not path.is_symlink():
        path.chmod(0o700 if is_folder else 0o604)
    elif not is_folder and kind == "change" and not path.is_symlink():
        path.write_text("changed")
    elif not is_folder and kind == "touch":
        os.utime(path, ns=(5, 5), follow_symlinks=False)
    elif not is_folder:
        path.unlink()
        if kind == "to folder":
            path.mkdir()
            (path / "inside").write_text("x")
        elif kind == "to link":
            path.symlink_to(decoy)


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(harms=HARM)
def test_whatever_was_done_to_the_tree_a_restore_undoes(idle: Demo, harms: list[tuple[str, int]]) -> None:
    site = idle.site()
    site.state.ensure()
    before = take_manifest(site.root, site.skipped())
    times = {path: entry.modified_ns for path, entry in before.items()}
    backup = make_backup(site, f"2.4.{os.urandom(4).hex()}", utc_now(), silent)
    decoy = idle.folder / "decoy"
    decoy.write_text("not the site's")
    for kind, number in harms:
        harm(site.root, kind, number, decoy)
    restore_files(backup, Ground(site.root), site.skipped())
    after = take_manifest(site.root, site.skipped())
    assert compare_manifests(before, after) == []
    assert {path: entry.modified_ns for path, entry in after.items()} == times
    assert decoy.read_text() == "not the site's"


def test_what_others_wrote_while_the_site_was_closed_is_kept(make_demo: MakeDemo) -> None:
    demo = make_demo(broken=True, start=False)
    # The flag that closes the site doubles as the moment at which a stranger drops a file into a data folder.
    demo.edit('flag = "quaybook/data/closed"\n', f'close = ["sh", "{demo.folder}/drop.sh"]\nopen = ["true"]\n')
    (demo.folder / "drop.sh").write_text(
        f"(n=0; while ! test -e '{demo.root}/quaybook/reports.py'; do sleep 0.01; n=$((n+1));"
        f" test $n -lt 1000 || exit; done; echo scanned > '{demo.root}/uploads/scan.txt') > /dev/null 2>&1 &\n"
    )
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--yes", "--json")
    assert answer.problems[0]["code"] == "climb-failed"
    assert picture_of(demo.site()) == before
    kept = list((demo.folder / ".ladder" / "climbs").glob("*/written-since/files/uploads/scan.txt"))
    assert [path.read_text() for path in kept] == ["scanned\n"]


def test_a_fingerprint_of_the_copy_is_that_of_the_database(idle: Demo) -> None:
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    database = idle.site().databases()["main"]
    copy = backup.path / "database-main.sqlite"
    assert take_fingerprint(database) == backup.fingerprint("main")
    assert database.is_same_as_backup(copy)
    connection = sqlite3.connect(idle.database)
    connection.execute("UPDATE berths SET length_cm = length_cm + 1 WHERE id = 7")
    connection.commit()
    connection.close()
    assert not database.is_same_as_backup(copy)
    assert take_fingerprint(database) != backup.fingerprint("main")


def test_two_backups_of_one_second_are_two(idle: Demo) -> None:
    now = utc_now()
    site = idle.site()
    site.state.ensure()
    names = [make_backup(site, "2.4", now, silent).name for _ in range(2)]
    assert len(set(names)) == 2
    assert [one["path"].rsplit("/", 1)[-1] for one in idle.json("backup", "list")] == names


# An access control list (acl(5), version 2): account 4321 may read and write as well.
ACL = struct.pack("<I", 2) + b"".join(
    struct.pack("<HHI", tag, bits, who)
    for tag, bits, who in ((1, 6, 2**32 - 1), (2, 6, 4321), (4, 4, 2**32 - 1), (16, 6, 2**32 - 1), (32, 4, 2**32 - 1))
)
LIST = "system.posix_acl_access"


def with_attributes(demo: Demo) -> list[Path]:
    """Give some files of the site attributes of their own; those that have a list come last."""
    noted, listed = demo.root / "uploads" / "latest.txt", demo.root / "server.py"
    noted.write_text("x")
    try:
        os.setxattr(noted, "user.signed-by", b"K\xc3\xa4the \xff\x00")
        for path in (listed, demo.root / "data", demo.root / "etc" / "quaybook.ini"):
            os.setxattr(path, LIST, ACL)
    except OSError as fault:
        pytest.skip(f"the file system of the tests keeps no extended attributes: {fault}")
    return [noted, listed, demo.root / "data", demo.root / "etc" / "quaybook.ini"]


def test_attributes_and_access_lists_come_back(idle: Demo, tmp_path: Path) -> None:
    noted, *listed = with_attributes(idle)
    modes = [path.stat().st_mode for path in listed]
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    os.removexattr(noted, "user.signed-by")
    for path in listed:
        os.removexattr(path, LIST)
    os.setxattr(idle.root / "VERSION", "user.stranger", b"not there before")
    for _ in range(2):
        restore_files(backup, Ground(idle.root), idle.site().skipped())
        assert os.getxattr(noted, "user.signed-by") == b"K\xc3\xa4the \xff\x00"
        assert [os.getxattr(path, LIST) for path in listed] == [ACL] * len(listed)
        assert [path.stat().st_mode for path in listed] == modes
        assert os.listxattr(idle.root / "VERSION") == []
    target = tmp_path / "by hand"
    target.mkdir()
    unpack = (
        f"zstd -dcq '{backup.archive}' | tar -xp --xattrs --xattrs-include='*' -C '{target}' --strip-components=1 root"
    )
    subprocess.run(["bash", "-c", unpack], check=True)
    assert os.getxattr(target / "uploads/latest.txt", "user.signed-by") == b"K\xc3\xa4the \xff\x00"


def test_an_access_list_outlives_a_climb_and_the_way_back(idle: Demo) -> None:
    with_attributes(idle)
    assert idle.yl("climb", "--yes").code == 0
    for name in ("server.py", "data", "config/quaybook.ini"):
        assert os.getxattr(idle.root / name, LIST) == ACL
    assert os.getxattr(idle.root / "uploads/latest.txt", "user.signed-by").startswith(b"K")
    os.removexattr(idle.root / "uploads/latest.txt", "user.signed-by")
    shutil.rmtree(next((idle.folder / ".ladder/climbs").glob("*/aside")))  # so that everything comes from the backup
    assert idle.yl("descend", "--yes").code == 0
    for name in ("server.py", "data", "etc/quaybook.ini"):
        assert os.getxattr(idle.root / name, LIST) == ACL
    assert os.getxattr(idle.root / "uploads/latest.txt", "user.signed-by").startswith(b"K")


def test_a_backup_from_before_attributes_were_kept_takes_none_away(idle: Demo) -> None:
    noted, *_ = with_attributes(idle)
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    listing = backup.path / "files.jsonl"
    lines = [json.loads(line) for line in listing.read_text().splitlines()]
    listing.write_text("".join(json.dumps({k: v for k, v in one.items() if k != "attributes"}) + "\n" for one in lines))
    restore_files(backup, Ground(idle.root), idle.site().skipped())
    assert os.listxattr(noted) == ["user.signed-by"]


def test_a_backup_in_another_format_is_refused_by_name_and_not_misread(idle: Demo) -> None:
    made = idle.json("backup", "make")
    index = Path(made["path"]) / "backup.json"
    index.write_text(index.read_text().replace('"format": 2', '"format": 1'))
    answer = idle.yl("backup", "list", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (2, "other-format")
    assert Path(made["path"]).name in answer.problems[0]["message"]
