"""A database server that is the site itself: its releases change, its data folder goes along or is made anew."""

from __future__ import annotations

import contextlib
import itertools
import os
import random
import re
import shutil
import subprocess
import sys
import tarfile
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psutil
import psycopg
import pymysql
import pytest

from tests.conftest import need, run_program
from tests.crash_driver import in_child, is_killed_after
from tests.warm import Answer
from yellow_ladder.checks.machine import rooms_for
from yellow_ladder.checks.records import Circumstances
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.database.clusters import server_processes
from yellow_ladder.demo.servers import ACCOUNTS, _program, missing_programs
from yellow_ladder.services import services_of
from yellow_ladder.site.site import load_site

IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
SEED = os.environ.get("YELLOW_LADDER_SEED", "")
ROWS = 200

STORE = {
    "postgresql": """#!/bin/sh -e
bin={bin}
flags="-c listen_addresses= -c unix_socket_directories=$3 -c fsync=off"
case $1 in
start) exec $bin/pg_ctl -w -D "$2" -l "$3/log" -o "$flags" start ;;
stop) exec $bin/pg_ctl -w -D "$2" -m fast stop ;;
status) exec $bin/pg_ctl -D "$2" status ;;
make) $bin/initdb -D "$2" -A trust -U quaybook -E UTF8 --locale=C.UTF-8 --no-sync ;;
export) $bin/pg_dumpall -U quaybook -h "$3" --file="$4/all.sql" ;;
import) $bin/initdb -D "$2" -A trust -U quaybook -E UTF8 --locale=C.UTF-8 --no-sync
    $bin/pg_ctl -w -D "$2" -l "$4/log" -o "-c listen_addresses= -c unix_socket_directories=$4 -c fsync=off" start
    PGOPTIONS="-c default_transaction_read_only=off" $bin/psql -q -U quaybook -h "$4" -d postgres -f "$4/all.sql"
    $bin/pg_ctl -w -D "$2" -m fast stop ;;
esac
""",
    "mariadb": """#!/bin/sh -e
case $1 in
run) exec {bin}/mariadbd --no-defaults --datadir="$2" --socket="$3/socket" --skip-networking \
    --tmpdir="$3/tmp" --pid-file="$3/own.pid" --character-set-server=utf8mb4 ;;
make) mariadb-install-db --no-defaults --datadir="$2" --tmpdir="$3/tmp" \
    --auth-root-authentication-method=normal --skip-test-db ;;
esac
""",
}
SERVICE = {
    "postgresql": """kind = "commands"
start = ["{release}/bin/store", "start", "{root}/data", "{site}/run"]
stop = ["{release}/bin/store", "stop", "{root}/data", "{site}/run"]
status = ["{release}/bin/store", "status", "{root}/data", "{site}/run"]
""",
    "mariadb": """kind = "process"
run = ["{release}/bin/store", "run", "{root}/data", "{site}/run"]
pid_file = "{site}/run/store.pid"
log = "{site}/run/log"
ready = { log_line = "ready for connections" }
""",
}
URL = {
    "postgresql": "postgresql://quaybook@/harbour?socket={place}/run",
    "mariadb": "mariadb://root@/harbour?socket={place}/run/socket",
}
SITE = """format = 1
name = "harbour"
product = "quaybook-store"
root = "store"
placement = "pointer"
run_as = "{account}"

[releases]
source = "releases"

[[versions]]
of = "disk"
file = "current/VERSION"

[[databases]]
url = "{url}"

[[services]]
name = "store"
as_user = "{account}"
holds = "main"
data_folder = "data"
stop_within_s = 30
{service}"""
SHEET = """format = 1
[release]
product = "quaybook-store"
version = "{version}"
{more}"""
# A server that has just counted so may say after its next start that it stands elsewhere: where it was used.
COUNTED = {
    "postgresql": [
        "CREATE TABLE calls (id serial PRIMARY KEY, name varchar(40))",
        "INSERT INTO calls (name) SELECT name FROM berths",
    ],
    "mariadb": [
        "CREATE TABLE calls (id integer AUTO_INCREMENT PRIMARY KEY, name varchar(40))",
        "INSERT INTO calls (name) SELECT name FROM berths",
    ],
}
COPIED = '\n[[remade]]\nfolder = "data"\ncopied = true\n'
EXPORTED = """
[[remade]]
folder = "data"
carries = ["pg_hba.conf"]
export_by = { run = ["{release}/bin/store", "export", "{folder}", "{site}/run", "{exported}"] }
import_by = { run = ["{release}/bin/store", "import", "{folder}", "{site}/run", "{exported}"] }
"""
SAME = '\n[files]\nsame_format = ["data"]\n'
WAYS = [("postgresql", "copied"), ("postgresql", "exported"), ("postgresql", "same"),
        ("mariadb", "copied"), ("mariadb", "same")]  # fmt: skip
