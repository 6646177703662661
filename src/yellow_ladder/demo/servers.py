"""Private database servers for demonstration and trial: a data folder of their own, a free port, no privileges.

They have nothing to do with a server that the machine runs for others, and are gone when they are dropped.
"""

from __future__ import annotations

import contextlib
import glob
import json
import os
import pwd
import re
import secrets
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import psutil

from yellow_ladder.demo.data import Rows, schema_of
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.processes import run_command

ENGINES = ("postgresql", "mariadb")
ACCOUNTS = {"postgresql": ("postgres", "nobody"), "mariadb": ("mysql", "nobody")}
_PROGRAMS = {"postgresql": ("initdb", "pg_ctl"), "mariadb": ("mariadb-install-db", "mariadbd")}
_FOLDERS = {
    "postgresql": ("/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin"),
    "mariadb": ("/usr/sbin", "/usr/libexec", "/usr/local/sbin"),
}
_PACKAGES = {"postgresql": "postgresql", "mariadb": "mariadb-server"}
USER, NAME = "quaybook", "quaybook"
_WITHIN_S = 60.0
_LONGEST_SOCKET = 107


@dataclass(frozen=True, slots=True)
class PrivateServer:
    """A server that was made here: its folder, its port, and the password of its one account."""

    engine: str
    folder: str
    port: int
    password: str
    account: str
    pid: int = 0

    def url(self, database: str = NAME) -> str:
        """The address of one of its databases, without the password."""
        return f"{self.engine}://{USER}@127.0.0.1:{self.port}/{database}"

    def note(self, path: Path) -> None:
        """Write down what is needed to stop and remove it."""
        path.touch(mode=0o600)
        path.write_text(json.dumps(asdict(self)))


def noted_server(path: Path) -> PrivateServer:
    """The server that was written down."""
    return PrivateServer(**json.loads(path.read_text()))


def missing_programs(engine: str) -> list[str]:
    """Which of an engine's programs this machine does not have."""
    return [name for name in _PROGRAMS[engine] if not _program(engine, name)]


def _program(engine: str, name: str) -> str:
    """A program of the newest version that is installed; some of them do not tell their own."""
    folders = [Path(root) for pattern in _FOLDERS[engine] for root in glob.glob(pattern)]  # noqa: PTH207
    newest = sorted(folders, key=lambda path: [int(n) for n in re.findall(r"\d+", str(path))], reverse=True)
    found = next((folder / name for folder in newest if os.access(folder / name, os.X_OK)), None)
    return str(found) if found else shutil.which(name) or ""


def make_server(engine: str, port: int) -> PrivateServer:
    """Make a server with one account and start it; raises BadInput where it is not installed."""
    missing = missing_programs(engine)
    if missing:
        text = f"the engine {engine} cannot be shown here: there is no program {missing[0]}"
        raise BadInput(Problem("server-missing", text, f"install the package {_PACKAGES[engine]}", missing[0]))
    account = _unprivileged(engine)
    folder = Path(tempfile.mkdtemp(prefix=f"quaybook-{engine}-"))
    server = PrivateServer(engine, str(folder), port, secrets.token_hex(12), account)
    try:
        if account:
            shutil.chown(folder, account)
        {"postgresql": _init_postgresql, "mariadb": _init_mariadb}[engine](server)
        return start_server(server)
    except BaseException:
        remove_server(server)
        raise


def _unprivileged(engine: str) -> str:
    """The account that the server runs as; nothing where that is who we are."""
    if os.geteuid() != 0:
        return ""
    known = {entry.pw_name for entry in pwd.getpwall()}
    return next(name for name in ACCOUNTS[engine] if name in known)


def _as_account(server: PrivateServer) -> list[str]:
    return ["runuser", "-u", server.account, "--"] if server.account else []


def _run(server: PrivateServer, argv: list[str]) -> None:
    done = run_command([*_as_account(server), *argv], folder=Path(server.folder), deadline_s=_WITHIN_S)
    if done.status != 0:
        text = f"{argv[0]} ended with {done.status}: {done.output.strip()[-400:]}"
        raise AnswerNo(Problem("server-failed", text, "run it by hand to see why", argv[0]))


