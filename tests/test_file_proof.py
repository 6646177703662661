"""What belongs to a file besides its content: access lists, attributes, names and times, held against before."""

from __future__ import annotations

import os
import struct
import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Demo
from tests.test_backup import ACL, LIST
from yellow_ladder.climb.proving.in_short import MOST_LINES, Became, FileFault, data_in_short, in_short
from yellow_ladder.files.attributes import attributes_changed, read_attributes
from yellow_ladder.files.manifest import look_at
from yellow_ladder.files.names import NamesOfOneFile, regrouped
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict

FOR_NEW = "system.posix_acl_default"
# Account 4321 may read; what is made in the folder may have more, which a file's mode narrows.
FOR_NEW_LIST = struct.pack("<I", 2) + b"".join(
    struct.pack("<HHI", tag, bits, who)
    for tag, bits, who in ((1, 7, 2**32 - 1), (2, 5, 4321), (4, 5, 2**32 - 1), (16, 7, 2**32 - 1), (32, 5, 2**32 - 1))
)


def verified(demo: Demo, code: int = 1) -> list[str]:
    """What `yl verify` says of files."""
    result = demo.yl("verify", "--json").document["result"]
    faults = [one for one in result["faults"] if "served probe" not in one]  # nobody serves it
    assert bool(faults) == bool(code), faults
    return [one.removeprefix("file ") for one in (*faults, *result["remarks"], *result["written_since"])]


def test_an_access_list_that_was_changed_is_told_with_both(idle: Demo) -> None:
    place = idle.root / "uploads" / "latest.txt"
    place.write_text("x")
    os.setxattr(place, LIST, ACL)
    idle.json("climb", "--yes")
    assert not [one for one in verified(idle, code=0) if "latest.txt" in one]
    os.removexattr(place, LIST)
    os.setxattr(idle.root / "uploads", "user.signed-by", b"nobody")
    told = verified(idle)
    was = "user::rw-,user:4321:rw-,group::r--,mask::rw-,other::r--"
    assert f"uploads/latest.txt: has another access control list: {was} → none" in told
    assert "uploads: has another attribute user.signed-by: none → 'nobody'" in told


def test_a_list_outside_root_is_held_as_well(idle: Demo, tmp_path: Path) -> None:
    outside = tmp_path / "proxy"
    outside.mkdir()
    (outside / "harbour.conf").write_text("to quaybook\n")
    os.setxattr(outside / "harbour.conf", LIST, ACL)
    idle.edit("[keep]\n", f'[keep]\noutside = ["{outside}"]\n')
    idle.json("climb", "--yes")
    assert not [one for one in verified(idle, code=0) if "harbour.conf" in one]
    os.setxattr(outside / "harbour.conf", LIST, ACL.replace(struct.pack("<I", 4321), struct.pack("<I", 4322)))
    assert any("harbour.conf: has another access control list" in one for one in verified(idle, code=0))


def test_names_of_one_file_stay_names_of_one_file(idle: Demo) -> None:
    uploads = idle.root / "uploads"
    for name in ("a", "b", "c"):
        (uploads / name).write_text("the same")
    os.link(uploads / "a", uploads / "a too")
    os.link(uploads / "b", uploads / "b too")
    os.link(idle.root / "VERSION", uploads / "version")  # of the release, which is replaced: no promise is broken
    idle.json("climb", "--yes")
    assert not [one for one in verified(idle, code=0) if "one file" in one]
    (uploads / "a too").unlink()
    (uploads / "a too").write_text("the same")
    (uploads / "c").unlink()
    os.link(uploads / "b", uploads / "c")
    told = verified(idle, code=0)  # the kernel's own time says that it was done since
    assert "uploads/a too: was one file with uploads/a and is another now" in told
    assert "uploads/c: has become one file with uploads/b" in told


def test_a_time_that_moved_without_the_content_is_told_by_folder(idle: Demo) -> None:
    uploads = idle.root / "uploads"
    (uploads / "deeper").mkdir()
    for name in ("a", "deeper/b"):
        (uploads / name).write_text(name)
        os.utime(uploads / name, (1_600_000_000, 1_600_000_000))
    idle.json("climb", "--yes")
    assert not [one for one in verified(idle, code=0) if "another time" in one]
    for name in ("a", "deeper/b"):
        os.utime(uploads / name, (1_700_000_000, 1_700_000_000))
    (told,) = [one for one in verified(idle, code=0) if "another time" in one]
    assert told == (
        "same content and another time: 2 files in uploads, first uploads/a: "
        "2020-09-13 12:26 UTC → 2023-11-14 22:13 UTC"
    )