SAYS = {"copied": COPIED, "exported": EXPORTED, "same": SAME}


@dataclass(frozen=True)
class Store:
    """A site that is a database server, in a folder that its account can reach."""

    place: Path
    engine: str

    @property
    def root(self) -> Path:
        return self.place / "store"

    @property
    def folder(self) -> Path:
        return self.root / "data"

    @property
    def account(self) -> str:
        return ACCOUNTS[self.engine][0]

    def yl(self, *words: object) -> Answer:
        return run_program(*words, folder=self.place)

    def release(self, version: str, more: str = "", script: str = "") -> None:
        """Pack a release of the server with its sheet beside it."""
        tree = self.place / "packing" / f"quaybook-store-{version}"
        shutil.rmtree(tree.parent, ignore_errors=True)
        (tree / "bin").mkdir(parents=True)
        (tree / "VERSION").write_text(version + "\n")
        bin_folder = str(
            Path(_program(self.engine, {"postgresql": "initdb", "mariadb": "mariadbd"}[self.engine])).parent
        )
        (tree / "bin" / "store").write_text(script or STORE[self.engine].replace("{bin}", bin_folder))
        (tree / "bin" / "store").chmod(0o755)
        with tarfile.open(self.place / "releases" / f"quaybook-store-{version}.tar.gz", "w:gz") as archive:
            archive.add(tree, tree.name)
        sheet = self.place / "releases" / f"quaybook-store-{version}.release.toml"
        sheet.write_text(SHEET.replace("{version}", version).replace("{more}", more))

    def own(self, *words: str) -> None:
        """Let the server's account run its program."""
        script = self.root / "current" / "bin" / "store"
        argv = ["runuser", "-u", self.account, "--", str(script), *words]
        subprocess.run(argv, check=True, capture_output=True, cwd="/")

    def ask(self, *statements: str) -> list[tuple[Any, ...]]:
        """Ask as the server's own account, to which no door is closed."""
        if self.engine == "postgresql":
            options = "-c default_transaction_read_only=off"
            connection: Any = psycopg.connect(
                host=str(self.place / "run"), user="quaybook", dbname="harbour", options=options, autocommit=True
            )
        else:
            socket = str(self.place / "run" / "socket")
            connection = pymysql.connect(unix_socket=socket, user="root", database="harbour", autocommit=True)
        try:
            with connection.cursor() as cursor:
                found: list[tuple[Any, ...]] = []
                for one in statements:
                    cursor.execute(one)
                    found = list(cursor.fetchall()) if cursor.description else []
            return found
        finally:
            connection.close()

    @property
    def rows(self) -> int:
        return int(self.ask("SELECT count(*) FROM berths")[0][0])

    @property
    def version(self) -> str:
        return (self.root / "current" / "VERSION").read_text().strip()

    def kill_server(self) -> None:
        """As a power cut would."""
        there = []
        for pid in server_processes(self.folder):
            with contextlib.suppress(psutil.NoSuchProcess):  # one that ends by itself just now
                there.append(psutil.Process(pid))
                there[-1].kill()
        psutil.wait_procs(there, timeout=10)


@pytest.fixture(scope="session")
def made_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where the servers' data folders lie as they are when a test begins: making one takes longer than most tests."""
    return tmp_path_factory.mktemp("made-once")


