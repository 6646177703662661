"""Nothing that an archive says is trusted; what was packed comes out as it went in."""

from __future__ import annotations

import os
import shutil
import subprocess
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests import archives
from tests.laws import examples
from yellow_ladder.demo.build import build_releases
from yellow_ladder.errors import BadInput, LadderError
from yellow_ladder.files.archives.read import Inside, safe_path
from yellow_ladder.files.archives.unpack import Limits, read_contents, unpack_archive
from yellow_ladder.files.archives.write import TreeSource, write_archive
from yellow_ladder.files.listing import from_lines, to_lines
from yellow_ladder.files.manifest import compare_manifests, keep_all, take_manifest
from yellow_ladder.release.source import read_source

WRITE: dict[str, Literal["w:gz", "w:xz", "w:"]] = {".tar.gz": "w:gz", ".tar.xz": "w:xz", ".tar": "w:"}
LIMITS = Limits(4096, announced=True)


@pytest.mark.parametrize("what", archives.HOSTILE)
@pytest.mark.parametrize("work", ["unpack", "list"])
def test_a_hostile_archive_is_refused_and_writes_nothing_outside(what: str, work: str, tmp_path: Path) -> None:
    archive = archives.write(tmp_path / "release.tar.zst", *archives.HOSTILE[what])
    inner = tmp_path / "deep" / "target"
    inner.mkdir(parents=True)
    before = {path for path in tmp_path.rglob("*") if inner not in path.parents}
    if work == "list" and what.startswith("hard link to nothing"):
        return  # listing follows no link
    works: dict[str, Callable[[], object]] = {
        "unpack": lambda: unpack_archive(archive, inner, LIMITS, Inside("")),
        "list": lambda: read_contents(archive, LIMITS, Inside("")),
    }
    with pytest.raises(BadInput) as refusal:
        works[work]()
    assert refusal.value.problems[0].code == "archive-refused"
    assert {path for path in tmp_path.rglob("*") if inner not in path.parents} == before
    assert not Path("/etc/quaybook-was-here").exists()


def test_unpacking_goes_on_where_it_was_killed_between_two_names(tmp_path: Path) -> None:
    """A tree whose only top folder had been moved aside, and not yet into its place, is in nobody's way."""
    source = tmp_path / "source" / "quaybook-2.5"
    source.mkdir(parents=True)
    (source / "VERSION").write_text("2.5")
    packed = tmp_path / "release.tar.gz"
    with tarfile.open(packed, "w:gz") as archive:
        archive.add(source, "quaybook-2.5")
    left = tmp_path / "tree.lifted" / "half"
    left.mkdir(parents=True)
    (tmp_path / "tree").mkdir()
    unpack_archive(packed, tmp_path / "tree", Limits(), Inside("quaybook-2.5"))
    assert (tmp_path / "tree" / "VERSION").read_text() == "2.5"
    assert not left.parent.exists()


@pytest.mark.parametrize("damage", archives.DAMAGE)
@pytest.mark.parametrize("ending", [".tar.zst", ".tar.gz", ".tar.xz", ".tar"])
def test_a_damaged_archive_is_never_taken_for_whole(
    damage: Callable[[Path], None], ending: str, tmp_path: Path
) -> None:
    source = tmp_path / "tree"
    source.mkdir()
    for number in range(20):
        (source / f"file{number}").write_bytes(os.urandom(3000))
    archive = tmp_path / f"release{ending}"
    if ending == ".tar.zst":
        write_archive(archive, [TreeSource("top", source, keep_all)])
    else:
        with tarfile.open(archive, WRITE[ending]) as writer:
            writer.add(source, "top")
    want = take_manifest(source)
    if damage is archives.cut and ending == ".tar":
        damage = archives.cut_in_half  # the end of a plain tar is padding
    damage(archive)
    target = tmp_path / "target"
    target.mkdir()
    code = ""
    try:
        unpack_archive(archive, target, Limits())
    except LadderError as refusal:
        code = refusal.problems[0].code
    assert code in ("archive-damaged", "archive-refused", "")
    if not code:
        # Formats without a checksum cannot see a flipped bit of content: published digests are for that.
        assert damage is archives.flip
        assert ending == ".tar"
        assert compare_manifests(want, take_manifest(target))


