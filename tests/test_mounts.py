"""Folders of a site that are mounted: their own disk, bound from elsewhere, read-only."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.test_shapes import look
from yellow_ladder.files.mounts import mounts_below

Mount = Callable[..., None]


@pytest.fixture
def mount() -> Iterator[Mount]:
    """Mounts something at a folder for the length of a test."""
    made: list[Path] = []

    def do(where: Path, *words: str) -> None:
        if subprocess.run(["mount", *words, str(where)], capture_output=True, check=False).returncode:
            pytest.skip("this account may not mount file systems")
        made.append(where)

    yield do
    for where in reversed(dict.fromkeys(made)):
        subprocess.run(["umount", "-l", str(where)], check=True)


def on_its_own_disk(folder: Path, mount: Mount) -> None:
    """Let a data folder be a disk of its own, with what is in it."""
    kept, status = folder.with_name("kept-aside"), folder.stat()
    shutil.move(folder, kept)
    folder.mkdir()
    mount(folder, "-t", "tmpfs", "-o", f"mode={status.st_mode & 0o777:o},uid={status.st_uid},gid={status.st_gid}", "x")
    shutil.copytree(kept, folder, dirs_exist_ok=True)
    shutil.rmtree(kept)


def stops(demo: Demo, code: int = 1) -> list[str]:
    found = demo.json("check", "--to", "3.0", code=code)["findings"]
    return [one["saw"] for one in found if one["level"] == "stop"]


@pytest.mark.parametrize("shape", ["shared", "environment"])
def test_a_data_folder_on_its_own_disk_stays_where_the_tree_stays(
    make_demo: MakeDemo, mount: Mount, shape: str
) -> None:
    demo = make_demo(shape=shape)
    on_its_own_disk(demo.root / "uploads", mount)
    before = look(demo.root / "uploads", touched=True)
    assert stops(demo, code=0) == []
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert look(demo.root / "uploads", touched=True) == before
    (demo.root / "uploads" / "later.txt").write_text("written since")
    (demo.root / "uploads" / next(path for path, one in before.items() if one[3])).write_bytes(b"spoilt")
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0, answer
    now = look(demo.root / "uploads")
    assert now == {path: one[:4] for path, one in before.items()}, "what was written since is kept beside the site"
    assert list((demo.folder / ".ladder").rglob("later.txt"))


def test_where_the_tree_is_exchanged_a_mounted_folder_is_told(idle: Demo, mount: Mount) -> None:
    mount(idle.root / "uploads", "-t", "tmpfs", "x")
    assert any("uploads is a mount point and cannot be renamed" in one for one in stops(idle))


@pytest.mark.parametrize("folder", ["etc", "docs"])
def test_nothing_else_of_an_exchanged_tree_may_be_mounted_not_even_from_the_same_disk(
    idle: Demo, mount: Mount, folder: str
) -> None:
    mount(idle.root / folder, "--bind", str(idle.root / folder))
    assert mounts_below(idle.root) == [folder]
    assert any(f"{folder} is mounted inside root" in one for one in stops(idle))


def test_a_mount_inside_of_a_data_folder_goes_with_it(demo: Demo, mount: Mount) -> None:
    inner = demo.root / "uploads" / "old years"
    inner.mkdir()
    mount(inner, "-t", "tmpfs", "x")
    (inner / "1999.txt").write_text("long ago")
    assert mounts_below(demo.root) == ["uploads/old years"]
    assert stops(demo, code=0) == []
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert (inner / "1999.txt").read_text() == "long ago"
    (inner / "1999.txt").write_text("spoilt")
    assert demo.yl("descend", "--yes").code == 0
    assert (inner / "1999.txt").read_text() == "long ago"


@pytest.mark.parametrize("shape", ["shared", "environment"])
@pytest.mark.parametrize("folder", ["etc", "uploads"])
def test_what_is_mounted_read_only_is_told_before_anything_changes(
    make_demo: MakeDemo, mount: Mount, shape: str, folder: str
) -> None:
    demo = make_demo(shape=shape, start=False)
    where = demo.root / folder
    mount(where, "--bind", str(where))
    subprocess.run(["mount", "-o", "remount,bind,ro", str(where)], check=True)
    assert any(f"{where} is mounted read-only" in one for one in stops(demo))
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 1
    assert demo.json("history") == []
