"""A disk that is full at any point of a backup, restore, copy or way back: nothing is lost, nothing looks whole."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests import archives
from tests.conftest import Demo, MakeDemo
from tests.warm import Answer
from yellow_ladder.backup.catalog import list_backups
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.errors import AnswerNo
from yellow_ladder.files.archives.unpack import Limits, unpack_archive

KIB = 1024
SIZES = (40, 120, 260, 300, 340, 380, 420, 500, 640)
SmallDisk = Callable[[Path, int], Path]


@pytest.fixture
def small_disk() -> Iterator[SmallDisk]:
    """Makes file systems of so many KiB."""
    made: list[Path] = []

    def make(where: Path, kib: int) -> Path:
        where.mkdir(parents=True, exist_ok=True)
        words = ["mount", "-t", "tmpfs", "-o", f"size={kib}k,mode=700", "tmpfs", str(where)]
        if subprocess.run(words, capture_output=True, check=False).returncode:
            pytest.skip("this account may not mount file systems")
        made.append(where)
        return where

    yield make
    for where in reversed(made):
        subprocess.run(["umount", "-l", where], check=True)


def resize(where: Path, kib: int) -> None:
    subprocess.run(["mount", "-o", f"remount,size={kib}k", where], check=True)


def told(answer: Answer) -> None:
    """A clear refusal: one of the families that a disk may end in, with a remedy."""
    assert answer.code in (1, 2), answer
    assert answer.problems[0]["code"] != "own-fault"
    assert answer.problems[0]["remedy"], answer.problems


@pytest.mark.parametrize("engine", ["sqlite", "postgresql", "mariadb"])
def test_a_backup_on_a_full_disk_is_none(engine: str, engine_demo: MakeDemo, small_disk: SmallDisk) -> None:
    demo = engine_demo(engine, start=False, rows=400)
    before = picture_of(demo.site())
    state = small_disk(demo.folder / ".ladder", SIZES[0])
    outcomes = set()
    for kib in SIZES if engine == "sqlite" else SIZES[::2]:
        resize(state, kib)
        answer = demo.yl("backup", "make", "--json")
        outcomes.add(answer.code)
        backups = list(state.glob("backups/*"))
        if answer.code:
            told(answer)
            assert backups == []
        else:
            assert [path.name for path in backups] == [Path(answer.document["result"]["path"]).name]
            subprocess.run(["rm", "-rf", *backups], check=True)
    assert {0, 1} <= outcomes, "some sizes are too small and some are not"
    assert picture_of(demo.site()) == before


def test_a_restore_and_a_copy_on_a_full_disk_are_none(idle: Demo, small_disk: SmallDisk, tmp_path: Path) -> None:
    vault = small_disk(tmp_path / "vault", SIZES[0])
    idle.edit("[maintenance]", f'[[backup.copy_to]]\nname = "vault"\nfolder = "{vault}"\n\n[maintenance]')
    told(idle.yl("backup", "make", "--json"))
    (backup,) = list_backups(idle.site().state.backups)
    outcomes = []
    for kib in SIZES:
        resize(vault, kib)
        answer = idle.yl("backup", "copy", "--json")
        outcomes.append(answer.code)
        if answer.code:
            told(answer)
        whole = [name for name in os.listdir(vault) if not name.endswith(".unfinished")]
        assert whole == ([] if answer.code else [backup.name])
    assert outcomes[0] == 1
    assert outcomes[-1] == 0
    there = small_disk(tmp_path / "there", 60)
    answer = idle.yl("backup", "restore", "--into", there / "x", "--json")
    assert answer.code != 0
    assert answer.problems[0]["code"] != "own-fault", answer.problems


def test_a_way_back_on_a_full_disk_goes_on_when_there_is_room(demo: Demo, small_disk: SmallDisk) -> None:
    state = small_disk(demo.folder / ".ladder", 64_000)
    before = picture_of(demo.site())
    demo.json("climb", "--to", "4.0", "--yes")
    (demo.root / "uploads" / "new.raw").write_bytes(os.urandom(500_000))
    used = int(subprocess.run(["du", "-sk", state], capture_output=True, text=True, check=True).stdout.split()[0])
    resize(state, used + 60)
    answer = demo.yl("descend", "--yes", "--json")
    assert answer.code in (1, 3), answer
    resize(state, 64_000)
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before
    kept = next(state.glob("climbs/*/written-since/files/uploads/new.raw"))
    assert kept.stat().st_size == 500_000


def test_unpacking_many_tiny_files_leaves_room_on_the_disk(small_disk: SmallDisk, tmp_path: Path) -> None:
    """Each takes a block of the disk, whatever it holds; others write there too."""
    files = [archives.entry(f"notes/{number}", content=b"x") for number in range(8_000)]
    archive = archives.write(tmp_path / "notes.tar.zst", *files)
    disk = small_disk(tmp_path / "disk", 40 * KIB)
    (disk / "tree").mkdir()
    with pytest.raises(AnswerNo, match="no space left to unpack") as refusal:
        unpack_archive(archive, disk / "tree", Limits())
    assert refusal.value.problems[0].code == "disk-full"
    free = os.statvfs(disk)
    assert free.f_bavail * free.f_frsize > 14 * 1024 * KIB