@pytest.fixture
def make_store(made_once: Path) -> Iterator[Callable[[str], Store]]:
    """Make sites of that kind; whatever runs there is ended."""
    made: list[Store] = []

    def make(engine: str) -> Store:
        need(missing_programs(engine), f"a test of {engine}")
        place = Path(tempfile.mkdtemp(prefix="quay-store-"))
        place.chmod(0o755)
        store = Store(place, engine)
        made.append(store)
        for name in ("releases", "run", "run/tmp"):
            (place / name).mkdir(mode=0o755)
        store.release("1.0")
        (store.root / "releases").mkdir(parents=True)
        with tarfile.open(place / "releases" / "quaybook-store-1.0.tar.gz") as archive:
            archive.extractall(store.root / "releases", filter="data")
        (store.root / "releases" / "quaybook-store-1.0").rename(store.root / "releases" / "1.0")
        (store.root / "current").symlink_to("releases/1.0")
        store.folder.mkdir(mode=0o700)
        for folder in (store.folder, place / "run", place / "run" / "tmp"):
            shutil.chown(folder, store.account)
        text = SITE.replace("{url}", URL[engine]).replace("{place}", str(place)).replace("{account}", store.account)
        (place / "ladder.toml").write_text(text.replace("{service}", SERVICE[engine]))
        _fill(store, made_once / engine)
        (service,) = services_of(load_site(store.place / "ladder.toml"))
        service.start()
        return store

    yield make
    for store in made:
        store.kill_server()
        shutil.rmtree(store.place)


def _fill(store: Store, as_made: Path) -> None:
    """Lay a server's data folder there, its server stopped."""
    if as_made.exists():
        store.folder.rmdir()
        subprocess.run(["cp", "-a", as_made, store.folder], check=True)
        return
    store.own("make", str(store.folder), str(store.place / "run"))
    (service,) = services_of(load_site(store.place / "ladder.toml"))
    service.start()
    _make_tables(store)
    service.stop()
    subprocess.run(["cp", "-a", store.folder, as_made], check=True)


def _make_tables(store: Store) -> None:
    if store.engine == "mariadb":
        _socket(store, "CREATE DATABASE harbour CHARACTER SET utf8mb4")
    else:
        with psycopg.connect(
            host=str(store.place / "run"), user="quaybook", dbname="postgres", autocommit=True
        ) as connection:
            connection.execute("CREATE DATABASE harbour")
    values = ",".join(f"({number}, 'berth {number}')" for number in range(ROWS))
    store.ask(
        "CREATE TABLE berths (id integer PRIMARY KEY, name varchar(40) NOT NULL)",
        "CREATE VIEW first_berths AS SELECT id, name FROM berths WHERE id < 10",
        f"INSERT INTO berths VALUES {values}",
        *COUNTED[store.engine],
    )


def _socket(store: Store, statement: str) -> None:
    with pymysql.connect(unix_socket=str(store.place / "run" / "socket"), user="root", autocommit=True) as connection:
        connection.cursor().execute(statement)


