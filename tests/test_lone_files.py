"""A release may be one file: a program, or what a runtime reads. It is held against its digest, and takes its place."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

import pytest

from tests.conftest import run_program
from yellow_ladder.release.source import is_lone_file, read_source

SITE = """format = 1
name = "berths"
product = "quaybook"
root = "app"
placement = "{placement}"
[releases]
source = "releases"
[[versions]]
of = "disk"
command = ["/bin/sh", "{{root}}/bin/{becomes}"]
[keep]
data = ["data"]
"""


def program(version: str) -> str:
    return f"#!/bin/sh\necho {version}\n"


@pytest.fixture(params=["quaybook-{}-linux-amd64", "quaybook-{}.jar"])
def name(request: pytest.FixtureRequest) -> str:
    return str(request.param)


@pytest.fixture(params=["exchange", "overlay"])
def site(name: str, tmp_path: Path, request: pytest.FixtureRequest) -> Path:
    becomes = "quaybook.jar" if name.endswith("jar") else "quaybook"
    (tmp_path / "releases").mkdir()
    (tmp_path / "app" / "bin").mkdir(parents=True)
    (tmp_path / "app" / "data").mkdir()
    (tmp_path / "app" / "data" / "plan").write_text("ours")
    installed = tmp_path / "app" / "bin" / becomes
    installed.write_text(program("2.4"))
    installed.chmod(0o644 if name.endswith("jar") else 0o755)
    for version in ("2.4", "2.6"):
        (tmp_path / "releases" / name.format(version)).write_text(program(version))
    (tmp_path / "ladder.toml").write_text(SITE.format(placement=request.param, becomes=becomes))
    return tmp_path


def test_it_is_told_drafted_and_takes_its_place(site: Path, name: str) -> None:
    told = " ".join(run_program("check", folder=site).out.split())
    assert f"`yl sheet {name.format('2.6')}`" in told, "nothing in a source is passed over without a word"
    made = run_program("sheet", folder=site)
    assert made.code == 0, made.err
    sheet = site / "releases" / f"{name.format('2.6')}.release.toml"
    assert f'becomes = "bin/{"quaybook.jar" if name.endswith("jar") else "quaybook"}"' in sheet.read_text()
    before = {path: (path.read_bytes(), path.stat().st_mode) for path in (site / "app").rglob("*") if path.is_file()}
    up = run_program("climb", "--yes", folder=site)
    assert up.code == 0, up.out + up.err
    for path, (raw, mode) in before.items():
        assert path.read_bytes() == (raw if path.name == "plan" else program("2.6").encode())
        assert path.stat().st_mode == mode
    assert run_program("verify", folder=site).code == 0
    down = run_program("descend", "--yes", folder=site)
    assert down.code == 0, down.out + down.err
    assert {path: (path.read_bytes(), path.stat().st_mode) for path in before} == before


def test_another_file_than_the_published_one_is_refused(site: Path, name: str) -> None:
    assert run_program("sheet", folder=site).code == 0
    file = name.format("2.6")
    digest = hashlib.sha256(b"what was published").hexdigest()
    (site / "releases" / "SHA256SUMS").write_text(f"{digest}  {file}\n")
    told = run_program("check", folder=site)
    assert told.code == 1
    assert file in told.out
    assert run_program("climb", "--yes", folder=site).code != 0
    (site / "releases" / file).unlink()
    assert f"is of the file {file}, which is not beside it" in " ".join(run_program("check", folder=site).out.split())


def test_an_index_may_list_it(site: Path, name: str) -> None:
    assert run_program("sheet", folder=site).code == 0
    assert run_program("pack", "--index", "--into", str(site / "releases"), folder=site).code == 0
    listed = json.loads((site / "releases" / "releases.json").read_bytes())["releases"]
    assert [one["archive"] for one in listed] == [name.format("2.4"), name.format("2.6")]
    assert all(one["sheet"]["archive"]["becomes"] for one in listed)
    found = read_source(site / "releases", "quaybook").found
    assert [one.archive.name for one in found] == [name.format("2.4"), name.format("2.6")]


@pytest.mark.parametrize("other", ["SHA256SUMS", "notes-3.0.txt", "quaybook-3.0.tar.gz", "quaybook-3.0.tar.gz.asc"])
def test_what_lies_beside_releases_is_none(other: str) -> None:
    assert not is_lone_file(other)


def test_a_file_is_no_archive_and_no_build_at_once(site: Path, name: str) -> None:
    assert run_program("sheet", folder=site).code == 0
    sheet = site / "releases" / f"{name.format('2.6')}.release.toml"
    sheet.write_text(sheet.read_text().replace("becomes =", 'top = "a"\nbecomes ='))
    assert "`top` and `build` are for others" in " ".join(run_program("check", folder=site).out.split())
