"""`yl init` finds what lies far from the folder: settings in the system's folder, databases that are connected to."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import MakeDemo
from tests.crash_driver import in_child
from tests.engines import SERVERS, ask, server_of
from yellow_ladder.checks.making import commands_fit
from yellow_ladder.checks.records import Circumstances, Level
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.demo.servers import USER
from yellow_ladder.discovery import discover, site_file_text
from yellow_ladder.discovery.connections import Connection, connections_of
from yellow_ladder.discovery.etc import settings_of_it
from yellow_ladder.services.port import About, ServiceState

SETTINGS = """[quaybook]
datadir = {data}

[database]
backend = postgresql
name = berths
user = harbour
password = tide-and-time
host = 127.0.0.1
port = 5499
"""
HOLD = """
import sys, time
{connect}
print("there", flush=True)
time.sleep(99)
"""
CONNECT = {
    "postgresql": "import psycopg; held = psycopg.connect(host='127.0.0.1', port={port}, user='{user}', "
    "password='{password}', dbname='{name}')",
    "mariadb": "import pymysql; held = pymysql.connect(host='127.0.0.1', port={port}, user='{user}', "
    "password='{password}', database='{name}', ssl_disabled=True)",
}


@contextmanager
def at_work(words: list[str], folder: Path) -> Iterator[int]:
    """A program of Python that has said that it is there; its process id."""
    argv = [sys.executable, *words]
    with subprocess.Popen(argv, cwd=folder, stdout=subprocess.PIPE, text=True) as process:
        try:
            assert process.stdout is not None
            assert process.stdout.readline() == "there\n"
            yield process.pid
        finally:
            process.kill()


@pytest.fixture
def etc(tmp_path: Path) -> Path:
    for name in ("quaybook", "nginx", "cron.d", "crane", "quaybook.d", "another"):
        (tmp_path / "etc" / name).mkdir(parents=True)
    return tmp_path / "etc"


def test_settings_in_the_systems_folder_are_known_by_name_and_name_data_and_database(etc: Path, tmp_path: Path) -> None:
    root, data = tmp_path / "srv" / "quaybook", tmp_path / "var" / "berths"
    root.mkdir(parents=True)
    (data / "uploads").mkdir(parents=True)
    (root / "VERSION").write_text("2.4\n")
    for place in (
        "quaybook/quaybook.cfg",
        "nginx/quaybook.conf",
        "cron.d/quaybook.cfg",
        "another/own.cfg",
        "crane/quaybook.ini",
    ):
        (etc / place).write_text(SETTINGS.format(data=data))
    (etc / "quaybook" / "hook.sh").write_text("TIDE=high\n")  # code is no settings
    found = discover(root, [], etc=etc)
    assert [one.what for one in found.settings] == [str(etc / "quaybook" / "quaybook.cfg")]
    assert [(one.url, one.password_key) for one in found.databases] == [
        ("postgresql://harbour@127.0.0.1:5499/berths", "database.password")
    ]
    assert [one.what for one in found.data] == [str(data)]
    text, _ = site_file_text(found)
    assert "under the name quaybook" in " ".join(line.lstrip("# ") for line in text.splitlines())
    assert "tide-and-time" not in text


@pytest.mark.skipif(os.geteuid() != 0, reason="gives a file to another account")
def test_settings_are_known_by_the_account_that_they_were_given_to(etc: Path) -> None:
    for name in ("crane/crane.ini", "another/own.ini"):
        (etc / name).write_text("[tide]\nhigh = 5\n")
    shutil.chown(etc / "crane" / "crane.ini", group="games")
    assert [path.name for path, _ in settings_of_it(etc, {"quaybook"}, {"games", "root"})] == ["crane.ini"]
    assert list(settings_of_it(etc, {"quaybook"}, {"root", "www-data"})) == []
    for number in range(9):
        (etc / "quaybook.d" / f"{number}.ini").write_text("[tide]\nhigh = 5\n")
    assert list(settings_of_it(etc, {"quaybook.d"}, set())) == [], "more than an administrator writes"


@pytest.mark.parametrize("engine", SERVERS)
def test_what_a_process_is_connected_to_is_told(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    server, name = server_of(demo), demo.site().addresses()[0].database
    code = CONNECT[engine].format(port=server.port, user=USER, password=server.password, name=name)
    with at_work(["-c", HOLD.format(connect=code)], demo.folder) as pid:
        (found,) = connections_of([pid])
    said = f"process {pid} ({found.program}) is connected to {engine} at 127.0.0.1:{server.port}"
    assert (found.engine, found.port, found.said) == (engine, server.port, said)
    if engine == "postgresql":  # the other one does not tell
        assert found.url == f"postgresql://{USER}@127.0.0.1:{server.port}/{name}"
    guessed = f"mysql://crane@localhost:{server.port}/{name}"
    assert found.corrected(guessed) == (guessed if engine == "mariadb" else guessed.replace("mysql", engine))
    assert found.corrected("mariadb://crane@localhost:1/other") == "mariadb://crane@localhost:1/other"
    other = {"postgresql": "mariadb", "mariadb": "postgresql"}[engine]
    assert not found.leads_to(f"{other}://crane@localhost/{name}"), "at the usual port of another engine"
    assert not found.leads_to(f"sqlite:///{name}")
    assert not found.leads_to(f"{engine}://localhost:99999999/{name}")


@pytest.mark.parametrize("engine", SERVERS)
def test_what_a_process_is_connected_to_through_a_socket_is_told(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    server, name = server_of(demo), demo.site().addresses()[0].database
    path = f"{server.folder}/" + (f".s.PGSQL.{server.port}" if engine == "postgresql" else "socket")
    code = CONNECT[engine].format(port=server.port, user=USER, password=server.password, name=name)
    if engine == "mariadb":
        ask(demo, f"CREATE USER IF NOT EXISTS {USER}@localhost IDENTIFIED BY '{server.password}'")
        ask(demo, f"GRANT ALL ON *.* TO {USER}@localhost")
        code = code.replace("host='127.0.0.1'", f"unix_socket={path!r}")
    else:
        code = code.replace("host='127.0.0.1'", f"host={server.folder!r}")
    with at_work(["-c", HOLD.format(connect=code)], demo.folder) as pid:
        (found,) = connections_of([pid])
    assert found.said == f"process {pid} ({found.program}) is connected to {engine} at {path}"
    told = f"postgresql://{USER}@:{server.port}/{name}?socket={server.folder}"
    assert found.url == (told if engine == "postgresql" else ""), "the other one does not tell"
    assert found.leads_to(f"{engine}://crane@localhost/{name}")
    assert found.leads_to(told) == (engine == "postgresql")
    assert not found.leads_to(f"{engine}://crane@db.example.com/{name}")


def test_a_database_that_settings_are_sure_of_keeps_its_engine_beside_a_connection_to_another() -> None:
    usual = Connection(4711, "quaybook", "mariadb", "127.0.0.1", 3306)  # a server that does not tell the database
    assert usual.leads_to("mysql://localhost/berths")
    assert not usual.leads_to("postgresql://localhost/berths")
    assert usual.corrected("postgresql://localhost/berths") == "postgresql://localhost/berths"


def test_the_folder_that_a_process_was_started_in_is_told_where_it_has_gone_elsewhere(tmp_path: Path) -> None:
    root = tmp_path / "quaybook"
    for name in ("bin", "etc"):
        (root / name).mkdir(parents=True)
    (root / "bin" / "serve.py").write_text(
        "import os, time\nos.chdir('etc')\nprint('there', flush=True)\ntime.sleep(99)\n"
    )
    with at_work(["bin/serve.py", "--plain"], root):
        found = discover(root, [], etc=tmp_path / "none")
    (running,) = found.running
    assert running.folder == str(root)
    text, _ = site_file_text(found)
    assert 'folder = "{root}"' in text


def test_the_folder_that_a_process_works_in_is_data_where_it_writes_there_or_its_account_owns_it(
    tmp_path: Path,
) -> None:
    """Its settings and its database may be named by nothing but their place: relative to where it was started."""
    root, instance = tmp_path / "quaybook", tmp_path / "var" / "harbour"
    (root / "lib").mkdir(parents=True)
    instance.mkdir(parents=True)
    (root / "lib" / "serve.py").write_text("import time\nprint('there', flush=True)\ntime.sleep(99)\n")
    with sqlite3.connect(instance / "berths.sqlite") as connection:
        connection.execute("CREATE TABLE berths (id integer)")
    connection.close()
    with at_work([str(root / "lib" / "serve.py")], instance):
        assert str(instance) not in [one.what for one in discover(root, [], etc=tmp_path / "none").data]
    with at_work(["-c", f"import os\nheld = open('{instance}/serve.log', 'a')\n"
                  f"open('harbour.pid', 'w').write(str(os.getpid()))\nexec(open('{root}/lib/serve.py').read())",
                  f"{root}/lib"], instance):  # fmt: skip
        found = discover(root, [], etc=tmp_path / "none")
    assert str(instance) in [one.what for one in found.data], "it writes there, and be it a log"
    assert found.running[0].pid_file == str(instance / "harbour.pid")
    assert "Its pid file is" in site_file_text(found)[0]
    assert [one.url for one in found.databases] == [f"sqlite:///{instance.relative_to(tmp_path)}/berths.sqlite"]


def test_a_process_that_shows_no_words_is_known_by_the_libraries_that_it_has_loaded(tmp_path: Path) -> None:
    """It has written a name over its words and works in its data: only its memory leads to the application."""
    root, data = tmp_path / "quaybook", tmp_path / "berths"
    root.mkdir()
    data.mkdir()
    (root / "knots.so").write_bytes(bytes(4096))
    code = "import mmap, sys; f = open(sys.stdin.readline().strip(), 'rb'); m = mmap.mmap(f.fileno(), 0, access=1); "
    words = ["quay office", "-c", f"{code}print('there', flush=True); sys.stdin.read()"]
    with subprocess.Popen(
        words, executable=sys.executable, cwd=data, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as process:
        assert process.stdin is not None
        assert process.stdout is not None
        assert process.pid not in [one.pid for one in discover(root, [], etc=tmp_path / "none").running]
        process.stdin.write(f"{root / 'knots.so'}\n")
        process.stdin.flush()
        assert process.stdout.readline() == "there\n"
        found = discover(root, [], etc=tmp_path / "none")
        process.kill()
    assert [one.pid for one in found.running] == [process.pid]


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives files away")
def test_links_that_lead_out_are_followed_to_data_and_settings_where_they_can_be_trusted(tmp_path: Path) -> None:
    """As systems lay an application out; but its account may make a link lead anywhere, and root would back that up."""
    root, far = tmp_path / "quaybook", tmp_path / "far"
    for name in ("uploads", "secrets", "of-it"):
        (far / name).mkdir(parents=True)
        (far / name / "one.txt").write_text("x")
    root.mkdir()
    (root / "VERSION").write_text("2.4\n")
    (far / "local.php").write_text("<?php\n$dbtype = 'mysql';\n$dbname = 'berths';\n$dbhost = 'db';\n$dbuser = 'h';\n")
    (far / "crew.txt").write_text("Käthe\n")
    for name, target in (("images", "uploads"), ("local.php", "local.php"), ("crew.txt", "crew.txt")):
        (root / name).symlink_to(far / target)
    for name, target in (("mine", "secrets"), ("its", "of-it")):
        (root / name).symlink_to(far / target)
        os.chown(root / name, 33, 33, follow_symlinks=False)
    os.chown(far / "of-it", 33, 33)
    (far / "turned").mkdir()
    (far / "turned" / "photos").symlink_to(far / "secrets")
    os.chown(far / "turned" / "photos", 33, 33, follow_symlinks=False)
    (root / "photos").symlink_to(far / "turned" / "photos")  # root's own, on to what its account has turned since
    (root / "release-notes").symlink_to("VERSION")
    found = discover(root, [], etc=tmp_path / "none")
    assert sorted(one.what for one in found.data) == [str(far / "of-it"), str(far / "uploads")]
    assert [one.what for one in found.settings] == [str(far / "local.php")]
    assert [one.url for one in found.databases] == ["mysql://h@db/berths"]
    assert [one.what for one in found.apart] == [str(far / "crew.txt")]
    assert sorted(one.what for one in found.assets) == ["crew.txt", "images", "its", "local.php"]


def test_what_others_have_named_begins_no_line_of_the_site_file(tmp_path: Path) -> None:
    """Who runs the application names files, links, keys and processes; the file is read with root's rights."""
    root = tmp_path / "quaybook"
    (root / "releases" / "2.4").mkdir(parents=True)
    (root / "cur\n[more]\nrun_as = 'root'\n#").symlink_to("releases/2.4")
    store = tmp_path / "store"
    store.mkdir()
    key = "database\n[[services]]\nname = 'x'"
    named = {f"{key}.host": "127.0.0.1", f"{key}.name": "berths", f"{key}.user": "harbour", f"{key}.password": "tide"}
    (root / "settings.json").write_text(json.dumps({"database\n[more]\n": named, **named}))
    (root / "bin").mkdir()
    code = (
        "import time\nopen('/proc/self/comm', 'w').write('q\\n[own]\\n')\n"
        f"held = open({str(store / 'log.db')!r}, 'w')\nprint('there', flush=True)\ntime.sleep(99)\n"
    )
    (root / "bin" / "serve.py").write_text(code)
    with at_work(["bin/serve.py"], root):
        found = discover(root, [], etc=tmp_path / "none")
    assert "\n" in "".join(one.why for one in found.apart), "it was seen"
    assert found.behind is not None
    assert "\n" in found.behind.link, "it was seen"
    text, _ = site_file_text(found)
    site = tomllib.loads(text)
    assert not {"own", "more", "services"} & site.keys()
    assert site["pointer"]["link"] == found.behind.link


