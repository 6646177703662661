"""An archive is held against its list entry by entry; headers are what others write; names of one file stay so."""

from __future__ import annotations

import hashlib
import io
import os
import stat
import subprocess
import tarfile
from pathlib import Path
from typing import Any

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Demo
from yellow_ladder.backup.catalog import SUMS_NAME, Ground
from yellow_ladder.backup.make import check_backup, make_backup
from yellow_ladder.backup.reading import hold_archive
from yellow_ladder.backup.restore import restore_aside, restore_files
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo
from yellow_ladder.events import silent
from yellow_ladder.files.archives.members import (
    BLOCK,
    info_bytes,
    member_header,
    member_info,
    plain_length,
    plain_name,
    plain_size,
)
from yellow_ladder.files.archives.write import TreeSource, write_archive
from yellow_ladder.files.entry import Entry, Kind, changed
from yellow_ladder.files.listing import Listing, in_order, write_listing
from yellow_ladder.files.manifest import keep_all

ENTRIES = st.builds(
    Entry,
    path=st.just(""),
    kind=st.sampled_from([Kind.FILE, Kind.FOLDER, Kind.LINK]),
    mode=st.integers(0, 0o7777),
    uid=st.one_of(st.integers(0, 70_000), st.sampled_from([8**7 - 1, 8**7])),
    gid=st.integers(0, 2**31),
    size=st.one_of(st.integers(0, 10**6), st.sampled_from([8**11 - 1, 8**11])),
    modified_ns=st.one_of(st.integers(-(2**60), 2**62), st.sampled_from([0, 10**18 - 1, 10**18, 8**11 * 10**9])),
    target=st.one_of(st.just("somewhere"), st.text("ab/é", min_size=1, max_size=110)),
)
MEMBER_NAMES = st.one_of(
    st.text("abc/-_. é⚓\n\udcff", min_size=1, max_size=30),
    st.integers(95, 300).map(lambda length: ("quay/" * 60)[:length]),
    st.integers(90, 1200).map(lambda length: ("Übersicht/" * 120)[:length]),
)


@given(entry=ENTRIES, name=MEMBER_NAMES)
def test_a_header_is_what_the_standard_library_writes(entry: Entry, name: str) -> None:
    assert member_header(entry, name) == info_bytes(member_info(entry, name))


@given(entry=ENTRIES, name=MEMBER_NAMES)
def test_a_header_that_is_known_says_what_the_standard_library_reads_in_it(entry: Entry, name: str) -> None:
    raw = member_header(entry, name)
    length = plain_length(raw[:BLOCK])
    if length:
        assert length == len(raw)
    if length and (found := plain_name(raw)) is not None:
        read = tarfile.TarFile.open(fileobj=io.BytesIO(raw + bytes(2 * BLOCK)), mode="r|").next()
        assert read is not None
        # No name of an entry ends in a slash; of a long one, the library takes it away.
        assert (found.rstrip("/"), plain_size(raw)) == (read.name.rstrip("/"), read.size)


@pytest.mark.parametrize("kind", [Kind.FILE, Kind.FOLDER, Kind.LINK])
@pytest.mark.parametrize("name", ["root/a", "root/Übersicht", "root/" + "libraries/" * 30 + "index.js"])
@pytest.mark.parametrize("seconds", [0, 499_162_500, 1_700_000_000])
def test_what_an_applications_libraries_are_is_known_without_the_library(kind: Kind, name: str, seconds: int) -> None:
    """Packages give their files the time of some day in 1985, below folders of folders."""
    target = "elsewhere" if kind is Kind.LINK else ""
    raw = member_header(Entry(name, kind, 0o640, 1, 2, 30, seconds * 10**9 + 7, target=target), name)
    assert plain_length(raw[:BLOCK]) == len(raw)
    assert plain_name(raw) == name
    assert plain_size(raw) == (30 if kind is Kind.FILE else 0)


CHANGES: dict[str, tuple[str, dict[str, Any], str]] = {
    "content": ("uploads/note", {"digest": "0" * 64}, "another content"),
    "owner": ("uploads/note", {"uid": 4242}, "owner, mode or time"),
    "mode": ("uploads/folder", {"mode": 0o777}, "owner, mode or time"),
    "time": ("uploads/note", {"modified_ns": 1}, "owner, mode or time"),
    "target": ("uploads/link", {"target": "elsewhere"}, "leads elsewhere"),
    "kind": ("uploads/link", {"kind": Kind.FOLDER}, "something else"),
    "second name": ("uploads/second", {"same_as": "server.py"}, "is linked to another file"),
    "attributes": ("uploads/note", {"attributes": (("user.seal", "AA=="),)}, "other attributes"),
}