def with_command(demo: Demo, script: str, writes: str = "[]") -> None:
    text = (
        f'[[commands]]\nname = "tidy"\nat = "before-start"\nwrites = {writes}\n'
        f'run = ["/bin/sh", "-c", "{script}"]\n\n[maintenance]'
    )
    demo.edit("[maintenance]", text)


@pytest.mark.parametrize(
    ("script", "told"),
    [
        ("cd {root}/log && mv access.log access.log.1 && : > access.log", ""),
        ("cd {root}/log && mv access.log access.log.1", ""),
        ("cd {root}/log && rm access.log", "is missing"),
        ("cd {root}/log && echo > access.log", "has another content"),
    ],
)
def test_a_log_may_be_turned_over_in_a_climb_and_not_be_lost(idle: Demo, script: str, told: str) -> None:
    (idle.root / "log").mkdir()
    (idle.root / "log" / "access.log").write_text("first line\n")
    idle.edit('data = ["data", "uploads"]', 'data = ["data", "uploads"]\nlogs = ["log"]')
    with_command(idle, script)
    answer = idle.yl("climb", "--to", "2.6", "--yes", "--json")
    if told:
        assert answer.code == 1
        assert any(f"file log/access.log: {told}" in one["message"] for one in answer.problems)
    else:
        assert answer.code == 0, answer.out
        remarks = answer.document["result"]["proof"]["remarks"]
        assert [one for one in remarks if one.startswith("log log/access.log: ") and one.endswith("log/access.log.1")]


def test_what_a_command_renames_among_its_own_is_its_own(idle: Demo) -> None:
    (idle.root / "uploads" / "queue").mkdir()
    (idle.root / "uploads" / "queue" / "letter-1").write_text("to be sent")
    (idle.root / "uploads" / "other").write_text("not to be moved")
    script = "cd {root}/uploads && mv queue/letter-1 queue/letter-2"
    with_command(idle, script, '["uploads/queue"]')
    result = idle.json("climb", "--to", "2.6", "--yes")
    assert "written by `tidy`: 1 file" in result["proof"]["remarks"]
    assert idle.yl("descend", "--yes").code == 0
    idle.edit(script, f"{script} && mv other queue/other")
    answer = idle.yl("climb", "--to", "2.6", "--yes")
    assert answer.code == 1
    assert "uploads/other: was renamed to uploads/queue/other" in answer.err


def test_against_a_backup_lists_and_names_are_held_too(idle: Demo) -> None:
    uploads = idle.root / "uploads"
    (uploads / "a").write_text("the same")
    os.link(uploads / "a", uploads / "b")
    os.setxattr(uploads / "a", LIST, ACL)
    name = Path(idle.json("backup", "make")["path"]).name
    assert idle.json("verify", "--against", name)["whole"]
    (uploads / "b").unlink()
    (uploads / "b").write_text("the same")
    (uploads / "b").chmod(0o664)
    faults = idle.json("verify", "--against", name, code=1)["faults"]
    assert [one for one in faults if one.startswith("file uploads/b: has another access control list: user::rw-")]
    assert "file uploads/b: was one file with uploads/a and is another now" in faults


def test_what_is_new_in_a_release_has_the_list_of_its_folder(idle: Demo) -> None:
    os.setxattr(idle.root, FOR_NEW, FOR_NEW_LIST)
    before = {path.relative_to(idle.root) for path in idle.root.rglob("*")}
    idle.json("climb", "--yes")
    new = [one for one in idle.root.iterdir() if one.relative_to(idle.root) not in before]
    assert new
    for path in new:
        beside = idle.root / f"by the kernel {path.name}"
        if path.is_dir():
            beside.mkdir(path.stat().st_mode & 0o777)
        else:
            os.close(os.open(beside, os.O_CREAT | os.O_WRONLY, path.stat().st_mode & 0o777))
        wanted = dict(read_attributes(beside))
        assert LIST in wanted
        assert dict(read_attributes(path)) == wanted


@given(st.lists(st.tuples(st.booleans(), st.integers(0, 3), st.integers(0, 3)), max_size=8))
def test_parted_and_joined_names_are_those_whose_company_changed(
    files: list[tuple[bool, int, int]],
) -> None:
    with tempfile.TemporaryDirectory() as folder:
        _see_two_trees(files, Path(folder))


