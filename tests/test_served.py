"""`yl init` finds who serves an application to its users, and tells how such a one is shut."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest

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