@pytest.mark.parametrize(("engine", "way"), WAYS)
def test_a_server_climbs_with_its_data_and_comes_back(
    make_store: Callable[[str], Store], engine: str, way: str
) -> None:
    store = make_store(engine)
    store.release("2.0", SAYS[way])
    before, inode = store.ask("SELECT id, name FROM berths ORDER BY 1"), store.folder.stat().st_ino
    answer = store.yl("climb", "--yes")
    assert answer.code == 0, answer.out + answer.err
    assert "no difference in what was compared" in answer.out or "nothing was lost" in answer.out
    assert (store.version, store.ask("SELECT id, name FROM berths ORDER BY 1")) == ("2.0", before)
    assert (store.folder.stat().st_ino == inode) == (way == "same")
    store.ask("INSERT INTO berths VALUES (1000, 'a new one')")
    answer = store.yl("descend", "--yes")
    assert answer.code == 0, answer.out + answer.err
    assert (store.version, store.ask("SELECT id, name FROM berths ORDER BY 1")) == ("1.0", before)
    assert store.folder.stat().st_ino == inode
    (kept,) = (store.place / ".ladder").rglob("*berths.csv")
    assert "a new one" in kept.read_text()
    listed = {"postgresql": "SELECT datname FROM pg_database", "mariadb": "SHOW DATABASES"}[engine]
    assert not [name for (name,) in store.ask(listed) if "ladder" in str(name)], "something of ours was left"
    assert sorted(one.name for one in store.root.iterdir()) == ["current", "data", "releases"]
    store.ask("INSERT INTO berths VALUES (1001, 'let in again')")


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_an_account_that_gets_lost_takes_the_climb_back(make_store: Callable[[str], Store], engine: str) -> None:
    """It is in no database, and nothing else would tell."""
    store = make_store(engine)
    made = {
        "postgresql": ["CREATE ROLE clerk LOGIN PASSWORD 'for-tests'", "ALTER ROLE clerk SET work_mem = '5MB'"],
        "mariadb": [
            "CREATE USER clerk@localhost IDENTIFIED BY 'for-tests'",
            "GRANT SELECT ON harbour.* TO clerk@localhost",
        ],
    }
    store.ask(*made[engine])
    client = {
        "postgresql": f"psql -q -h {store.place}/run -U quaybook -d harbour -c",
        "mariadb": f"mariadb --socket={store.place}/run/socket -u root harbour -e",
    }[engine]
    change = {
        "postgresql": ["DROP ROLE clerk", "ALTER ROLE clerk PASSWORD 'another'"],
        "mariadb": ["DROP USER clerk@localhost", "REVOKE SELECT ON harbour.* FROM clerk@localhost"],
    }[engine]
    command = ""
    for statement, said in zip(change, ("is gone", "is not as before"), strict=True):
        shell = f'run = ["/bin/sh", "-c", "{client} \\"{statement}\\""]'
        command = f'[[commands]]\nname = "drops"\nat = "after-migrations"\n{shell}\n'
        store.release("2.0", f"{COPIED}\n{command}")
        answer = store.yl("climb", "--yes")
        assert answer.code == 1, answer.out + answer.err
        told = " ".join(answer.err.split())
        assert "the account clerk" in told
        assert said in told
        assert "for-tests" not in answer.out + answer.err
        assert (store.version, store.rows) == ("1.0", ROWS)
    name = {"postgresql": "clerk", "mariadb": "clerk@localhost"}[engine]
    declared = f'[[contract]]\ndefinition_changed = ["account {name}"]\n'
    store.release("2.0", f"{COPIED}\n{command}\n{declared}")
    answer = store.yl("climb", "--yes")
    assert answer.code == 0, answer.out + answer.err
    assert store.yl("descend", "--yes").code == 0
    store.release("2.0", SAYS["exported"] if engine == "postgresql" else COPIED)
    answer = store.yl("climb", "--yes")
    assert answer.code == 0, answer.out + answer.err


def test_what_lies_aside_goes_when_the_climb_is_settled(make_store: Callable[[str], Store]) -> None:
    store = make_store("postgresql")
    store.release("2.0", COPIED)
    assert store.yl("climb", "--yes").code == 0
    assert list((store.place / ".ladder").rglob("PG_VERSION"))
    assert store.yl("settle", "--yes").code == 0
    assert not list((store.place / ".ladder").rglob("PG_VERSION"))
    assert store.rows == ROWS


def test_a_release_says_what_becomes_of_the_data_folder(make_store: Callable[[str], Store]) -> None:
    store = make_store("postgresql")
    store.release("2.0")
    answer = store.yl("check")
    assert answer.code == 1
    assert "2.0 does not say what becomes of data" in " ".join(answer.out.split())
    assert "copied = true" in answer.out
    assert 'same_format = ["data"]' in " ".join(answer.out.split())


def test_room_for_another_data_folder_is_reckoned(make_store: Callable[[str], Store]) -> None:
    """It is no folder of files, and so in no survey."""
    store = make_store("postgresql")
    store.release("2.0", SAME)
    before = in_child(lambda: _room_wanted(store))[0]
    store.release("2.0", COPIED)
    size = sum(one.stat().st_size for one in store.folder.rglob("*") if one.is_file())
    assert in_child(lambda: _room_wanted(store))[0] - before > size


def _room_wanted(store: Store) -> int:
    prospect = look_ahead(load_site(store.place / "ladder.toml"), None, utc_now())
    at = Circumstances(prospect.site, prospect.survey, prospect.releases, prospect.way, utc_now())
    return sum(room.count_bytes for room in rooms_for(at, prospect.route))


def test_databases_that_nobody_names_are_told(make_store: Callable[[str], Store]) -> None:
    store = make_store("postgresql")
    store.release("2.0", COPIED)
    store.ask("CREATE DATABASE tides")
    answer = store.yl("check")
    assert answer.code == 0, answer.out
    assert "databases that are not named, and not compared: tides" in " ".join(answer.out.split())


