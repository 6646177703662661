"""Closed, stopped, at rest: each is asked of the thing itself, and what still runs is named."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import ask
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.demo.servers import PrivateServer
from yellow_ladder.services import services_of
from yellow_ladder.services.rest import still_at_work

SLEEPER = "import time; time.sleep(99)"


@contextlib.contextmanager
def at_work(*words: str, folder: Path, **environment: str) -> Iterator[subprocess.Popen[bytes]]:
    process = subprocess.Popen(words, cwd=folder, env={**os.environ, **environment}, start_new_session=True)
    try:
        end = time.monotonic() + 10
        while not psutil.Process(process.pid).cmdline() and time.monotonic() < end:
            time.sleep(0.01)
        yield process
    finally:
        process.kill()
        process.wait()


def test_a_forgotten_worker_is_named_before_anything_changes(demo: Demo) -> None:
    with at_work(sys.executable, "-c", SLEEPER, folder=demo.root / "uploads") as worker:
        answer = demo.yl("climb", "--yes", "--json")
        assert answer.code == 1
        told = json.dumps(answer.problems)
        assert f"process {worker.pid}" in told
        assert "works in" in told
        assert list_climbs(demo.site())[-1].standing.state is ClimbState.DESCENDED
        assert not (demo.root / "data" / "closed").exists()
    assert demo.yl("climb", "--yes").code == 0
    with at_work(sys.executable, "-c", SLEEPER, str(demo.root / "worker.py"), folder=Path("/")) as worker:
        answer = demo.yl("descend", "--yes", "--json")
        assert answer.code == 3
        assert f"process {worker.pid}" in json.dumps(answer.problems)
    assert demo.yl("descend", "--yes").code == 0


DAEMON = (
    "import os, subprocess, sys, time\n"
    "child = subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(99)'], cwd='/', start_new_session=True)\n"
    "open(sys.argv[1], 'w').write(str(child.pid))\n"
    "sys.path[0:0] = ['.']\n"
    "import server\n"
    "server.main()\n"
)


def test_a_daemon_that_left_its_family_is_stopped_with_its_service(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    program, noted = demo.folder / "launch.py", demo.folder / "daemon.pid"
    program.write_text(DAEMON)
    text = demo.prepared.file.read_text()
    line = next(one for one in text.splitlines() if one.startswith("run = "))
    demo.edit(line, f'run = ["{sys.executable}", "-B", "{program}", "{noted}"]')
    service = services_of(demo.site())[0]
    service.start()
    daemon = psutil.Process(int(noted.read_text()))
    assert daemon.is_running()
    service.stop()
    assert not daemon.is_running() or daemon.status() == psutil.STATUS_ZOMBIE
    assert still_at_work(demo.site()) == []


LYING = """#!/bin/sh
# Says that it is stopped while its daemon lives on.
case $1 in
start) cd {root} && setsid {python} -c "import time; time.sleep(99)" >/dev/null 2>&1 &
    touch {mark} ;;