@pytest.mark.parametrize("what", [*CHANGES, "too few", "too many"])
def test_an_archive_that_does_not_hold_what_was_listed_is_found(idle: Demo, what: str) -> None:
    """Also where every digest in the backup agrees: what was read and what was stored are two things."""
    uploads = idle.root / "uploads"
    (uploads / "folder").mkdir()
    (uploads / "note").write_text("berth 4")
    (uploads / "link").symlink_to("note")
    (uploads / "second").hardlink_to(uploads / "note")
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    entries = dict(backup.manifest())
    if what == "too few":
        del entries["uploads/folder"]
        expected = "uploads/folder in it is not listed"
    elif what == "too many":
        entries["uploads/other"] = changed(entries["uploads/note"], path="uploads/other")
        expected = "it lacks 1 entries, among them uploads/other"
    else:
        path, change, expected = CHANGES[what]
        entries[path] = changed(entries[path], **change)
    listing = backup.path / "files.jsonl"
    old = hashlib.sha256(listing.read_bytes()).hexdigest()
    write_listing(listing, in_order(entries))
    sums = backup.path / SUMS_NAME
    sums.write_text(sums.read_text().replace(old, hashlib.sha256(listing.read_bytes()).hexdigest()))
    with pytest.raises(AnswerNo, match=expected) as refusal:
        check_backup(backup.path)
    assert refusal.value.problems[0].code == "backup-damaged"


@pytest.mark.parametrize("first", ["the same", "another"])
def test_what_is_stored_twice_hides_nothing_behind_it(idle: Demo, first: str) -> None:
    """A file that was touched while it was archived is stored again at the end."""
    for name in ("a", "b"):
        (idle.root / "uploads" / name).write_text(f"berth {name}")
    backup = make_backup(idle.site(), "2.4", utc_now(), silent)
    again = backup.manifest()["uploads/a"]
    raw = zstandard.ZstdDecompressor().decompressobj().decompress(backup.archive.read_bytes())
    content = b"berth a" if first == "the same" else b"berth 7"
    early = member_header(again, "root/uploads/a") + content + bytes(BLOCK - 7)
    late = member_header(again, "root/uploads/a") + b"berth a" + bytes(BLOCK - 7)
    backup.archive.write_bytes(
        zstandard.compress(early + raw.rstrip(b"\0") + bytes(-len(raw.rstrip(b"\0")) % BLOCK) + late + bytes(2 * BLOCK))
    )
    for name in ("a", "b"):
        (idle.root / "uploads" / name).unlink()
    done = restore_files(backup, Ground(idle.root), idle.site().skipped())
    assert done.written == 2
    assert {name: (idle.root / "uploads" / name).read_text() for name in "ab"} == {"a": "berth a", "b": "berth b"}


def test_files_with_several_names_outside_root_come_back_as_one(idle: Demo, tmp_path: Path) -> None:
    outside = tmp_path / "etc"
    outside.mkdir(mode=0o750)
    (outside / "proxy.conf").write_text("to quaybook")
    (outside / "a second name").hardlink_to(outside / "proxy.conf")
    idle.edit("[keep]\n", f'[keep]\noutside = ["{outside}"]\n')
    site = idle.site()
    site.state.ensure()
    backup = make_backup(site, "2.4", utc_now(), silent)
    subprocess.run(["rm", "-r", outside], check=True)
    restore_files(backup, Ground(idle.root), site.skipped())
    assert (outside / "a second name").read_text() == "to quaybook"
    assert stat.S_IMODE(outside.stat().st_mode) == 0o750
    assert (outside / "a second name").samefile(outside / "proxy.conf")
    restore_aside(backup, tmp_path / "aside")
    aside = tmp_path / "aside" / "outside" / str(outside).lstrip("/")
    assert (aside / "a second name").samefile(aside / "proxy.conf")