def test_a_server_that_does_not_start_takes_nothing_along(make_store: Callable[[str], Store]) -> None:
    store = make_store("postgresql")
    inode = store.folder.stat().st_ino
    script = "#!/bin/sh\nif [ $1 = status ]; then exit 3; fi\necho the lamp is broken; exit 1\n"
    store.release("2.0", COPIED, script)
    answer = store.yl("climb", "--yes")
    assert answer.code == 1, answer.out + answer.err
    assert "the lamp is broken" in answer.err
    assert (store.version, store.rows, store.folder.stat().st_ino) == ("1.0", ROWS, inode)


def test_rows_that_others_wrote_to_the_newer_server_are_kept(make_store: Callable[[str], Store]) -> None:
    """No door keeps the server's own account out; the climb fails, and its row is in a copy."""
    store = make_store("postgresql")
    words = f"psql -q -h {store.place}/run -U quaybook -d harbour"
    writes = f"""
[[commands]]
name = "a forgotten writer"
at = "before-migrations"
run = ["/bin/sh", "-c", "{words} -c \\"INSERT INTO berths VALUES (4711, 'late')\\""]

[[commands]]
name = "fails"
at = "after-migrations"
run = ["/bin/false"]
"""
    store.release("2.0", COPIED + writes)
    answer = store.yl("climb", "--yes")
    assert answer.code == 1, answer.out + answer.err
    assert "what main held is kept whole" in " ".join((answer.out + answer.err).split())
    assert (store.version, store.rows) == ("1.0", ROWS)
    (whole,) = (store.place / ".ladder").rglob("whole-main.pgdump")
    listed = subprocess.run(["pg_restore", "-f", "-", str(whole)], check=True, capture_output=True, text=True).stdout
    assert "4711\tlate" in listed


def test_a_newer_server_that_is_broken_keeps_nobody_from_going_back(make_store: Callable[[str], Store]) -> None:
    """What users have written to it is in its data folder, which is kept whole."""
    store = make_store("postgresql")
    store.release("2.0", COPIED)
    assert store.yl("climb", "--yes").code == 0
    store.ask("INSERT INTO berths VALUES (5000, 'after')", "CHECKPOINT")
    store.kill_server()
    script = store.root / "releases" / "2.0" / "bin" / "store"
    script.write_text("#!/bin/sh\nif [ $1 = status ]; then exit 3; fi\necho the lamp is broken; exit 1\n")
    answer = store.yl("descend", "--yes")
    assert answer.code == 0, answer.out + answer.err
    assert (store.version, store.rows) == ("1.0", ROWS)
    (kept,) = (store.place / ".ladder").rglob("data-folder-of-store")
    assert str(kept) in "".join((answer.out + answer.err).split())
    subprocess.run(["chown", "-R", store.account, str(kept)], check=True)
    for one in (kept, *kept.parents):
        if one.is_relative_to(store.place):
            one.chmod(0o700 if one == kept else 0o755)
    (kept / "postmaster.pid").unlink(missing_ok=True)
    store.own("stop", str(store.folder), str(store.place / "run"))
    store.own("start", str(kept), str(store.place / "run"))
    assert store.ask("SELECT name FROM berths WHERE id = 5000") == [("after",)]
    store.own("stop", str(kept), str(store.place / "run"))


