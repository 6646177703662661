"""What a backup restores is equal, however odd the tree: names, links, holes, times, rights; also through a chain."""

from __future__ import annotations

import os
import shutil
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from tests.conftest import Demo, MakeDemo
from tests.laws import examples
from yellow_ladder.backup.catalog import Backup, Ground, list_backups
from yellow_ladder.backup.make import check_backup, make_backup
from yellow_ladder.backup.restore import restore_aside, restore_files
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo
from yellow_ladder.events import silent
from yellow_ladder.files.attributes import read_attributes
from yellow_ladder.files.entry import Entry, changed
from yellow_ladder.files.manifest import take_manifest

NAMES = st.sampled_from([
    b"plain", "Käthe ⚓".encode(), b"new\nline", b"\xff\xfe no utf-8", b"-rf", b" space ", b"a" * 255,
    b"GNUSparseFile.0", b"quote'\"", b"back\\slash", b"%s", b"\x01", "é".encode(), "é".encode(), b"con", b"*",
])  # fmt: skip
CONTENTS = st.one_of(
    st.binary(max_size=2_000),
    st.just(b""),
    st.tuples(st.integers(0, 3), st.integers(1, 3), st.binary(min_size=1, max_size=50)),  # holes, then data
    st.integers(1, 5).map(lambda mib: mib * 1024 * 1024),  # nothing but a hole
)
TIMES = st.sampled_from([-1_500_000_001, 0, 1, 999_999_999, 1_700_000_000_123_456_789, 4_102_444_800_000_000_001])
NODES = st.one_of(
    st.tuples(st.just("file"), CONTENTS, st.sampled_from([0o000, 0o400, 0o644, 0o4755, 0o1777]), TIMES),
    st.tuples(st.just("folder"), st.none(), st.sampled_from([0o500, 0o755, 0o2770, 0o1777]), TIMES),
    st.tuples(
        st.just("link"), st.sampled_from([b"plain", b"../..", b"/nowhere/at all", b".", b"\xff"]), st.none(), TIMES
    ),
    st.tuples(st.just("hard"), st.none(), st.none(), TIMES),
)
TREES = st.dictionaries(st.lists(NAMES, min_size=1, max_size=4).map(tuple), NODES, max_size=8)

# A file that a link has led out of the folder, with a second name in it.
ONE_NAME_ELSEWHERE: dict[tuple[bytes, ...], tuple[str, object, int | None, int]] = {
    (b"plain",): ("link", b"../..", None, 0),
    (b"plain", b"led out"): ("file", b"content", 0o644, 1),
    (b"second name",): ("hard", None, None, 1),
}


def build(top: bytes, tree: dict[tuple[bytes, ...], tuple[str, object, int | None, int]]) -> None:
    """Make the tree; what cannot be (a file below a file) is left out. Rights and times come last."""
    made: list[tuple[bytes, int | None, int]] = []
    files: list[bytes] = []
    for names, (kind, what, mode, time_ns) in sorted(tree.items()):
        path = os.path.join(top, *names)
        try:
            os.makedirs(os.path.dirname(path), exist_ok=True)
            if kind == "folder":
                os.mkdir(path)
            elif kind == "link":
                os.symlink(what, path)  # type: ignore[arg-type]
            elif kind == "hard":
                os.link(files[-1], path)
            else:
                write(path, what)
                files.append(path)
        except (FileExistsError, NotADirectoryError, IndexError, OSError):
            continue
        made.append((path, mode, time_ns))
    for path, mode, time_ns in reversed(made):
        if mode is not None and not os.path.islink(path):
            os.chmod(path, mode)
        os.utime(path, ns=(time_ns, time_ns), follow_symlinks=False)


def write(path: bytes, what: object) -> None:
    with open(path, "xb") as stream:
        if isinstance(what, bytes):
            stream.write(what)
        elif isinstance(what, int):
            stream.truncate(what)
        elif isinstance(what, tuple):
            before, after, content = what
            stream.seek(before * 1024 * 1024)
            stream.write(content)
            stream.truncate(before * 1024 * 1024 + len(content) + after * 1024 * 1024)


