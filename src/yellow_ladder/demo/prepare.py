"""Prepares the demonstration site: Quaybook 2.4 installed, with data, uploads, local settings and an add-on."""

from __future__ import annotations

import os
import re
import socket
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yellow_ladder.demo.build import build_releases
from yellow_ladder.demo.data import demo_rows, fill_database
from yellow_ladder.demo.servers import (
    NAME,
    PrivateServer,
    fill_server,
    make_database,
    make_server,
    noted_server,
    remove_server,
)
from yellow_ladder.demo.shapes import ENVIRONMENT_SITE, install_environment, runtime_program, share_with_another
from yellow_ladder.demo.troubles import SITE_FILE_MORE, add_troubles
from yellow_ladder.demo.units import UnitPlace, install_unit
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.archives.unpack import Limits, unpack_archive
from yellow_ladder.services import services_of
from yellow_ladder.site.site import Site, load_site

KEY = bytes(range(7, 39))
MARK_NAME, SERVER_NOTE, PASSWORD_NAME = ".quaybook-demo", ".quaybook-server", "quaybook.password"

_SITE_FILE = """\
# The harbour office's berth-booking server. Every key is explained in docs/site-file.md.
format = 1
name = "harbour"
product = "quaybook"
root = "quaybook"

[releases]
source = "releases"
digests = "required"

[[versions]]
of = "disk"
file = "VERSION"

[[versions]]
of = "served"
url = "http://127.0.0.1:{port}/about.json"
pointer = "/version"

[[versions]]
of = "schema"
query = "SELECT value FROM meta WHERE name = 'schema'"

[[databases]]
url = "{url}"
{password}volatile = ["logins"] # written at every start

[keep]
settings = [{{ file = "etc/quaybook.ini" }}]
data = ["data", "uploads"]
assets = ["static/logo.svg"]
addons = ["addons"]
keys = ["etc/secret.key"]

[[services]]
name = "web"
kind = "process"
run = ["{python}", {flags}, "-c", "import sys; sys.path[0:0] = ['.']; import server; server.main()"]
{environment}ports = [{port}]
pid_file = "run/web.pid"
log = "run/web.log"
ready = {{ url = "http://127.0.0.1:{port}/about.json", within_s = 20 }}

[maintenance]
flag = "quaybook/data/closed"
closed = {{ url = "http://127.0.0.1:{port}/" }}
message = "The harbour office is moving to a newer Quaybook and is back shortly."
"""


@dataclass(frozen=True, slots=True)
class DemoSite:
    """A prepared site."""

    folder: Path
    file: Path
    port: int
    server: PrivateServer | None = None

    @property
    def url(self) -> str:
        """Where it serves."""
        return f"http://127.0.0.1:{self.port}/"

    def load(self) -> Site:
        """The site, read from its file."""
        return load_site(self.file)


