"""The promises on database servers: up and back, every value, whatever goes wrong."""

from __future__ import annotations

import csv
import gc
import json
import os
import shutil
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path

import psutil
import pymysql
import pytest

from tests.conftest import Demo, MakeDemo, run_program
from tests.engines import SERVERS, ask, connect, databases_on, server_of
from yellow_ladder.backup.catalog import SUMS_NAME, files_of, list_backups
from yellow_ladder.backup.make import check_backup, load_and_compare, make_backup
from yellow_ladder.climb.planning.ways_back import way_back
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.database import open_database
from yellow_ladder.database.mariadb.connect import connected, streamed
from yellow_ladder.database.port import LedgerEntry
from yellow_ladder.demo.prepare import Place
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.demo.servers import start_server, stop_server
from yellow_ladder.errors import AnswerNo, LadderError
from yellow_ladder.events import silent
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.survey.records import SurveyedDatabase

ENTRY = LedgerEntry("up", "9.0", "a" * 64, "2026-11-23T12:00:00Z")
pytestmark = pytest.mark.parametrize("engine", SERVERS)


@pytest.mark.parametrize("clone", ["required", "off"])
def test_a_climb_goes_up_and_all_the_way_back(engine: str, clone: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=300)
    demo.edit('password_file = "quaybook.password"', f'password_file = "quaybook.password"\nclone = "{clone}"')
    before, there = picture_of(demo.site()), databases_on(demo)
    found = demo.json("climb", "--to", "4.0", "--yes")
    assert found["proof"]["whole"]
    there_now = databases_on(demo)
    assert len(there_now - there) == (engine == "postgresql" and clone == "required")
    tables = {one["table"]: one for one in found["proof"]["tables"]["main"]}
    assert tables["bookings"]["rows_after"] == 300
    assert tables["addresses"]["verdict"] == "as declared"
    ids = ("booking-channel", "booking-total", "owner-addresses", "schema-40")
    query = "SELECT migration FROM yellow_ladder_ledger ORDER BY place"
    assert [name for (name,) in ask(demo, query)] == list(ids)
    ask(
        demo,
        "INSERT INTO notices (posted, title, body) VALUES ('2026-11-23', 'Fog ⚓', 'Mind, \"the\" horn')",
        "UPDATE berths SET length_cm = length_cm + 1 WHERE id IN (3, 4)",
        "DELETE FROM invoices WHERE id = 5",
        "CREATE TABLE stray (id INTEGER PRIMARY KEY)",
    )
    price = demo.json("descend", "--price")["price"]["tables"]
    told = {one["table"]: (one["added"], one["changed"], one["deleted"]) for one in price}
    assert told == {"notices": (1, 0, 0), "berths": (0, 2, 0), "invoices": (0, 0, 1)}
    assert databases_on(demo) == there_now
    demo.json("descend", "--yes")
    (restored,) = [facts for step, facts in facts_of(demo).items() if step == "back-database:main"]
    assert restored["way"] == ("clone" if clone == "required" else "backup")
    assert picture_of(demo.site()) == before
    assert databases_on(demo) == there
    (kept,) = (demo.folder / ".ladder/climbs").glob("*/written-since/rows/main.notices.csv")
    with kept.open(newline="", encoding="utf-8") as stream:
        header, row = csv.reader(stream)
    assert dict(zip(header, row, strict=True))["body"] == 'Mind, "the" horn'


def facts_of(demo: Demo) -> dict[str, dict[str, object]]:
    """What the newest climb's journal says of each step that was done."""
    journal = max((demo.folder / ".ladder" / "climbs").glob("*/journal.jsonl"))
    records = map(json.loads, journal.read_text().splitlines())
    return {one["step"]: one["facts"] for one in records if one["what"] == "done"}


def test_a_clone_that_holds_something_else_is_no_way_back(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine)
    before = picture_of(demo.site())
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    (climb,) = list_climbs(demo.site())
    demo.site().databases()["main"].make_clone(climb.plan.clone_place("main"))
    assert demo.yl("descend", "--yes").code == 0
    assert facts_of(demo)["back-database:main"]["way"] == "clone"
    assert picture_of(demo.site()) == before