names = st.text(
    st.characters(exclude_characters="/\0", categories=("L", "N", "P", "S", "Z", "Cc")),
    min_size=1,
    max_size=20,
)
plain = names.filter(lambda name: name not in (".", ".."))


@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    tree=st.dictionaries(st.tuples(plain, plain), st.binary(max_size=2000), max_size=8),
    times=st.integers(-(2**60), 2**60),
)
def test_any_tree_comes_out_of_an_archive_as_it_went_in(
    tree: dict[tuple[str, str], bytes], times: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("tree")
    source = folder / "source"
    source.mkdir()
    for (first, second), content in tree.items():
        (source / first).mkdir(exist_ok=True)
        (source / first / second).write_bytes(content)
        os.utime(source / first / second, ns=(times, times))
    (source / "link").symlink_to("nowhere") if not (source / "link").exists() else None
    archived = write_archive(folder / "a.tar.zst", [TreeSource("t", source, keep_all)])
    target = folder / "target"
    target.mkdir()
    unpack_archive(folder / "a.tar.zst", target, Limits(), Inside("t"))
    found = take_manifest(target)
    assert {p: (e.kind, e.digest, e.target) for p, e in found.items()} == {
        p: (e.kind, e.digest, e.target) for p, e in archived.trees["t"].items()
    }
    plain_tar = folder / "by tar"
    plain_tar.mkdir()
    command = f"zstd -dcq '{folder}/a.tar.zst' | tar -x -C '{plain_tar}' --strip-components=1"
    subprocess.run(["sh", "-c", command], check=True)
    assert compare_manifests(archived.trees["t"], take_manifest(plain_tar)) == []
    for path, entry in archived.trees["t"].items():
        if entry.kind == "file":
            assert (plain_tar / path).stat().st_mtime_ns == entry.modified_ns
    assert from_lines(to_lines(found.values())) == list(found.values())


@given(st.text(min_size=1, max_size=30))
def test_a_safe_path_never_leaves_its_folder(name: str) -> None:
    try:
        path = safe_path(Path("x.tar"), name)
    except BadInput:
        return
    assert not Path(path).is_absolute()
    assert ".." not in path.split("/")


def test_hard_links_stay_one_file(tmp_path: Path) -> None:
    source, target = tmp_path / "source", tmp_path / "target"
    source.mkdir()
    target.mkdir()
    (source / "a").write_text("one")
    (source / "b").hardlink_to(source / "a")
    write_archive(tmp_path / "a.tar.zst", [TreeSource("t", source, keep_all)])
    subprocess.run(["sh", "-c", f"zstd -dcq {tmp_path}/a.tar.zst | tar -x -C {target}"], check=True)
    assert (target / "t/a").stat().st_ino == (target / "t/b").stat().st_ino


def test_packing_the_same_tree_gives_the_same_bytes(tmp_path: Path) -> None:
    first = build_releases(tmp_path / "one")
    second = build_releases(tmp_path / "two")
    assert [one.sha256 for one in first] == [two.sha256 for two in second]
    for packed in first:
        contents = tmp_path / packed.archive.name
        contents.mkdir()
        done = unpack_archive(packed.archive, contents, Limits(packed.unpacked_bytes, announced=True))
        assert done.written_bytes == packed.unpacked_bytes
    subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=tmp_path / "one", check=True)


def repack_without_sheet(archive: Path, target: Path, tree: Path) -> str:
    """Make of a release what a vendor would publish who has never heard of sheets; returns the sheet's text."""
    unpack_archive(archive, tree, Limits())
    sheet = (tree / "release.toml").read_text()
    (tree / "release.toml").unlink()
    with tarfile.open(target, "w:gz") as writer:
        writer.add(tree, "vendor-name-1.0")
    archive.unlink()
    shutil.rmtree(tree)
    return sheet.replace("unpacked_bytes", 'top = "vendor-name-1.0"\nunpacked_bytes')