stop) rm -f {mark} ;;
status) [ -e {mark} ] ;;
esac
"""


def test_a_stop_command_that_lies_is_not_believed(idle: Demo) -> None:
    script, mark = idle.folder / "ctl", idle.folder / "mark"
    script.write_text(LYING.format(mark=mark, root=idle.root, python=sys.executable))
    script.chmod(0o755)
    text = idle.prepared.file.read_text()
    head, _, rest = text.partition("[[services]]")
    words = [f'{name} = ["{script}", "{name}"]' for name in ("start", "stop", "status")]
    record = "\n".join(["[[services]]", 'name = "web"', 'kind = "commands"', *words, "", "[maintenance]"])
    before, _, after = head.partition('[[versions]]\nof = "served"')  # it serves nothing
    idle.prepared.file.write_text(
        before + after[after.index("[[versions]]") :] + record + rest.partition("[maintenance]")[2]
    )
    service = services_of(idle.site())[0]
    service.start()
    (daemon,) = still_at_work(idle.site())
    answer = idle.yl("climb", "--yes", "--json")
    daemons = still_at_work(idle.site())  # going back has started it once more
    try:
        assert answer.code == 1
        assert f"process {daemon.pid}" in json.dumps(answer.problems)
        standing = list_climbs(idle.site())[-1].standing
        assert not standing.has_backup
        assert "back-files" not in [one.kind for one in standing.down], "nothing is restored beneath a running daemon"
    finally:
        for one in daemons:
            psutil.Process(one.pid).kill()


def test_a_flag_that_nobody_looks_for_is_a_failure_of_the_step(demo: Demo) -> None:
    demo.edit('flag = "quaybook/data/closed"', 'flag = "quaybook/data/shut"')
    demo.edit('/" }', '/", within_s = 1 }')
    answer = demo.yl("climb", "--yes", "--json")
    assert answer.code == 1
    assert "does not say so: it answers with 200" in json.dumps(answer.problems)
    assert list_climbs(demo.site())[-1].standing.has_backup is False
    assert not (demo.root / "data" / "shut").exists()


def test_it_is_said_how_closing_will_be_known(demo: Demo) -> None:
    def finding() -> tuple[str, str]:
        (found,) = [one for one in demo.json("check")["findings"] if one["check"] == "maintenance"]
        return found["level"], found["saw"]

    assert finding() == ("ok", f"the site is open; closed, http://127.0.0.1:{demo.prepared.port}/ will answer 503")
    demo.edit(f'closed = {{ url = "http://127.0.0.1:{demo.prepared.port}/" }}\n', "")
    assert finding()[0] == "warn"


def test_others_may_not_write_while_the_window_lasts(engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql")
    database = demo.site().databases()["main"]
    import psycopg

    from tests.writer import INSERT, connector

    connect = connector(demo.site().addresses()[0])
    before = connect()
    database.keep_others_out()
    with pytest.raises(psycopg.Error):
        before.execute("SELECT 1")
    with connect() as other, pytest.raises(psycopg.errors.ReadOnlySqlTransaction):
        other.execute(INSERT.format(title="late", number=1))
    assert "default_transaction_read_only" not in json.dumps(dict(database.details()), default=str)
    database.let_others_in()
    with connect() as other:
        other.execute(INSERT.format(title="late", number=1))
    assert demo.yl("climb", "--yes").code == 0
    with connect() as other:
        other.execute(INSERT.format(title="later", number=1))
    assert demo.yl("descend", "--yes").code == 0
    with connect() as other:
        other.execute(INSERT.format(title="latest", number=1))


def test_accounts_of_applications_are_locked_while_the_window_lasts(engine_demo: MakeDemo) -> None:
    """Where the site file names an account of its own; one with rights elsewhere too is named and left alone."""
    demo = engine_demo("mariadb", start=False)
    address = demo.site().addresses()[0]
    app, wide, locked = (f"{word}_{uuid.uuid4().hex[:8]}" for word in ("app", "wide", "locked"))
    import pymysql

    from tests.writer import INSERT

    def writes(account: str) -> str:
        try:
            with pymysql.connect(host=address.host, port=address.port, user=account, password="tide",
                                 database=address.database) as connection:  # fmt: skip
                connection.cursor().execute(INSERT.format(title="late", number=1))
                connection.commit()
        except pymysql.Error as fault:
            return str(fault.args[-1])
        return "written"

    def found() -> tuple[str, str]:
        (one,) = [one for one in demo.json("check")["findings"] if one["check"] == "other writers"]
        return one["level"], one["saw"]

    assert found()[0] == "warn"
    assert "applications come in as quaybook@127.0.0.1" in found()[1]
    ask(
        demo,
        *(f"CREATE USER {one}@'127.0.0.1' IDENTIFIED BY 'tide'" for one in (app, wide, locked)),
        *(f"GRANT ALL ON `{address.database}`.* TO {one}@'127.0.0.1'" for one in (app, wide, locked)),
        f"GRANT INSERT ON elsewhere.* TO {wide}@'127.0.0.1'",
        f"ALTER USER {locked}@'127.0.0.1' ACCOUNT LOCK",
    )
    assert f"{wide}@127.0.0.1 has rights on other databases too" in found()[1]
    ask(demo, f"REVOKE ALL ON `{address.database}`.* FROM {wide}@'127.0.0.1'")
    assert found() == ("ok", "nobody else writes to main while the site is closed")
    database = demo.site().databases()["main"]
    assert writes(app) == "written"
    for _ in range(2):
        database.keep_others_out()
        assert "locked" in writes(app)
    database.let_others_in()
    database.let_others_in()
    assert writes(app) == "written"
    assert "locked" in writes(locked), "who was locked before stays so"
    before = pymysql.connect(host=address.host, port=address.port, user=app, password="tide",
                             database=address.database)  # fmt: skip
    assert demo.yl("climb", "--yes").code == 0
    with pytest.raises(pymysql.Error), before.cursor() as cursor:
        cursor.execute("SELECT 1")
    assert writes(app) == "written"
    assert demo.yl("descend", "--yes").code == 0
    assert writes(app) == "written"
    assert not ask(demo, f"SELECT 1 FROM mysql.roles_mapping WHERE Role LIKE '%{address.database}'")


def test_a_service_that_holds_a_database_stays_up(idle: Demo) -> None:
    with at_work(sys.executable, "-c", SLEEPER, folder=Path("/")) as holder:
        (idle.folder / "holder.pid").write_text(str(holder.pid))
        record = [
            "[[services]]", 'name = "store"', 'kind = "commands"', 'start = ["/bin/false"]', 'stop = ["/bin/false"]',
            'status = ["/bin/true"]', f'pid_file = "{idle.folder / "holder.pid"}"', 'holds = "main"', "",
        ]  # fmt: skip
        idle.edit("[maintenance]", "\n".join([*record, "[maintenance]"]))
        assert idle.yl("climb", "--yes").code == 0
        assert idle.yl("descend", "--yes").code == 0
        assert holder.poll() is None
    whole = idle.prepared.file.read_text()
    idle.edit('holds = "main"', 'holds = "other"')
    assert "holds 'other'" in idle.yl("check").err
    idle.prepared.file.write_text(whole.replace("\n".join(record), ""))


@pytest.mark.parametrize("where", ["below root", "elsewhere"])
@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_a_live_server_among_the_files_stops_climbs_and_backups(
    engine: str, where: str, engine_demo: MakeDemo, servers: dict[str, PrivateServer]
) -> None:
    demo = engine_demo(engine)
    folder = demo.site().databases()["main"].data_folder()
    assert folder is not None
    cluster = demo.root / "uploads" / "cluster"
    if where == "elsewhere":
        cluster = demo.folder / "elsewhere" / "cluster"
        demo.edit("data = [", f'data = ["{cluster.parent}", ')
    cluster.mkdir(parents=True)
    names = ("PG_VERSION", "postmaster.pid") if engine == "postgresql" else ("ibdata1",)
    for name in names:
        # Another name of the live server's own file: what tells that one is at work is there.
        os.link(folder / name, cluster / name)
    found = [one for one in demo.json("check", code=1)["findings"] if one["check"] == "database servers"]
    assert [(one["level"], str(cluster) in one["saw"]) for one in found] == [("stop", True)]
    answer = demo.yl("backup", "make")
    assert answer.code == 1
    assert str(cluster) in answer.err
    assert demo.yl("climb", "--yes").code == 1
    assert (cluster / names[0]).exists()
    for name in names:
        (cluster / name).unlink()
    (cluster / names[0]).write_text("15\n")
    found = [one for one in demo.json("check", code=0)["findings"] if one["check"] == "database servers"]
    assert [one["level"] for one in found] == ["warn"], "an old copy is files"