def test_a_server_whose_database_is_not_known_is_told_among_what_is_left(tmp_path: Path) -> None:
    (tmp_path / "quaybook").mkdir()
    found = discover(tmp_path / "quaybook", [], etc=tmp_path / "none")
    found.connected.append(Connection(4711, "quaybook", "mariadb", "127.0.0.1", 3306).said)
    _, left = site_file_text(found)
    assert any("process 4711 (quaybook) is connected to mariadb at 127.0.0.1:3306; say where" in one for one in left)


def test_commands_of_a_release_with_roots_rights_beside_services_without_are_told(make_demo: MakeDemo) -> None:
    demo = make_demo(shape="environment", start=False)
    named = "`prices to totals`, `export lamps`, `import lamps` would run as root"

    def told(account: str) -> int:
        prospect = look_ahead(demo.site(), None, utc_now())
        services = {"web": About(ServiceState.RUNNING, (4711,), account=account)}
        survey = replace(prospect.survey, services=services)
        at = Circumstances(prospect.site, survey, prospect.releases, prospect.way, utc_now())
        assert prospect.way is not None
        found = [one.saw for one in commands_fit(at, prospect.way) if one.level is Level.WARN]
        return sum(named in one and "not games's" in one for one in found)

    assert in_child(lambda: told("root"))[0] == 0
    assert in_child(lambda: told("games"))[0] == (os.geteuid() == 0)
    demo.edit('placement = "pointer"', 'run_as = "root"\nplacement = "pointer"')
    assert in_child(lambda: told("games"))[0] == 0, "it was said that it is meant"