def picture(root: Path) -> dict[str, Entry]:
    """Everything of a tree that must come back, but for what the machine gives: inode and change time."""
    return {
        path: changed(entry, inode=0, changed_ns=0, attributes=read_attributes(root / path))
        for path, entry in take_manifest(root).items()
    }


def restored(backup: Backup, into: Path) -> dict[str, Entry]:
    restore_aside(backup, into)
    # By itself, as the original is looked at: a link may have led one of the names out of it.
    return picture(into / "root" / "uploads")


@pytest.fixture
def emptied(make_demo: MakeDemo) -> Demo:
    """A site whose uploads are the tests' to fill."""
    demo = make_demo(start=False, rows=10)
    clear(demo)
    return demo


def clear(demo: Demo) -> None:
    for path in (demo.root / "uploads").iterdir():
        subprocess.run(["rm", "-rf", "--", path], check=True)


@settings(
    max_examples=25 if os.environ.get("YELLOW_LADDER_SWEEP") else 12,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(first=TREES, second=TREES)
@example(first={}, second=ONE_NAME_ELSEWHERE)
def test_whatever_is_restored_is_equal(first, second, emptied: Demo) -> None:  # type: ignore[no-untyped-def]
    clear(emptied)
    uploads = emptied.root / "uploads"
    site = emptied.site()
    shutil.rmtree(site.state.backups, ignore_errors=True)
    subprocess.run(["rm", "-rf", emptied.folder / "into-1", emptied.folder / "into-2"], check=True)
    site.state.ensure()
    build(os.fsencode(uploads / "1"), first)
    full = make_backup(site, "2.4", utc_now(), silent)
    before = picture(uploads)
    assert restored(full, emptied.folder / "into-1") == before
    build(os.fsencode(uploads / "2"), second)
    later = make_backup(site, "2.4", utc_now(), silent, full)
    after = picture(uploads)
    assert restored(later, emptied.folder / "into-2") == after
    assert check_backup(later.path).bases == [full.name]


def test_holes_take_no_room_in_the_archive_and_come_back_with_the_usual_tar(idle: Demo, tmp_path: Path) -> None:
    path = idle.root / "uploads" / "image.raw"
    with path.open("wb") as stream:
        stream.seek(300 * 1024**2)
        stream.write(b"the end")
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    assert backup.archive.stat().st_size < 2 * 1024**2
    command = f"zstd -dc '{backup.archive}' | tar -xpf - -C '{tmp_path}' root/uploads/image.raw"
    subprocess.run(["sh", "-c", command], check=True)
    restore_aside(backup, tmp_path / "ours")
    for found in (tmp_path / "root", tmp_path / "ours" / "root"):
        copy = found / "uploads" / "image.raw"
        assert copy.stat().st_size == path.stat().st_size
        assert copy.stat().st_blocks * 512 < 1024**2
        assert subprocess.run(["cmp", copy, path], check=False).returncode == 0


def test_a_chain_stores_only_what_changed_and_needs_what_it_builds_upon(idle: Demo) -> None:
    big = idle.root / "uploads" / "big.raw"
    big.write_bytes(os.urandom(3_000_000))
    old = idle.root / "uploads" / "old.txt"
    old.write_text("as it was")
    for path in (idle.root / "uploads").rglob("*"):
        os.utime(path, ns=(1, 1), follow_symlinks=False)
    time.sleep(2.1)  # what changed just before is stored again, to be sure
    first = idle.json("backup", "make")
    old.write_text("as it is")
    (idle.root / "uploads" / "new.txt").write_text("new")
    second = idle.json("backup", "make", "--since", "last")
    third = idle.json("backup", "make", "--since", second["path"].rsplit("/", 1)[-1])
    sizes = [Path(one["path"], "files.tar.zst").stat().st_size for one in (first, second, third)]
    assert sizes[0] > 3_000_000
    assert max(sizes[1:]) < 100_000
    answer = idle.yl("backup", "restore", third["path"].rsplit("/", 1)[-1], "--into", "there")
    assert answer.code == 0, answer
    uploads = idle.folder / "there" / "root" / "uploads"
    assert (uploads / "old.txt").read_text() == "as it is"
    assert (uploads / "big.raw").read_bytes() == big.read_bytes()
    archive = Path(first["path"], "files.tar.zst")
    content = bytearray(archive.read_bytes())
    content[len(content) // 2] ^= 1
    archive.write_bytes(content)
    answer = idle.yl("backup", "test", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-damaged")
    assert str(archive) in answer.problems[0]["message"]
    assert idle.yl("backup", "restore", "--into", "elsewhere").code == 1
    shutil.rmtree(first["path"])
    answer = idle.yl("backup", "test", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-incomplete")


def test_large_data_are_copied_before_the_window_and_only_differences_in_it(demo: Demo) -> None:
    demo.edit("[maintenance]", '[backup]\nfirst_copy = "always"\n\n[maintenance]')
    (demo.root / "uploads" / "big.raw").write_bytes(os.urandom(2_000_000))
    before = picture(demo.root / "uploads")
    time.sleep(2.1)
    demo.json("climb", "--to", "4.0", "--yes")
    (backup,) = list_backups(demo.site().state.backups)
    assert backup.parts == ("files-first", "files")
    assert (backup.path / "files-first.tar.zst").stat().st_size > 2_000_000
    assert backup.archive.stat().st_size < 100_000
    assert check_backup(backup.path).name == backup.name
    assert restored(backup, demo.folder / "there") == before
    (demo.root / "uploads" / "big.raw").write_bytes(b"spoilt")
    demo.json("descend", "--yes")
    assert picture(demo.root / "uploads") == before


def test_a_first_copy_with_a_flipped_bit_is_found(demo: Demo) -> None:
    demo.edit("[maintenance]", '[backup]\nfirst_copy = "always"\n\n[maintenance]')
    demo.json("climb", "--to", "4.0", "--yes")
    (backup,) = list_backups(demo.site().state.backups)
    archive = backup.path / "files-first.tar.zst"
    content = bytearray(archive.read_bytes())
    content[-20] ^= 1
    archive.write_bytes(content)
    with pytest.raises(AnswerNo, match="files-first"):
        check_backup(backup.path)
    assert demo.yl("descend", "--yes").code == 1
    assert (demo.root / "VERSION").read_text().strip() == "4.0"


@pytest.fixture
def with_outside(emptied: Demo, tmp_path: Path) -> tuple[Demo, Path]:
    """A site whose uploads and whose folder outside root are the tests' to fill."""
    emptied.edit("[keep]\n", f'[keep]\noutside = ["{tmp_path / "outside"}"]\n')
    return emptied, tmp_path / "outside"


@settings(max_examples=examples(20), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(inside=TREES, outside=TREES, other=TREES)
def test_whatever_stands_there_by_then_is_put_right(inside, outside, other, with_outside) -> None:  # type: ignore[no-untyped-def]
    demo, folder = with_outside
    uploads = demo.root / "uploads"
    clear(demo)
    subprocess.run(["rm", "-rf", "--", folder], check=True)
    folder.mkdir()
    site = demo.site()
    shutil.rmtree(site.state.backups, ignore_errors=True)
    site.state.ensure()
    build(os.fsencode(uploads), inside)
    build(os.fsencode(folder), outside)
    backup = make_backup(site, "2.4", utc_now(), silent)
    before, before_outside = picture(uploads), picture(folder)
    for place in (uploads, folder):
        for path in sorted(place.iterdir(), key=os.fsencode)[::2]:
            subprocess.run(["rm", "-rf", "--", path], check=True)
        build(os.fsencode(place), other)
    restore_files(backup, Ground(demo.root), site.skipped())
    assert picture(uploads) == before
    # Outside root, what is new there is somebody else's and stays.
    assert {path: entry for path, entry in picture(folder).items() if path in before_outside} == before_outside
