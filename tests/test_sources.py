"""Releases from the network: a real HTTP server, and everything that a bad one can do."""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from http.server import BaseHTTPRequestHandler, SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Demo, MakeDemo, run_program
from tests.test_shapes import look
from yellow_ladder.errors import BadInput
from yellow_ladder.files.archives.unpack import Limits, unpack_archive
from yellow_ladder.release import index as index_module
from yellow_ladder.release.index import bring_here, read_index, write_index
from yellow_ladder.release.sheet import SHEET_NAME
from yellow_ladder.release.versions import Version

Answer = Callable[[BaseHTTPRequestHandler], None]


@contextmanager
def served(handler: Any) -> Iterator[str]:
    """A server on a port of its own for as long as the block lasts; gives its URL."""
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}"
        server.shutdown()


class Quiet(SimpleHTTPRequestHandler):
    """Serves a folder, answers `Range`, and says nothing."""

    asked: list[tuple[str, str]] = []  # noqa: RUF012  each test that reads it begins by emptying it

    def log_message(self, *_: object) -> None:
        pass

    def do_GET(self) -> None:
        wanted = self.headers.get("Range", "")
        Quiet.asked.append((self.path, wanted))
        if not wanted:
            super().do_GET()
            return
        content = (Path(self.directory) / self.path.lstrip("/")).read_bytes()
        low = int(wanted.removeprefix("bytes=").rstrip("-"))
        self.send_response(206)
        self.send_header("Content-Length", str(len(content) - low))
        self.end_headers()
        self.wfile.write(content[low:])


def folder_served(folder: Path) -> Any:
    return served(partial(Quiet, directory=str(folder)))


def answering(answer: Answer) -> Any:
    class One(BaseHTTPRequestHandler):
        def log_message(self, *_: object) -> None:
            pass

        def do_GET(self) -> None:
            answer(self)

    return served(One)


def on_the_network(demo: Demo, url: str) -> Path:
    """Publish the demo's releases, and have the site take them from there."""
    folder = demo.folder / "releases"
    write_index(folder, "quaybook")
    demo.edit('source = "releases"', f'source = "{url}"')
    return folder


def test_a_climb_from_an_index(idle: Demo) -> None:
    with folder_served(idle.folder / "releases") as url:
        on_the_network(idle, url)
        assert [rung["to"] for rung in idle.json("route")["rungs"]] == ["2.6", "3.0", "4.0"]
        assert not (idle.folder / ".ladder/downloads").exists()  # a route needs no archive
        assert idle.json("check")["stops"] == 0
        assert len(list((idle.folder / ".ladder/downloads").iterdir())) == 4
        assert idle.json("survey")["files"]["release_known"]
        Quiet.asked.clear()
        assert idle.json("climb", "--yes")["proof"]["whole"]
        assert [path for path, _ in Quiet.asked if path.endswith(".zst")] == []  # nothing is fetched twice


def test_what_a_release_ships_is_merged_in_though_its_package_had_to_be_fetched(idle: Demo) -> None:
    with folder_served(idle.folder / "releases") as url:
        on_the_network(idle, url)
        assert idle.json("climb", "--to", "3.0", "--yes")["proof"]["whole"]
    assert "language = en-GB" in (idle.root / "config" / "quaybook.ini").read_text()


def test_pack_writes_an_index_that_is_read_again(tmp_path: Path, packed_releases: Path) -> None:
    tree = tmp_path / "tree"
    tree.mkdir()
    shutil.copytree(packed_releases, tmp_path / "out")
    (tree / "release.toml").write_text('format = 1\n[release]\nproduct = "quaybook"\nversion = "4.1"\n')
    answer = run_program("pack", tree, "--into", tmp_path / "out", "--index", folder=tmp_path)
    assert answer.code == 0
    with folder_served(tmp_path / "out") as url:
        found = read_index(url, "quaybook", tmp_path / "downloads")
    assert [str(one.version) for one in found.found] == ["2.4", "2.6", "3.0", "4.0", "4.1"]
    third = found.get(Version("3.0")).sheet
    assert third.settings[0].renamed[0].to == "harbour.name"
    assert third.reach.waypoint is True
    assert third.contract[0].tables[0].columns_renamed == {"price_cents": "total_cents"}