def zipped(target: Path, tree: Path, top: str) -> None:
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(tree.rglob("*")):
            name = f"{top}/{path.relative_to(tree)}"
            if path.is_symlink():
                link = zipfile.ZipInfo(name)
                link.external_attr = 0o120777 << 16
                archive.writestr(link, os.readlink(path))
            else:
                archive.write(path, name)


def test_a_zip_archive_comes_out_as_it_went_in(tmp_path: Path) -> None:
    tree, out = tmp_path / "tree", tmp_path / "out"
    (tree / "bin").mkdir(parents=True)
    (tree / "bin" / "run").write_text("#!/bin/sh\n")
    (tree / "bin" / "run").chmod(0o755)
    (tree / "link").symlink_to("bin/run")
    zipped(tmp_path / "release.zip", tree, "vendor-1.0")
    out.mkdir()
    unpacked = unpack_archive(tmp_path / "release.zip", out, LIMITS)
    assert unpacked.digests.keys() == {"bin/run"}
    assert {name: one.what for name, one in read_contents(tmp_path / "release.zip", LIMITS).items()} == {
        "bin/run": unpacked.digests["bin/run"], "link": "link:bin/run",
    }  # fmt: skip
    expected, found = take_manifest(tree), take_manifest(out)
    assert [one for one in compare_manifests(expected, found) if one.path != "bin"] == []


def hostile_zip(path: Path, name: str, content: bytes = b"x", mode: int = 0o100644) -> Path:
    with zipfile.ZipFile(path, "w") as archive:
        info = zipfile.ZipInfo(name)
        info.external_attr = mode << 16
        archive.writestr(info, content)
    return path


@pytest.mark.parametrize(
    ("name", "content", "mode"),
    [
        ("../outside", b"x", 0o100644),
        ("/etc/quaybook-was-here", b"x", 0o100644),
        ("link", b"/etc", 0o120777),
        ("device", b"", 0o020644),
        ("large", bytes(10_000), 0o100644),
    ],
)
def test_a_hostile_zip_is_refused(name: str, content: bytes, mode: int, tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    archive = hostile_zip(tmp_path / "release.zip", name, content, mode)
    with pytest.raises(BadInput) as refused:
        unpack_archive(archive, tmp_path / "out", LIMITS)
    assert refused.value.problems[0].code == "archive-refused"


def test_a_damaged_or_locked_zip_is_never_taken_for_whole(tmp_path: Path) -> None:
    (tmp_path / "out").mkdir()
    archive = hostile_zip(tmp_path / "release.zip", "file", b"abcdef" * 100)
    raw = bytearray(archive.read_bytes())
    raw[60] ^= 1
    archive.write_bytes(raw)
    with pytest.raises(BadInput) as refused:
        unpack_archive(archive, tmp_path / "out", LIMITS)
    assert refused.value.problems[0].code == "archive-damaged"
    archive.write_bytes(raw[:80])
    with pytest.raises(BadInput):
        read_contents(archive, LIMITS)


def test_nothing_in_a_source_is_passed_over_without_a_word(tmp_path: Path) -> None:
    build_releases(tmp_path)
    (tmp_path / "quaybook-9.0.7z").write_bytes(b"7z")
    (tmp_path / "quaybook-9.1.release.toml").write_text(
        'format = 1\n[release]\nproduct = "quaybook"\nversion = "9.1"\n'
    )
    (tmp_path / "quaybook-9.2.zip").write_bytes(b"no zip at all")
    problems = {one.code: one for one in read_source(tmp_path, "quaybook").problems}
    assert "yl pack" in problems["archive-unread"].remedy
    assert "quaybook-9.1.release.toml" in problems["no-archive"].message
    assert "quaybook-9.2.zip" in problems["archive-damaged"].message
