"""`yl init` finds who serves an application to its users, and tells how such a one is shut."""

from __future__ import annotations

import http.server
import threading
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.sites import HEAD, SHEET
from yellow_ladder.discovery import discover, site_file_text

SITES = {
    "nginx/sites-enabled/berths": "server {{\n  root {root}/public;\n  location ~ \\.php$ {{\n"
    "    fastcgi_pass unix:/run/php/php8.2-fpm.sock;\n  }}\n}}\n",
    "apache2/sites-enabled/berths.conf": "<VirtualHost *:80>\nDocumentRoot {root}\n</VirtualHost>\n",
    "nginx/conf.d/pool.conf": "server {{ root {root}; fastcgi_pass 127.0.0.1:9042; }}\n",
}


@pytest.fixture
def app(tmp_path: Path) -> Path:
    root = tmp_path / "srv" / "berths"
    (root / "public").mkdir(parents=True)
    (root / "public" / "index.php").write_text("<?php\n")
    (root / "VERSION").write_text("2.4\n")
    pool = tmp_path / "etc" / "php" / "8.2" / "fpm" / "pool.d" / "berths.conf"
    pool.parent.mkdir(parents=True)
    pool.write_text("[berths]\n; listen = /run/other\nlisten = 127.0.0.1:9042\n")
    return root


@pytest.mark.parametrize(
    ("file", "unit"),
    [
        ("nginx/sites-enabled/berths", "php8.2-fpm.service"),
        ("apache2/sites-enabled/berths.conf", "apache2.service"),
        ("nginx/conf.d/pool.conf", "php8.2-fpm.service"),
    ],
)
def test_the_web_server_that_names_it_and_the_pool_that_runs_its_code_are_told(
    file: str, unit: str, app: Path, tmp_path: Path
) -> None:
    etc = tmp_path / "etc"
    (etc / file).parent.mkdir(parents=True, exist_ok=True)
    kept = tmp_path / "etc" / "kept.conf"  # what is enabled is a link
    kept.write_text(SITES[file].format(root=app))
    (etc / file).symlink_to(kept)
    (etc / "nginx" / "sites-enabled").mkdir(parents=True, exist_ok=True)
    (etc / "nginx" / "sites-enabled" / "another").write_text(f"server {{ root {app}-old; }}\n# root {app};\n")
    found = discover(app, [], etc=etc)
    assert [(one.file, one.units) for one in found.served] == [(str(etc / file), (unit,))]
    text, left = site_file_text(found, beside=tmp_path)
    assert f'# unit = "{unit}"' in text
    assert "Closed by a web server" in " ".join(line.lstrip("# ") for line in text.splitlines())
    assert any(f"whether {unit} may be stopped" in one for one in left)
    assert "services" not in tomllib.loads(text), "who else is served by it is not known"


def test_a_web_server_that_only_hands_on_is_no_service_of_the_site(app: Path, tmp_path: Path) -> None:
    site = tmp_path / "etc" / "nginx" / "sites-enabled" / "berths"
    site.parent.mkdir(parents=True)
    site.write_text(f"server {{ root {app}/public; location / {{ proxy_pass http://127.0.0.1:8091; }} }}\n")
    text, _ = site_file_text(found := discover(app, [], etc=tmp_path / "etc"), beside=tmp_path)
    assert [one.units for one in found.served] == [()]
    assert "nginx.service" not in text


class Pages(http.server.BaseHTTPRequestHandler):
    """A web server of others: it serves the version, looks for the flag, and is none of the site's services."""

    folder: Path
    speaks_badly = False

    def do_GET(self) -> None:
        is_closed = (self.folder / "closed").exists()
        self.send_response(503 if is_closed else 200)
        self.end_headers()
        version = (self.folder / "app" / "VERSION").read_text()
        self.wfile.write(b"Fatal error: berths" if version == "2.6" and Pages.speaks_badly else version.encode())

    def log_message(self, *_: object) -> None:
        """Nothing."""


@pytest.fixture
def shared(tmp_path: Path) -> Iterator[Path]:
    Pages.folder, Pages.speaks_badly = tmp_path, False
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Pages)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_port}/"
    (tmp_path / "releases").mkdir()
    for version in ("2.4", "2.6"):
        parts = [entry("VERSION", content=version.encode())]
        write(tmp_path / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=SHEET.format(version).encode())
    (tmp_path / "app").mkdir()
    (tmp_path / "app" / "VERSION").write_text("2.4")
    (tmp_path / "ladder.toml").write_text(
        f'{HEAD}[maintenance]\nflag = "closed"\n[maintenance.closed]\nurl = "{url}"\n'
        f'[[checks]]\nname = "front page"\nurl = "{url}"\ncontains = ["2."]\nwhen = "opened"\n'
    )
    yield tmp_path
    server.shutdown()
    server.server_close()


def test_a_site_that_a_web_server_of_others_serves_is_asked_like_any_other(shared: Path) -> None:
    up = run_program("climb", "--yes", folder=shared)
    assert up.code == 0, up.out + up.err
    assert "flag closed; http://127.0.0.1" in " ".join(up.out.split()), "that it is shut is seen"
    assert run_program("descend", "--yes", folder=shared).code == 0
    Pages.speaks_badly = True
    up = run_program("climb", "--yes", folder=shared)
    assert up.code == 3, up.out + up.err
    assert "front page" in up.err
    assert run_program("descend", "--yes", folder=shared).code == 0
    assert (shared / "app" / "VERSION").read_text() == "2.4"


def test_a_flag_for_which_that_server_does_not_look_ends_the_climb_at_once(shared: Path) -> None:
    text = (shared / "ladder.toml").read_text()
    (shared / "ladder.toml").write_text(text.replace('flag = "closed"', 'flag = "shut"'))
    up = run_program("climb", "--yes", folder=shared)
    assert up.code == 1
    assert (shared / "app" / "VERSION").read_text() == "2.4"
    assert "closes nothing" in up.err or "200" in up.err
