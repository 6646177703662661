"""An application that keeps files alone, and turns its data into another form when a release is first started."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.sites import HEAD, SHEET
from tests.warm import Answer
from yellow_ladder.demo.prepare import free_port

PAGES = b"""
import http.server, pathlib, sys
root = pathlib.Path(__file__).parent
if (root / "VERSION").read_text().strip() == "2.6":
    for name in (root / "data" / "berths.txt").read_text().split():
        place = root / "data" / name
        place.mkdir(exist_ok=True)
        (place / "berth.json").write_text("{}")
class Pages(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(200)
        self.end_headers()
        self.wfile.write((root / "VERSION").read_bytes())
http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[1])), Pages).serve_forever()
"""
SITE = (
    HEAD
    + """[[versions]]
of = "served"
url = "http://127.0.0.1:{port}/"
[keep]
data = ["data"]
[[services]]
name = "web"
kind = "process"
run = ["/usr/bin/env", "python3", "pages.py", "{port}"]
folder = "{{root}}"
pid_file = "web.pid"
ready = {{ url = "http://127.0.0.1:{port}/" }}
"""
)
FIRST_START = '[[migrations]]\nid = "a file for each berth"\n[migrations.by_start]\nurl = "http://127.0.0.1:{}/"\n'


@pytest.fixture
def flat(tmp_path: Path) -> Iterator[Path]:
    """A site that serves, with twelve berths in one file."""
    port = free_port()
    for version in ("2.4", "2.6"):
        sheet = SHEET.format(version) + (FIRST_START.format(port) if version == "2.6" else "")
        parts = [entry("VERSION", content=f"{version}\n".encode()), entry("pages.py", content=PAGES)]
        (tmp_path / "releases").mkdir(exist_ok=True)
        write(tmp_path / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=sheet.encode())
    app = tmp_path / "app"
    (app / "data").mkdir(parents=True)
    (app / "VERSION").write_text("2.4\n")
    (app / "pages.py").write_bytes(PAGES)
    (app / "data" / "berths.txt").write_text("\n".join(f"berth-{number}" for number in range(12)))
    (tmp_path / "ladder.toml").write_text(SITE.format(port=port))
    yield tmp_path
    called(tmp_path, "descend", "--yes")


def called(folder: Path, *words: str) -> Answer:
    return run_program(*words, folder=folder)


def test_a_first_start_may_migrate_where_there_is_no_database(flat: Path) -> None:
    up = called(flat, "climb", "--yes")
    assert up.code == 0, up.out + up.err
    assert "new in the data folder data: 12 files in 12 folders, first data/berth-0/berth.json" in " ".join(
        up.out.split()
    )
    assert json.loads((flat / "app" / "data" / "berth-7" / "berth.json").read_text()) == {}
    down = called(flat, "descend", "--yes")
    assert down.code == 0, down.out + down.err
    assert sorted(path.name for path in (flat / "app" / "data").iterdir()) == ["berths.txt"]


@pytest.mark.parametrize("needs", ['database = "tides"', 'file = "more.sql"'])
def test_a_migration_that_names_a_database_needs_it(flat: Path, needs: str) -> None:
    sheet = SHEET.format("2.6") + FIRST_START.format(1).replace("\n[migrations", f"\n{needs}\n[migrations")
    if "file" in needs:
        sheet = SHEET.format("2.6") + f'[[migrations]]\nid = "more"\n{needs}\n'
        (flat / "releases" / "more.sql").write_text("SELECT 1;\n")
    (flat / "releases" / "quaybook-2.6.release.toml").write_text(sheet)
    told = called(flat, "check", "--to", "2.6")
    name = "main" if "file" in needs else "tides"
    assert f"2.6 migrates the database `{name}`, which the site file does not have" in " ".join(told.out.split())