def _init_postgresql(server: PrivateServer) -> None:
    secret = Path(server.folder) / "password"
    secret.touch(mode=0o600)
    secret.write_text(server.password + "\n")
    if server.account:
        shutil.chown(secret, server.account)
    _run(server, [_program("postgresql", "initdb"), "-D", f"{server.folder}/data", "-U", USER, "-E", "UTF8",
                  "--locale=C.UTF-8", "--auth=scram-sha-256", f"--pwfile={secret}", "--no-sync"])  # fmt: skip
    secret.unlink()


def _temporary(server: PrivateServer) -> Path:
    """A temporary folder of the server's own: a MariaDB server that starts removes every `#sql*` file in its one, also
    those of other servers that share it. Anybody's live server on this machine would be harmed.
    """
    place = Path(server.folder) / "tmp"
    if not place.is_dir():
        place.mkdir(mode=0o700)
        if server.account:
            shutil.chown(place, server.account)
    return place


def _init_mariadb(server: PrivateServer) -> None:
    _run(server, [_program("mariadb", "mariadb-install-db"), "--no-defaults", f"--datadir={server.folder}/data",
                  f"--tmpdir={_temporary(server)}", "--auth-root-authentication-method=normal", "--skip-test-db",
                  *([f"--user={server.account}"] if server.account else [])])  # fmt: skip
    # The account is made by the server itself at its first start, from a file that only it can read.
    first = Path(server.folder) / "first.sql"
    first.touch(mode=0o600)
    first.write_text(
        f"CREATE USER {USER}@'127.0.0.1' IDENTIFIED BY '{server.password}';\n"
        f"GRANT ALL ON *.* TO {USER}@'127.0.0.1' WITH GRANT OPTION;\n"
        f"DROP USER IF EXISTS root@localhost;\n"
    )
    if server.account:
        shutil.chown(first, server.account)


def start_server(server: PrivateServer) -> PrivateServer:
    """Start it and wait until it lets its account in."""
    if server.engine == "postgresql":
        # The kernel takes no longer name for a socket; without one the server is reached all the same.
        is_short = len(f"{server.folder}/.s.PGSQL.{server.port}") < _LONGEST_SOCKET
        sockets = f"-c unix_socket_directories={server.folder if is_short else ''}"
        options = f"-p {server.port} -c listen_addresses=127.0.0.1 {sockets} -c fsync=off"
        _run(server, [_program("postgresql", "pg_ctl"), "-D", f"{server.folder}/data", "-w", "-s", "-o", options,
                      "-l", f"{server.folder}/log", "start"])  # fmt: skip
        pid = int((Path(server.folder) / "data" / "postmaster.pid").read_text().split()[0])
        started = PrivateServer(**{**asdict(server), "pid": pid})
    else:
        started = _launch_mariadb(server)
    return started


def _launch_mariadb(server: PrivateServer) -> PrivateServer:
    folder = Path(server.folder)
    first = folder / "first.sql"
    argv = [*_as_account(server), _program("mariadb", "mariadbd"), "--no-defaults", f"--datadir={folder}/data",
            f"--tmpdir={_temporary(server)}",
            f"--socket={folder}/socket", "--bind-address=127.0.0.1", f"--port={server.port}",
            f"--pid-file={folder}/pid", "--character-set-server=utf8mb4", "--skip-name-resolve",
            "--innodb-flush-log-at-trx-commit=0", "--innodb-fast-shutdown=2", "--max-allowed-packet=1G",
            *([f"--init-file={first}"] if first.exists() else [])]  # fmt: skip
    with (folder / "log").open("ab") as log:
        child = subprocess.Popen(argv, cwd=folder, stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                                 start_new_session=True)  # fmt: skip
    end = time.monotonic() + _WITHIN_S
    while not _answers(server):
        if child.poll() is not None or time.monotonic() > end:
            text = f"the server did not start: {(folder / 'log').read_text()[-400:]}"
            raise AnswerNo(Problem("server-failed", text, "look into its log", str(folder / "log")))
        time.sleep(0.05)
    first.unlink(missing_ok=True)
    child.returncode = 0  # it goes on without us
    return PrivateServer(**{**asdict(server), "pid": int((folder / "pid").read_text())})