def _see_two_trees(files: list[tuple[bool, int, int]], folder: Path) -> None:
    trees = []
    for which in (1, 2):
        tree = folder / str(which)
        tree.mkdir()
        groups: dict[int, Path] = {}
        for number, one in enumerate(files):
            path = tree / str(number)
            if not one[0] and one[which] in groups:
                os.link(groups[one[which]], path)
            else:
                path.write_text("")
                groups.setdefault(one[which], path)
        trees.append(tree)
    seen = []
    for tree in trees:
        names = NamesOfOneFile()
        for entry in look_at(tree):
            names.see(entry)
        seen.append(names)
    paths = [str(number) for number in range(len(files))]
    then, now = [{(a, b): (tree / a).samefile(tree / b) for a in paths for b in paths} for tree in trees]
    told = list(regrouped(seen[0], seen[1], lambda _path: True))
    for name, other, were_one in told:
        assert (then[name, other], now[name, other]) == (were_one, not were_one)
    assert bool(told) == (then != now)


def test_many_files_of_a_folder_are_told_as_one_and_each_where_it_is_asked_for(idle: Demo) -> None:
    idle.json("climb", "--yes")
    lib = idle.root / "lib" / "plugins"
    lib.mkdir(parents=True)
    for number in range(40):
        (lib / f"{number:02}.py").write_text(str(number))
    (idle.root / "VERSION").write_text("0\n")
    answer = idle.yl("verify")
    assert answer.code == 1
    told = " ".join(answer.out.split())
    assert "42 files below lib: 42 came; the first is lib: is there" in told
    assert "file VERSION: has another content" in told
    assert "17.py" not in told
    assert "With -v, yl verify names each one" in told
    assert "lib/plugins/17.py: is there" in " ".join(idle.yl("verify", "-v").out.split())
    faults = verified(idle)
    assert len([one for one in faults if one.startswith(("lib", "VERSION"))]) == 43, "the record has every one"


def faults_of(*paths: str, became: Became = Became.CAME) -> list[FileFault]:
    return [FileFault(path, "x", became) for path in paths]


def test_files_are_told_by_the_deepest_folder_that_they_share_and_none_is_left_out() -> None:
    few = faults_of(*(f"a/{number}" for number in range(MOST_LINES)))
    assert in_short(few) == [str(one) for one in few]
    many = [*faults_of(*(f"a/b/c/{number}" for number in range(20))), *faults_of("a/b/d", became=Became.GONE)]
    assert in_short(many) == [
        "20 files below a/b/c: 20 came; the first is a/b/c/0: x",
        "file a/b/d: x",
    ]
    wide = faults_of(*(f"{number}/x" for number in range(20)))
    assert in_short(wide) == ["20 files below root: 20 came; the first is 0/x: x"]


def test_many_definitions_are_told_by_their_number_and_each_table_and_value_by_itself() -> None:
    gone, came = "is gone, and no release declares it", "appeared, and no release declares it"

    def differing(name: str, remark: str, before: int | None = None, after: int | None = None) -> TableVerdict:
        return TableVerdict(name, Verdict.DIFFERS, before, after, 0, (remark,))

    few = [differing(f"index i{number}", gone) for number in range(MOST_LINES)]
    assert data_in_short({"main": few}) == [f"main.{one.table}: {gone}" for one in few]
    tables = [differing(f"t{number:02}", gone, 3) for number in range(20)]
    many = [*tables, differing("berths", came, None, 0), *few, differing("index more", gone)]
    many += [differing(f"trigger g{number}", came) for number in range(13)]
    many += [TableVerdict("a", Verdict.SAME, 1, 1, 1), differing("view v", "is defined otherwise, and no release …: x")]
    assert data_in_short({"main": many}) == [
        *(f"main.{one.table}: {gone}" for one in tables),
        f"main.berths: {came}",
        "main.view v: is defined otherwise, and no release …: x",
        "main: 13 indexes are gone, and no release declares them; the first is i0",
        "main: 13 triggers appeared, and no release declares them; the first is g0",
    ]


def test_attributes_that_are_no_text_are_shown() -> None:
    assert attributes_changed((("user.x", "/w=="),), ()) == ["has another attribute user.x: '\\udcff' → none"]
    assert attributes_changed((("user.\x1b[31m", "eA=="),), ()) == ["has another attribute user.\\x1b[31m: 'x' → none"]
    assert attributes_changed((), ((LIST, "AAAA"),)) == ["has another access control list: none → 000000"]