def test_accepting_lets_the_clone_go_and_says_what_that_frees(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine)
    there = databases_on(demo)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    (climb,) = list_climbs(demo.site())
    size = int(str(facts_of(demo)["clone:main"]["bytes"]))
    settled = demo.json("settle", "--yes")
    assert settled["freed_bytes"] > size > 0
    assert databases_on(demo) == there
    assert not climb.plan.clone_place("main").exists()


def test_no_clone_is_made_where_loading_the_backup_takes_no_longer(engine: str, engine_demo: MakeDemo) -> None:
    """MariaDB takes in each table by itself, which for five hundred small ones is slower than loading them."""
    demo = engine_demo(engine)
    for many, size, is_worth_it in ((5, 2**20, True), (500, 50 * 2**20, engine == "postgresql"), (500, 2**32, True)):
        facts = SurveyedDatabase("main", kind=engine, size_bytes=size, tables={f"t{n}": 2 for n in range(many)})
        way = way_back(demo.site(), facts)
        assert (way.clone, way.why == "") == (is_worth_it, is_worth_it), (many, size)
    demo.edit('password_file = "quaybook.password"', 'password_file = "quaybook.password"\nclone = "required"')
    facts = SurveyedDatabase("main", kind=engine, size_bytes=50 * 2**20, tables={f"t{n}": 2 for n in range(500)})
    assert way_back(demo.site(), facts).clone


def test_a_sequence_that_steps_back_is_no_success(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=300)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    back = {
        "postgresql": "ALTER SEQUENCE bookings_id_seq RESTART WITH 7",  # the next 293 bookings would collide
        "mariadb": "ALTER TABLE bookings AUTO_INCREMENT = 7",  # the server goes on behind the last row all the same
    }[engine]
    ask(demo, back, "UPDATE logins SET seen = NULL")
    answer = demo.yl("verify", "--json")
    assert answer.code == (engine == "postgresql")
    faults = answer.document["result"]["faults"]
    assert [fault for fault in faults if "it went back" in fault] == faults
    assert bool(faults) == (engine == "postgresql")


def test_a_release_that_fails_leaves_everything_as_it_was(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, broken=True)
    before, there = picture_of(demo.site()), databases_on(demo)
    answer = demo.yl("climb", "--to", "4.0", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "climb-failed")
    assert "schema-40" in answer.problems[1]["message"]
    assert picture_of(demo.site()) == before
    assert databases_on(demo) == there