def _answers(server: PrivateServer) -> bool:
    with contextlib.suppress(Exception), _mariadb(server):
        return True
    return False


def stop_server(server: PrivateServer, *, roughly: bool = False) -> None:
    """Stop it; roughly: as a power cut would."""
    polite = signal.SIGINT if server.engine == "postgresql" else signal.SIGTERM
    _end(server, signal.SIGKILL if roughly else polite)


def _end(server: PrivateServer, how: signal.Signals) -> None:
    with contextlib.suppress(psutil.Error):
        process = psutil.Process(server.pid)
        if not Path(server.folder).name.startswith("quaybook-") or server.folder not in " ".join(process.cmdline()):
            return  # the number is somebody else's by now
        family = [process, *process.children(recursive=True)]
        process.send_signal(how)
        _, alive = psutil.wait_procs(family, timeout=20)
        for one in alive:
            with contextlib.suppress(psutil.Error):
                one.kill()
        psutil.wait_procs(alive, timeout=5)


def remove_server(server: PrivateServer) -> None:
    """Stop it and remove its folder."""
    # A PostgreSQL server that is killed leaves a segment in the machine's shared memory, until the machine starts anew.
    _end(server, signal.SIGQUIT if server.engine == "postgresql" else signal.SIGKILL)
    shutil.rmtree(server.folder, ignore_errors=True)


def make_database(server: PrivateServer, name: str = NAME) -> None:
    """Make an empty database."""
    if server.engine == "postgresql":
        import psycopg

        with psycopg.connect(host="127.0.0.1", port=server.port, user=USER, password=server.password,
                             dbname="postgres", autocommit=True) as connection:  # fmt: skip
            connection.execute(psycopg.sql.SQL("CREATE DATABASE {}").format(psycopg.sql.Identifier(name)))
        return
    with _mariadb(server) as cursor:
        cursor.execute(f"CREATE DATABASE IF NOT EXISTS `{name}` CHARACTER SET utf8mb4")


def fill_server(server: PrivateServer, tables: Iterator[tuple[str, int, Rows]], name: str = NAME) -> None:
    """Give a database Quaybook's schema and rows."""
    if server.engine == "postgresql":
        _fill_postgresql(server, tables, name)
    else:
        _fill_mariadb(server, tables, name)


def _fill_postgresql(server: PrivateServer, tables: Iterator[tuple[str, int, Rows]], name: str) -> None:
    import psycopg

    with psycopg.connect(host="127.0.0.1", port=server.port, user=USER, password=server.password,
                         dbname=name) as connection, connection.cursor() as cursor:  # fmt: skip
        cursor.execute(schema_of("postgresql").encode())
        for table, _, rows in tables:
            with cursor.copy(psycopg.sql.SQL("COPY {} FROM STDIN").format(psycopg.sql.Identifier(table))) as copy:
                for row in rows:
                    copy.write_row(row)
            cursor.execute(
                "SELECT setval(pg_get_serial_sequence(%s, 'id'), (SELECT max(id) FROM {}))".replace(
                    "{}", table
                ).encode(),
                [table],
            )


def _fill_mariadb(server: PrivateServer, tables: Iterator[tuple[str, int, Rows]], name: str) -> None:
    from yellow_ladder.database.sql_text import split_sql

    with _mariadb(server, name) as cursor:
        for statement in split_sql(schema_of("mariadb"), "mariadb"):
            cursor.execute(statement)
        for table, width, rows in tables:
            marks = ", ".join(["%s"] * width)
            cursor.executemany(f"INSERT INTO {table} VALUES ({marks})", list(rows))  # noqa: S608
        cursor.connection.commit()


@contextlib.contextmanager
def _mariadb(server: PrivateServer, name: str | None = None) -> Iterator[Any]:
    import pymysql

    connection = pymysql.connect(host="127.0.0.1", port=server.port, user=USER, password=server.password,
                                 database=name, charset="utf8mb4", connect_timeout=5, ssl_disabled=True)  # fmt: skip
    try:
        with connection.cursor() as cursor:
            yield cursor
    finally:
        connection.close()