def test_single_files_of_one_folder_outside_root_all_come_back(idle: Demo, tmp_path: Path) -> None:
    first, second, third = (tmp_path / name for name in ("a.conf", "b.conf", "c.conf"))
    for path in (first, second, third):
        path.write_text(path.name)
    idle.edit("[keep]\n", f'[keep]\noutside = ["{first}", "{second}", "{third}"]\n')
    site = idle.site()
    site.state.ensure()
    backup = make_backup(site, "2.4", utc_now(), silent)
    rescue = Ground(tmp_path / "kept", tmp_path / "kept outside")
    first.unlink()
    second.unlink()
    second.mkdir()
    (second / "deep").write_text("in its place")
    third.unlink()
    third.symlink_to("elsewhere")
    restore_files(backup, Ground(idle.root), site.skipped(), rescue=rescue)
    assert [path.read_text() for path in (first, second, third)] == ["a.conf", "b.conf", "c.conf"]
    assert not third.is_symlink()
    assert (rescue.at(f"{second}/deep")).read_text() == "in its place"
    second.unlink()
    second.mkdir()  # as after a kill while it was being removed
    restore_files(backup, Ground(idle.root), site.skipped(), rescue=rescue)
    assert second.read_text() == "b.conf"
    assert (rescue.at(f"{second}/deep")).read_text() == "in its place"
    assert os.readlink(rescue.at(str(third))) == "elsewhere"


def test_a_link_in_place_of_a_folder_outside_root_leads_nowhere(idle: Demo, tmp_path: Path) -> None:
    outside, elsewhere = tmp_path / "etc", tmp_path / "elsewhere"
    (outside / "sites" / "quay").mkdir(parents=True)
    (outside / "sites" / "proxy.conf").write_text("to quaybook")
    idle.edit("[keep]\n", f'[keep]\noutside = ["{outside}"]\n')
    site = idle.site()
    site.state.ensure()
    backup = make_backup(site, "2.4", utc_now(), silent)
    (outside / "sites").rename(elsewhere)
    (elsewhere / "proxy.conf").write_text("somebody else's")
    (elsewhere / "quay").rmdir()
    (elsewhere / "quay").write_text("a file of somebody else's")
    (outside / "sites").symlink_to(elsewhere)
    restore_files(backup, Ground(idle.root), site.skipped())
    assert not (outside / "sites").is_symlink()
    assert (outside / "sites" / "proxy.conf").read_text() == "to quaybook"
    assert (outside / "sites" / "quay").is_dir()
    assert (elsewhere / "proxy.conf").read_text() == "somebody else's"
    assert (elsewhere / "quay").read_text() == "a file of somebody else's"


def test_names_of_one_file_become_one_again_and_others_their_own(idle: Demo) -> None:
    uploads = idle.root / "uploads"
    (uploads / "one").write_text("same")
    (uploads / "two").hardlink_to(uploads / "one")
    (uploads / "three").write_text("same")
    (uploads / "four").write_text("other")
    (uploads / "five").hardlink_to(uploads / "four")
    site = idle.site()
    site.state.ensure()
    backup = make_backup(site, "2.4", utc_now(), silent)
    (uploads / "two").unlink()
    (uploads / "two").write_text("same")
    (uploads / "three").unlink()
    (uploads / "three").hardlink_to(uploads / "one")
    (uploads / "0 a name too many").hardlink_to(uploads / "four")
    restore_files(backup, Ground(idle.root), site.skipped())
    assert (uploads / "two").samefile(uploads / "one")
    assert not (uploads / "three").samefile(uploads / "one")
    assert (uploads / "five").samefile(uploads / "four")
    assert (uploads / "four").stat().st_nlink == 2


def test_what_goes_while_the_site_is_being_read_is_left_out(tmp_path: Path) -> None:
    root = tmp_path / "tree"
    for name in ("1-here", "2-goes", "3-stays"):
        (root / "folder" / name).mkdir(parents=True)
        (root / name).write_text(name)

    def goes_meanwhile(path: str) -> bool:
        if path == "1-here":
            (root / "2-goes").unlink()
        if path == "folder/1-here":
            (root / "folder" / "2-goes").rmdir()
        return False

    archive = tmp_path / "a.tar.zst"
    archived = write_archive(archive, [TreeSource("root", root, goes_meanwhile)])
    there = {"1-here", "3-stays", "folder", "folder/1-here", "folder/3-stays"}
    assert archived.trees["root"].keys() == there
    hold_archive(archive, Listing.of(archived.trees["root"].values()))


def test_a_pipe_in_place_of_a_file_keeps_nobody_waiting(tmp_path: Path) -> None:
    root = tmp_path / "tree"
    root.mkdir()
    (root / "file").write_text("content")

    class Swapped(dict[str, Entry]):
        """Known files, asked after a file was looked at and before it is opened."""

        def get(self, path: str, default: Any = None) -> Any:
            (root / path).unlink()
            os.mkfifo(root / path)
            return default

    with pytest.raises(OSError, match="not one any more"):
        write_archive(tmp_path / "a.tar.zst", [TreeSource("root", root, keep_all, Swapped())])