def text_answer(content: bytes, status: int = 200, **headers: str) -> Answer:
    def answer(request: BaseHTTPRequestHandler) -> None:
        request.send_response(status)
        for name, value in headers.items():
            request.send_header(name, value)
        request.end_headers()
        request.wfile.write(content)

    return answer


def endless(request: BaseHTTPRequestHandler) -> None:
    """Two gigabytes, unless somebody stops listening."""
    request.send_response(200)
    request.send_header("Content-Length", str(2 * 1024**3))
    request.end_headers()
    try:
        for _ in range(2048):
            request.wfile.write(b" " * 1024**2)
    except OSError:
        return


def dripping(request: BaseHTTPRequestHandler) -> None:
    request.send_response(200)
    request.end_headers()
    try:
        for _ in range(600):
            request.wfile.write(b" ")
            request.wfile.flush()
            time.sleep(0.05)
    except OSError:
        return


def in_a_circle(request: BaseHTTPRequestHandler) -> None:
    request.send_response(302)
    request.send_header("Location", request.path + "x")
    request.end_headers()


BROKEN: list[tuple[str, Answer, str, str]] = [
    ("no json", text_answer(b"<html>Welcome</html>"), "index-broken", "is not JSON"),
    ("not utf-8", text_answer(b"\xff\xfe{"), "index-broken", "is not JSON"),
    ("nested", text_answer(b"[" * 100_000), "index-broken", "nested too deeply"),
    ("a list", text_answer(b"[]"), "wrong-value", "should be a table"),
    ("no releases", text_answer(b'{"format": 1, "releases": []}'), "source-empty", "has no release of quaybook"),
    ("another format", text_answer(b'{"format": 2, "releases": []}'), "wrong-value", "format"),
    ("not found", text_answer(b"", 404), "source-unreachable", "status 404"),
    ("redirects", in_a_circle, "source-unreachable", "redirects"),
    ("two gigabytes", endless, "index-broken", "larger than 32 MiB"),
]


@pytest.mark.parametrize(("answer", "code", "told"), [one[1:] for one in BROKEN], ids=[one[0] for one in BROKEN])
def test_a_broken_index_is_told_and_blocks_no_other_answer(idle: Demo, answer: Answer, code: str, told: str) -> None:
    with answering(answer) as url:
        idle.edit('source = "releases"', f'source = "{url}"')
        refused = idle.yl("route", "--json")
        assert refused.code == 2
        assert refused.problems[0]["code"] == code
        assert told in refused.problems[0]["message"]
        assert refused.problems[0]["remedy"]
        checked = idle.yl("check", "--json")
        survey = idle.json("survey")
    assert "Traceback" not in refused.err + checked.err
    assert checked.code == 1
    findings = checked.document["result"]["findings"]
    assert [one["check"] for one in findings if told in one["saw"]] == ["route"]
    assert any(one["check"] == "database" and one["level"] == "ok" for one in findings)
    assert survey["version"] == "2.4"
    assert any(told in one for one in survey["findings"])


def test_a_slow_index_comes_to_an_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(index_module, "_INDEX_WITHIN_S", 0.5)
    started = time.monotonic()
    with answering(dripping) as url, pytest.raises(BadInput) as refusal:
        read_index(url, "quaybook", tmp_path)
    assert "did not arrive within" in refusal.value.problems[0].message
    assert time.monotonic() - started < 10