def test_a_backup_is_loaded_and_compared_value_by_value(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    there = databases_on(demo)
    made = demo.json("backup", "make")
    tested = demo.json("backup", "test", "--load")
    assert tested["loaded_rows"] == sum(count for (count,) in _counts(demo))
    assert databases_on(demo) == there
    folder = Path(made["path"])
    private = {path.stat().st_mode & 0o777 for path in folder.rglob("*") if path.is_file()}
    assert private == {0o600}
    assert {path.stat().st_mode & 0o777 for path in [folder, *filter(Path.is_dir, folder.rglob("*"))]} == {0o700}
    # A dump that loads to something else than what was there is found, however sound its bytes are.
    kept = folder / "fingerprint-main.json"
    record = json.loads(kept.read_text())
    record["database"]["tables"]["berths"]["columns"]["code"][1] = "0" * 16
    kept.write_text(json.dumps(record))
    sums = folder / SUMS_NAME
    lines = [line for line in sums.read_text().splitlines() if not line.endswith(kept.name)]
    sums.write_text("\n".join([*lines, f"{sha256_of(kept)}  {kept.name}"]) + "\n")
    answer = demo.yl("backup", "test", "--load", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-differs")
    assert "the table berths" in answer.problems[0]["message"]
    assert databases_on(demo) == there


def test_one_flipped_bit_anywhere_is_found(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    backup = make_backup(demo.site(), "2.4", utc_now(), silent)
    assert check_backup(backup.path).name == backup.name
    for name in files_of(backup.path):
        path = backup.path / name
        original = path.read_bytes()
        for place in {0, len(original) // 2, len(original) - 1}:
            content = bytearray(original)
            content[place] ^= 4
            path.write_bytes(content)
            with pytest.raises(LadderError) as told:
                check_backup(backup.path)
            assert told.value.problems[0].code in ("backup-damaged", "no-backup"), name
        path.write_bytes(original)
    assert check_backup(backup.path).name == backup.name


def _counts(demo: Demo) -> list[tuple[int]]:
    names = [table.name for table in demo.site().databases()["main"].tables()]
    return [(int(ask(demo, f"SELECT count(*) FROM {name}")[0][0]),) for name in names]


CLIENTS = {"postgresql": ("pg_dump", "pg_restore"), "mariadb": ("mariadb-dump", "mariadb")}


def noting_clients(engine: str, folder: Path) -> tuple[dict[str, str], Path]:
    """Programs that note their words and their environment and become the server's own ones: how to find them, and the
    notes. A watcher on a busy machine may miss a program that works for a twentieth of a second.
    """
    notes = folder / "notes"
    folder.mkdir()
    for name in CLIENTS[engine]:
        own = folder / name
        text = f'#!/bin/sh\ncat /proc/$$/cmdline /proc/$$/environ >> {notes}\nexec {shutil.which(name)} "$@"\n'
        own.write_text(text)
        own.chmod(0o755)
    return {"PATH": f"{folder}:{os.environ['PATH']}"}, notes


@contextmanager
def watched_for(secret: str) -> Iterator[list[str]]:
    """Look at every process of the machine for as long as the block lasts; gives what was seen with the secret."""
    seen: list[str] = []
    is_over = threading.Event()

    def look() -> None:
        while not is_over.wait(0.05):
            for pid in psutil.pids():
                with suppress(OSError):
                    words = Path(f"/proc/{pid}/cmdline").read_bytes().decode(errors="replace").rstrip("\0").split("\0")
                    if any(secret in word for word in words):
                        seen.append(" ".join(words))
                    if pid != os.getpid() and secret.encode() in Path(f"/proc/{pid}/environ").read_bytes():
                        seen.append(f"in the environment of {words}")

    watcher = threading.Thread(target=look)
    watcher.start()
    try:
        yield seen
    finally:
        is_over.set()
        watcher.join()


def test_no_password_is_in_an_argument_list_or_a_file_of_ours(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=5_000, start=False)
    secret = server_of(demo).password
    search, notes = noting_clients(engine, demo.folder / "clients")
    with watched_for(secret) as seen:
        answers = [
            demo.yl("backup", "make", **search),
            demo.yl("backup", "test", "--load", **search),
            run_program("climb", "--yes", folder=demo.folder, anew=True, environment=search),
            demo.yl("-v", "check"),
        ]
    assert seen == []
    assert [answer.code for answer in answers] == [0, 0, 0, 1], [answer.err for answer in answers]
    noted = notes.read_bytes()
    assert all(f"/clients/{name}".encode() in noted for name in CLIENTS[engine]), "not all were at work"
    assert secret.encode() not in noted
    assert not any(secret in answer.out + answer.err for answer in answers)
    for path in (demo.folder / ".ladder").rglob("*"):
        assert path.is_dir() or secret.encode() not in path.read_bytes(), path


def test_a_server_that_cannot_be_asked_is_a_finding(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    secret = demo.folder / "quaybook.password"
    original = secret.read_text()
    port = f":{server_of(demo).port}/"
    for spoil, code, remedy in (
        (lambda: secret.write_text("wrong\n"), "does not let us in", "correct the password in"),
        (lambda: secret.chmod(0o644), "can be read by others", "chmod 600"),
        (lambda: secret.unlink(), "cannot be read from", "password_file"),
        (lambda: demo.edit(port, ":1/"), "does not let us in", "server runs"),
    ):
        spoil()
        answer = demo.yl("check", "--json")
        assert answer.code == 1
        (finding,) = [one for one in answer.document["result"]["findings"] if one["check"] == "database"]
        assert finding["level"] == "stop"
        assert code in finding["saw"]
        assert remedy in finding["remedy"]
        assert demo.yl("climb", "--yes").code == 1
        secret.unlink(missing_ok=True)
        secret.touch(mode=0o600)
        secret.write_text(original)


def test_a_password_in_the_url_or_an_option_nobody_knows_is_refused(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    demo.edit("quaybook@127", "quaybook:hunter2@127")
    answer = demo.yl("survey", "--json")
    assert answer.code == 2
    assert "password_env or password_file" in answer.problems[0]["message"]
    assert "hunter2" not in answer.problems[0]["message"]
    demo.edit("quaybook:hunter2@127", "quaybook@127")
    demo.edit('\npassword_file = "quaybook.password"', '\npassword_env = "QUAY_SECRET"')
    assert "QUAY_SECRET is not set" in demo.yl("check", "--json").out
    answer = demo.yl("backup", "make", QUAY_SECRET=server_of(demo).password)
    assert answer.code == 0, answer


@contextmanager
def locked_berths(demo: Demo, engine: str) -> Iterator[None]:
    """Another session holds the table of berths; on MariaDB one that stands in no database, and so is not ended."""
    holder = connect(demo, "information_schema" if engine == "mariadb" else "")
    berths = f"{demo.site().addresses()[0].database}.berths"
    try:
        with holder.cursor() as cursor:
            if engine == "postgresql":
                cursor.execute("BEGIN")
            cursor.execute({"postgresql": "LOCK TABLE berths", "mariadb": f"LOCK TABLES {berths} WRITE"}[engine])
            yield
    finally:
        holder.close()


def test_a_lock_of_somebody_else_stops_a_backup_and_leaves_none(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    demo.edit('password_file = "quaybook.password"', 'password_file = "quaybook.password"\nlock_wait_s = 1')
    with locked_berths(demo, engine):
        answer = demo.yl("backup", "make", "--json")
    assert answer.code == 1
    message = answer.problems[0]["message"]
    assert "the database `main` is locked by another session for longer than 1 s (berths" in message
    assert answer.problems[0]["remedy"]
    assert list((demo.folder / ".ladder" / "backups").iterdir()) == []
    assert demo.yl("backup", "make").code == 0


def test_a_dump_that_is_killed_leaves_no_backup(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=2_000, start=False)
    name = {"postgresql": "pg_dump", "mariadb": "mariadb-dump"}[engine]
    own = demo.folder / "programs"
    own.mkdir()
    real = shutil.which(name)
    asked = f'if [ "$1" = --version ]; then exec {real} --version; fi'
    (own / name).write_text(f'#!/bin/sh\n{asked}\n{real} "$@" &\nkill -9 $!; kill -9 $$\n')
    (own / name).chmod(0o755)
    demo.edit("[[databases]]\n", '[[databases]]\nprograms = "programs"\n')
    answer = demo.yl("backup", "make", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "client-failed")
    assert list((demo.folder / ".ladder" / "backups").iterdir()) == []


def test_a_connection_cut_in_the_middle_is_told(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=60_000, start=False)
    done = threading.Event()
    own = demo.site().addresses()[0].database
    query = {
        "postgresql": f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{own}'"
        " AND application_name IN ('yellow-ladder', 'pg_dump')",
        "mariadb": f"SELECT id FROM information_schema.processlist WHERE db = '{own}' AND id <> CONNECTION_ID()",
    }[engine]

    def cut() -> None:
        connection = connect(demo, "postgres" if engine == "postgresql" else "mysql")
        with connection.cursor() as cursor:
            while not done.is_set():
                cursor.execute(query)
                for (number,) in cursor.fetchall() if engine == "mariadb" else ():
                    with suppress(pymysql.Error):  # it may have gone by itself
                        cursor.execute(f"KILL {number}")
        connection.close()

    cutter = threading.Thread(target=cut)
    cutter.start()
    answer = demo.yl("backup", "make", "--json")
    done.set()
    cutter.join()
    assert answer.code in (1, 2), answer
    assert answer.problems[0]["remedy"], answer.problems
    assert list((demo.folder / ".ladder" / "backups").iterdir()) == []


def test_a_connection_that_was_cut_while_rows_were_left_closes_quietly(engine: str, engine_demo: MakeDemo) -> None:
    """The driver would read the rest of the answer away first, from a stream that it has no more."""
    if engine != "mariadb":
        return
    address = engine_demo(engine, rows=2_000, start=False).site().addresses()[0]
    with connected(address) as connection:
        with streamed(connection, "SELECT * FROM bookings") as cursor:
            assert len(cursor.fetchmany(3)) == 3
            connection._force_close()  # type: ignore[attr-defined]
        assert not connection.open
    del cursor, connection
    gc.collect()  # what is left of it must not look for the stream either


def test_a_server_stopped_in_the_middle_is_gone_on_with_or_back_from(engine: str, make_demo: MakeDemo, servers) -> None:  # type: ignore[no-untyped-def]
    servers(engine)  # skips where it is not installed
    demo = make_demo(place=Place(engine), rows=200)
    server = server_of(demo)
    before = picture_of(demo.site())
    flag = demo.root / "data" / "closed"
    stopped = threading.Event()

    def stop() -> None:
        while not flag.exists():
            time.sleep(0.01)
        stop_server(server, roughly=True)
        stopped.set()

    stopper = threading.Thread(target=stop)
    stopper.start()
    answer = demo.yl("climb", "--to", "4.0", "--yes", "--json")
    stopper.join()
    assert stopped.is_set()
    assert answer.code in (1, 3), answer
    started = start_server(server)
    try:
        if answer.code == 3:
            assert demo.yl("descend", "--yes").code == 0
        assert picture_of(demo.site()) == before
        assert not flag.exists()
        assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    finally:
        stop_server(started, roughly=True)


def test_going_back_waits_where_what_is_newer_cannot_be_kept(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine)
    demo.edit('password_file = "quaybook.password"', 'password_file = "quaybook.password"\nlock_wait_s = 1')
    before = picture_of(demo.site())
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    ask(demo, "INSERT INTO notices (posted, title, body) VALUES ('2026-11-23', 'Fog', 'Mind the horn')")
    with locked_berths(demo, engine):
        answer = demo.yl("descend", "--yes", "--json")
    if engine == "postgresql":
        assert answer.code == 0, "sessions of others are ended there"
    else:
        assert answer.code == 3, answer
        assert "newer-not-kept" in [problem["code"] for problem in answer.problems]
        assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before
    (kept,) = (demo.folder / ".ladder/climbs").glob("*/written-since/rows/main.notices.csv")
    assert "Mind the horn" in kept.read_text()


def test_migrations_are_done_once_however_often_they_are_begun(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    database = demo.site().databases()["main"]
    statements = [
        "CREATE TABLE tides (id INTEGER PRIMARY KEY, height INTEGER)",
        "INSERT INTO tides VALUES (1, 5)",
        "UPDATE tides SET height = height + 1",
        "ALTER TABLE tides ADD COLUMN note VARCHAR(20)",
        "INSERT INTO tides (id, height) SELECT id, 0 FROM wrecks",
    ]
    with pytest.raises(AnswerNo, match="wrecks"):
        database.apply(statements, ENTRY)
    assert database.ledger() == []
    ask(demo, "CREATE TABLE wrecks (id INTEGER PRIMARY KEY)", "INSERT INTO wrecks VALUES (7)")
    assert database.apply(statements, ENTRY)
    assert not database.apply(statements, ENTRY)
    assert ask(demo, "SELECT id, height, note FROM tides ORDER BY id") == [(1, 6, None), (7, 0, None)]
    assert [one.migration for one in database.ledger()] == ["up"]


def test_what_belongs_to_the_database_itself_comes_back(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    database = demo.site().databases()["main"]
    name = database.address.database
    said = _particulars(demo, engine, name)
    before = take_fingerprint(database)
    backup = make_backup(demo.site(), "2.4", utc_now(), silent)
    copy = backup.database("main")
    ask(demo, "CREATE TABLE newer (id INTEGER PRIMARY KEY)", "DROP VIEW unpaid", "DELETE FROM logins")
    if engine == "postgresql":
        ask(demo, f"ALTER DATABASE {name} CONNECTION LIMIT 3", f"ALTER DATABASE {name} RESET search_path")
    for _ in range(2):  # may be repeated
        database.restore_from(backup.path / copy.file, copy.details)
        assert take_fingerprint(database) == before
        assert _particulars(demo, engine, name, change=False) == said


def _particulars(demo: Demo, engine: str, name: str, *, change: bool = True) -> list[tuple[object, ...]]:
    """What a dump does not hold; first it is made to be something else than what every database has."""
    if engine == "mariadb":
        if change:
            ask(demo, f"ALTER DATABASE {name} CHARACTER SET latin1 COLLATE latin1_german2_ci")
        return ask(demo, "SELECT @@character_set_database, @@collation_database")
    if change:
        role = f"reader_{name}"
        ask(
            demo,
            f"CREATE ROLE {role}",
            f"ALTER DATABASE {name} CONNECTION LIMIT 17",
            f"COMMENT ON DATABASE {name} IS 'it''s the harbour''s'",
            f'ALTER DATABASE {name} SET search_path = "$user", public, "odd, name"',
            f"ALTER ROLE {role} IN DATABASE {name} SET work_mem = '7MB'",
            f"REVOKE CONNECT ON DATABASE {name} FROM PUBLIC",
            f"GRANT CONNECT, TEMPORARY ON DATABASE {name} TO {role} WITH GRANT OPTION",
            f"GRANT SELECT (id, code), UPDATE (code) ON berths TO {role}",
        )
    return ask(
        demo,
        "SELECT d.datconnlimit, d.datcollate, pg_get_userbyid(d.datdba), shobj_description(d.oid, 'pg_database'),"
        " (SELECT array_agg(x::text ORDER BY x::text) FROM unnest(d.datacl) AS x),"
        " (SELECT array_agg(s.setrole::regrole::text || s.setconfig::text ORDER BY 1) FROM pg_db_role_setting AS s"
        f"  WHERE s.setdatabase = d.oid) FROM pg_database AS d WHERE datname = '{name}'",
    )


def test_rows_written_while_a_backup_is_made_do_not_spoil_it(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, rows=30_000, start=False)
    done = threading.Event()

    def write() -> None:
        connection = connect(demo)
        with connection.cursor() as cursor:
            while not done.is_set():
                cursor.execute("INSERT INTO notices (posted, title, body) VALUES ('2026-11-23', 'more', 'and more')")
                time.sleep(0.002)  # a busy site, and not a contest for the processor
        connection.close()

    writer = threading.Thread(target=write)
    writer.start()
    try:
        backup = make_backup(demo.site(), "2.4", utc_now(), silent)
    finally:
        done.set()
        writer.join()
    moving = backup.database("main").moving
    assert moving == (("notices",) if engine == "mariadb" else ())
    loaded = load_and_compare(list_backups(demo.site().state.backups)[0], demo.site(), silent)
    assert loaded["main"].tables["bookings"].rows == 30_000


def test_a_snapshot_is_what_it_was_for_every_reader(engine: str, engine_demo: MakeDemo, tmp_path: Path) -> None:
    demo = engine_demo(engine, start=False)
    database = demo.site().databases()["main"]
    before = take_fingerprint(database)
    with database.held_still(tmp_path / "still") as still:
        still.tables()
        ask(demo, "DELETE FROM invoices")
        rows = sum(len(chunk) for chunk in still.read_rows(_table(still, "invoices"), ["id"], None))
        assert rows == before.tables["invoices"].rows
    assert open_database(replace(database.address)).count_rows("invoices") == 0


def _table(database, name: str):  # type: ignore[no-untyped-def]
    return next(table for table in database.tables() if table.name == name)