@pytest.mark.parametrize(("engine", "way"), [one for one in WAYS if one[1] != "same"])
def test_a_power_cut_at_any_record_leaves_a_way(make_store: Callable[[str], Store], engine: str, way: str) -> None:
    """Program and server are killed together; the next command starts the server again where it should run."""
    chance, store = random.Random(f"{engine}{way}{SEED}"), make_store(engine)
    store.release("2.0", SAYS[way])
    before = store.ask("SELECT id, name FROM berths ORDER BY 1")
    records = 2 * 21
    # Engines write a few records more or less: those that one of them may not come to are left to a sweep.
    numbers = range(2, records) if IS_WHOLE else sorted(chance.sample(range(2, records - 6), 2))
    tried = 0
    for number, then in zip(numbers, itertools.cycle(["continue", "descend"]), strict=False):
        if not is_killed_after(load_site(store.place / "ladder.toml"), "2.0", number):
            store.yl("descend", "--yes")
            continue
        tried += 1
        if chance.random() < 0.7:
            store.kill_server()
        # After the last record there is nothing to go on with.
        is_done = list_climbs(load_site(store.place / "ladder.toml"))[-1].standing.state is ClimbState.CLIMBED
        words = ("climb", "--continue") if then == "continue" and not is_done else ("descend", "--yes")
        answer = store.yl(*words)
        if "--continue" in words and answer.code == 0:
            assert (store.version, store.ask("SELECT id, name FROM berths ORDER BY 1")) == ("2.0", before), number
            answer = store.yl("descend", "--yes")
        assert answer.code == 0, (number, then, answer.out + answer.err)
        assert (store.version, store.ask("SELECT id, name FROM berths ORDER BY 1")) == ("1.0", before), number
        assert sorted(one.name for one in store.root.iterdir()) == ["current", "data", "releases"], number
        store.ask("INSERT INTO berths VALUES (-1, 'x')", "DELETE FROM berths WHERE id = -1")
    assert tried, (sys.argv, numbers)


def test_a_servers_own_programs_are_taken_where_the_site_file_names_them(make_store: Callable[[str], Store]) -> None:
    store = make_store("postgresql")
    store.release("2.0", COPIED)
    own = store.place / "programs"
    own.mkdir()
    (own / "pg_dump").write_text(f'#!/bin/sh\ntouch {own}/used\nexec {_program("postgresql", "pg_dump")} "$@"\n')
    (own / "pg_dump").chmod(0o755)
    text = (store.place / "ladder.toml").read_text()
    (store.place / "ladder.toml").write_text(
        text.replace("\n\n[[services]]", '\nprograms = "programs"\n\n[[services]]')
    )
    answer = store.yl("backup", "make")
    assert answer.code == 0, answer.out + answer.err
    assert (own / "used").exists()
    (own / "used").unlink()
    shutil.chown(own, store.account)
    answer = store.yl("check")
    assert answer.code == 1
    assert not (own / "used").exists(), "root does not even ask it for its version"
    assert "could be another program by now" in " ".join(answer.out.split())


@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_a_first_site_file_proposes_the_server_and_takes_its_folder_for_no_data(
    make_store: Callable[[str], Store], engine: str
) -> None:
    store = make_store(engine)
    (store.place / "ladder.toml").unlink()
    answer = store.yl("init", "store")
    assert answer.code == 0, answer.err
    assert f"data  (a data folder of {engine}; a server is at work in it)" in answer.out
    text = (store.place / "ladder.toml").read_text()
    assert "data = [" not in text
    assert '# data_folder = "data"' in text
    if engine == "postgresql":  # it says itself where it answers; the rest is as proposed
        head, _, proposal = text.partition("# [[databases]]")
        proposal = "\n".join(line.removeprefix("# ") for line in proposal.partition("\n\n")[0].splitlines())
        for key in ("start", "stop", "status"):
            words = '["{release}/bin/store", "' + key + '", "{root}/data", "{site}/run"]'
            proposal = re.sub(rf"(?m)^{key} = \[[^]]*\]$", f"{key} = {words}", proposal)
        proposal = proposal.replace("postgres@", "quaybook@").replace("NAME", "harbour")
        (store.place / "ladder.toml").write_text(f"{head}\n[[databases]]{proposal}\n")
        store.release("2.0", COPIED)
        seen = store.yl("survey")
        assert f"{2 * ROWS} rows" in seen.out, seen.out + seen.err + (store.place / "ladder.toml").read_text()


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('placement = "pointer"', 'placement = "exchange"', "would be exchanged with all in it"),
        ('holds = "main"\n', "", "holds` none of [[databases]]"),
        ("[[databases]]", '[keep]\ndata = ["data"]\n\n[[databases]]', "once is enough"),
        ('data_folder = "data"', 'data_folder = "current/data"', "where releases come and go"),
    ],
)
def test_what_cannot_be_is_refused(make_store: Callable[[str], Store], old: str, new: str, said: str) -> None:
    store = make_store("postgresql")
    store.release("2.0", COPIED)
    text = (store.place / "ladder.toml").read_text()
    assert old in text
    (store.place / "ladder.toml").write_text(text.replace(old, new))
    answer = store.yl("check")
    assert (answer.code, said in answer.err) == (2, True), answer.err