def test_one_broken_release_of_an_index_hides_no_other(tmp_path: Path, packed_releases: Path) -> None:
    shutil.copytree(packed_releases, tmp_path / "out")
    path = write_index(tmp_path / "out", "quaybook")
    document = json.loads(path.read_text())
    document["releases"][1]["sheet"]["release"]["version"] = 3
    document["releases"][2]["archive"] = "../../etc/passwd"
    document["releases"].append("nonsense")
    path.write_text(json.dumps(document))
    with folder_served(tmp_path / "out") as url:
        found = read_index(url, "quaybook", tmp_path / "downloads")
    assert [str(one.version) for one in found.found] == ["2.4", "4.0"]
    assert len(found.problems) == 3


def test_a_fetch_goes_on_where_it_broke_off(tmp_path: Path, packed_releases: Path) -> None:
    shutil.copytree(packed_releases, tmp_path / "out")
    write_index(tmp_path / "out", "quaybook")
    with folder_served(tmp_path / "out") as url:
        release = read_index(url, "quaybook", tmp_path / "downloads").get(Version("3.0"))
        content = (tmp_path / "out" / "quaybook-3.0.tar.zst").read_bytes()
        release.archive.parent.mkdir()
        release.archive.with_name(release.archive.name + ".part").write_bytes(content[:1000])
        Quiet.asked.clear()
        bring_here(release)
        assert Quiet.asked == [("/quaybook-3.0.tar.zst", "bytes=1000-")]
        assert release.archive.read_bytes() == content
        release.archive.unlink()
        release.archive.with_name(release.archive.name + ".part").write_bytes(b"rubbish" * 100)
        bring_here(release)  # what was there did not fit: it is fetched anew, once
        assert release.archive.read_bytes() == content


@pytest.mark.parametrize("damage", ["another", "longer", "shorter"])
def test_an_archive_that_is_not_the_announced_one_is_never_used(
    damage: str, tmp_path: Path, packed_releases: Path
) -> None:
    shutil.copytree(packed_releases, tmp_path / "out")
    write_index(tmp_path / "out", "quaybook")
    archive = tmp_path / "out" / "quaybook-3.0.tar.zst"
    raw = archive.read_bytes()
    archive.write_bytes({"another": b"x" * len(raw), "longer": raw + b"more", "shorter": raw[:-9]}[damage])
    with folder_served(tmp_path / "out") as url:
        release = read_index(url, "quaybook", tmp_path / "downloads").get(Version("3.0"))
        with pytest.raises(BadInput) as refusal:
            bring_here(release)
    assert refusal.value.problems[0].code == "digest-differs"
    assert not release.archive.exists()


def test_an_entry_of_an_index_that_lacks_something_is_named_by_its_place(idle: Demo) -> None:
    folder = idle.folder / "releases"
    write_index(folder, "quaybook")
    index = json.loads((folder / "releases.json").read_text())
    lacking = index["releases"][0]["sheet"]
    del lacking["release"]
    (folder / "releases.json").write_text(json.dumps(index))
    with folder_served(folder) as url:
        idle.edit('source = "releases"', f'source = "{url}"')
        told = [one["saw"] for one in idle.json("check", code=idle.yl("check").code)["findings"]]
        seen = idle.json("survey")["findings"]
    for texts in (told, seen):
        (text,) = [one for one in texts if "the key `release` is missing" in one]
        assert "releases.json: releases[0]" in text


def without_archives(demo: Demo) -> Path:
    """Publish releases as sheets alone: what was in each archive is a file that a command unpacks."""
    folder = demo.folder / "releases"
    for archive in sorted(folder.glob("*.tar.zst")):
        tree = demo.folder / f"tree-{archive.name}"
        tree.mkdir()
        unpack_archive(archive, tree, Limits())
        stem = archive.name.removesuffix(".tar.zst")
        subprocess.run(["tar", "-cf", folder / f"{stem}.payload", "-C", tree, "."], check=True)
        text = (tree / SHEET_NAME).read_text()
        unpack = f'["tar", "-xf", "{{source}}/{stem}.payload", "-C", "{{release}}", "--no-same-owner"]'
        if "[archive.build]" in text:
            files = f'[archive.build]\nfiles = ["{stem}.payload"]\ncommands = [{unpack}, '
            text = text.replace("[archive.build]\ncommands = [", files)
        (folder / f"{stem}.{SHEET_NAME}").write_text(text)
        if "[archive.build]" in text:
            archive.unlink()
    (folder / "SHA256SUMS").unlink()
    return folder