def free_port() -> int:
    """A port that nobody listens on just now."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


@dataclass(frozen=True, slots=True)
class Place:
    """Where a demonstration goes: its data to an engine, on a private server made for it or on one that is there; and
    its service, as a unit of systemd.
    """

    engine: str = "sqlite"
    server: PrivateServer | None = None
    database: str = NAME
    units: UnitPlace | None = None


def prepare_demo(
    folder: Path,
    *,
    rows: int = 5_000,
    broken: bool = False,
    troubled: bool = False,
    place: Place | None = None,
    shape: str = "plain",
) -> DemoSite:
    """Install Quaybook 2.4 with `rows` bookings into a fresh folder; nothing of it is started.

    `broken`: its last release fails on purpose. `troubled`: an installation with a past, and a source with more in it.
    `shape`: an environment per release behind a link, or a folder shared with another program; both over SQLite.
    In another `place` than SQLite, a private server is made and started for it unless one is given. Where a place has
    units, the service of an environment is one of them.
    Raises BadInput when the folder exists and is not empty, or when the engine's server is not installed.
    """
    folder = folder.absolute()
    if folder.exists() and any(folder.iterdir()):
        remedy = "name a folder that does not exist yet, or remove this one when you need it no more"
        raise BadInput(Problem("folder-not-empty", f"the folder {folder} is not empty", remedy, str(folder)))
    root = folder / "quaybook"
    root.mkdir(parents=True)
    (folder / "run").mkdir()
    (folder / MARK_NAME).write_text("made by yl demo; yl demo --remove takes it away\n")
    port = free_port()
    if shape == "environment":
        install_environment(folder, root, broken=broken)
    else:
        packed = build_releases(folder / "releases", broken=broken, with_more=troubled)
        unpack_archive(packed[0].archive, root, Limits())
    if shape == "shared":
        share_with_another(root)
    _add_what_is_local(root, port)
    files = _add_uploads(root / "uploads", min(2_000, max(24, rows // 200)))
    (root / "data").mkdir(mode=0o750)
    place = place or Place()
    server = _add_data(folder, place, rows, files)
    site_file = folder / "ladder.toml"
    form = ENVIRONMENT_SITE if shape == "environment" else _SITE_FILE
    programs = {"python": sys.executable, "runtime": runtime_program()}
    text = form.format(port=port, **programs, **_words_of(server, place.database))
    if shape == "shared":
        text = text.replace(
            'root = "quaybook"\n', 'root = "quaybook"\nplacement = "overlay" # Tidewatch is in there too\n'
        )
        text = text.replace("[keep]\n", '[keep]\nshared_with = ["tidewatch"]\n')
    if troubled:
        add_troubles(folder, root)
        text = text.replace("\n[[databases]]", SITE_FILE_MORE + "\n[[databases]]", 1)
    if place.units is not None:
        service, file = install_unit(folder, port, place.units)
        text = re.sub(r"(?s)\[\[services\]\].*?\n\n", lambda _: f"{service}\n", text, count=1)
        text = text.replace("[keep]\n", f'[keep]\noutside = ["{file}"]\n')
    site_file.write_text(text)
    return DemoSite(folder, site_file, port, server)


def _add_data(folder: Path, place: Place, rows: int, files: list[str]) -> PrivateServer | None:
    """Fill the database: a file below root, or one of a private server."""
    if place.engine == "sqlite":
        path = folder / "quaybook" / "data" / "quaybook.sqlite"
        fill_database(path, rows, KEY, files)
        path.chmod(0o640)
        return None
    server = place.server or make_server(place.engine, free_port())
    try:
        if place.server is None:
            server.note(folder / SERVER_NOTE)
        make_database(server, place.database)
        fill_server(server, demo_rows(rows, KEY, files), place.database)
        secret = folder / PASSWORD_NAME
        secret.touch(mode=0o600)
        secret.write_text(server.password + "\n")
        settings = folder / "quaybook" / "etc" / "quaybook.ini"
        settings.write_text(
            settings.read_text().replace("sqlite://{root}/data/quaybook.sqlite", server.url(place.database))
        )
    except BaseException:
        if place.server is None:
            remove_server(server)
        raise
    return server


def _words_of(server: PrivateServer | None, database: str) -> dict[str, str]:
    """What the site file says of the database, and of the application that has to reach it."""
    if server is None:
        url = "sqlite:///quaybook/data/quaybook.sqlite"
        return {"url": url, "password": "", "flags": '"-I", "-S", "-B"', "environment": ""}
    secret = f'password_file = "{PASSWORD_NAME}"\n'
    environment = f'environment = {{ QUAYBOOK_PASSWORD_FILE = "{{site}}/{PASSWORD_NAME}" }}\n'
    return {"url": server.url(database), "password": secret, "flags": '"-I", "-B"', "environment": environment}


def server_below(folder: Path) -> PrivateServer | None:
    """The private server of a demonstration site, where it has one."""
    note = folder / SERVER_NOTE
    return noted_server(note) if note.exists() else None


def _add_what_is_local(root: Path, port: int) -> None:
    """What an administrator has done to the installation in the course of time."""
    settings = root / "etc" / "quaybook.ini"
    text = settings.read_text()
    text = text.replace("port = 8024", f"# Behind the office's proxy since last spring.\nport = {port}")
    text = text.replace("title = Our harbour", "title = Sandhavn Harbour Office")
    text = text.replace("longest_stay_days = 28", "longest_stay_days = 42")
    text = text.replace("legacy_theme = no", "legacy_theme = yes")
    settings.write_text(text)
    settings.chmod(0o640)
    key = root / "etc" / "secret.key"
    key.write_text(KEY.hex() + "\n")
    key.chmod(0o600)
    logo = (
        '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 40"><path d="M4 30h32L20 6z" fill="#f2c230"/></svg>\n'
    )
    (root / "static" / "logo.svg").write_text(logo)
    addon = root / "addons" / "regatta-calendar"
    addon.mkdir()
    (addon / "addon.toml").write_text('name = "Regatta calendar"\nversion = "0.9"\nworks_with = ">=2.0,<5"\n')
    (addon / "races.csv").write_text("day,race\n2026-07-04,Round the mole\n")


def _add_uploads(folder: Path, count: int) -> list[str]:
    """Insurance papers and photographs, made up; returns their names."""
    random = np.random.default_rng(7)
    names = []
    for n in range(count):
        below = folder / f"{n % 12 + 1:02d}"
        below.mkdir(parents=True, exist_ok=True)
        if n % 3:
            name, content = (
                f"insurance-{n:05d}.txt",
                f"Policy {n}, valid for one season.\n".encode() * (1 + n % 40),
            )
        else:
            name, content = f"photo-{n:05d}.raw", random.bytes(8_192 + n % 7 * 4_096)
        (below / name).write_bytes(content)
        os.utime(below / name, ns=(1_700_000_000_123_456_789 + n, 1_700_000_000_123_456_789 + n))
        names.append(f"{below.name}/{name}")
    (folder / "latest").symlink_to("12")
    return names


def start_site(site: Site) -> None:
    """Start every service of a site."""
    for service in services_of(site):
        service.start()


def stop_site(site: Site) -> None:
    """Stop every service of a site."""
    for service in reversed(services_of(site)):
        service.stop()