def test_an_index_may_be_of_sheets_alone_and_of_files_beside_them(make_demo: MakeDemo) -> None:
    demo = make_demo(shape="environment")
    before = look(demo.root)
    folder = without_archives(demo)
    sheet = folder / "quaybook-2.6.release.toml"  # of the demonstration's, nobody stays at it
    sheet.write_text(sheet.read_text().replace("passage = true\n", ""))
    answer = run_program("pack", "--index", "--into", folder, "--json", folder=demo.folder)
    assert answer.code == 0, answer
    assert answer.document["result"]["releases"] == 4
    with folder_served(folder) as url:
        demo.edit('source = "releases"', f'source = "{url}"')
        (folder / "quaybook-3.0.payload").write_bytes(b"something else")
        answer = demo.yl("climb", "--to", "3.0", "--yes")
        assert answer.code == 1, answer
        assert "quaybook-3.0.payload is not the file that the index announces" in answer.err
        assert look(demo.root) == before
        assert demo.yl("climb", "--to", "2.6", "--yes").code == 0
        Quiet.asked.clear()
        assert demo.yl("verify").code == 0
        assert demo.yl("descend", "--yes").code == 0
        assert [path for path, _ in Quiet.asked if path.endswith(".payload")] == []
    assert {path for path in look(demo.root) if not path.startswith(("data/", "run/"))} == {
        path for path in before if not path.startswith(("data/", "run/"))
    }


def test_a_file_that_no_sheet_names_is_not_fetched_and_one_with_a_way_out_is_refused(tmp_path: Path) -> None:
    about = {"product": "quaybook", "version": "3.0"}
    sheet = {"format": 1, "release": about, "archive": {"build": {"commands": [["true"]]}}}
    entry = {"archive": "quaybook-3.0.release.toml", "sha256": "0" * 64, "size_bytes": 3, "sheet": sheet}
    extra = {"name": "more.txt", "sha256": "1" * 64, "size_bytes": 5}
    (tmp_path / "releases.json").write_text(json.dumps({"format": 1, "releases": [{**entry, "files": [extra]}]}))
    with folder_served(tmp_path) as url:
        (found,) = read_index(url, "quaybook", tmp_path / "downloads").found
        assert (found.beside, found.has_archive) == ((), False)
        out = {**extra, "name": "../../etc/passwd"}
        (tmp_path / "releases.json").write_text(json.dumps({"format": 1, "releases": [{**entry, "files": [out]}]}))
        with pytest.raises(BadInput) as refused:
            read_index(url, "quaybook", tmp_path / "downloads")
    assert "files[0].name" in str(refused.value.problems)


@pytest.mark.parametrize(
    ("names", "told"), [([], "no release that can be read"), (["quaybook", "lantern"], "lantern, quaybook")]
)
def test_an_index_is_of_one_product(names: list[str], told: str, tmp_path: Path) -> None:
    for name in names:
        text = f'format = 1\n[release]\nproduct = "{name}"\nversion = "1.0"\n[archive.build]\ncommands = [["true"]]\n'
        (tmp_path / f"{name}-1.0.release.toml").write_text(text)
    answer = run_program("pack", "--index", folder=tmp_path)
    assert answer.code == 2
    assert told in answer.err
    assert not (tmp_path / "releases.json").exists()
    assert run_program("pack", folder=tmp_path).code == 2
