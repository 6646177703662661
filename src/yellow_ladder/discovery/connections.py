"""Finds the database servers that an application is connected to just now, as the kernel and the servers tell it."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from urllib.parse import quote, urlsplit

import psutil

from yellow_ladder.discovery.databases import USUAL_PORTS, is_kin
from yellow_ladder.discovery.socket_peers import socket_peers
from yellow_ladder.discovery.wordings import url_of
from yellow_ladder.services.mentions import listeners_on

_SERVERS = {"postgres": "postgresql", "mariadbd": "mariadb", "mysqld": "mysql"}
_LOOPBACK = ("127.", "::1", "::ffff:127.")
# A PostgreSQL server writes over the words of each of its processes whom it serves: account, database, host, port.
_SERVES = re.compile(r"^postgres: (?:\S+: )?(\S+) (\S+) \S+\((\d+)\)")
_SERVES_LOCALLY = re.compile(r"^postgres: (?:\S+: )?(\S+) (\S+) \[local\]")


@dataclass(frozen=True, slots=True)
class Connection:
    """A server that a process is connected to, over the network or through a socket; `account` and `database` are
    empty where the server does not tell.
    """

    pid: int
    program: str
    engine: str
    host: str
    port: int
    account: str = ""
    database: str = ""
    socket: str = ""

    @property
    def url(self) -> str:
        """The address of the database, without a password; empty where its name is not known."""
        if self.socket and self.database:
            return url_of(self.engine, {"socket": self.socket, "user": self.account, "name": self.database})
        who = f"{quote(self.account)}@" if self.account else ""
        return f"{self.engine}://{who}{self.host}:{self.port}/{quote(self.database)}" if self.database else ""

    def leads_to(self, url: str) -> bool:
        """Whether the address of a database, from settings, is of this one; its host may be written in many ways. One
        without a port is at the usual one of its own engine.
        """
        parts = urlsplit(url)
        is_named = not self.database or parts.path.lstrip("/") == quote(self.database)
        if self.socket:
            return is_named and is_kin(parts.scheme, self.engine) and parts.hostname in (None, "localhost")
        try:
            port = parts.port
        except ValueError:  # what stands in settings may be no port
            return False
        usual = is_kin(USUAL_PORTS.get(str(self.port), ""), parts.scheme)
        return is_named and (usual if port is None else port == self.port)

    def corrected(self, url: str) -> str:
        """A guessed address of a database; where it leads here, with the engine that is known to be there."""
        is_right = is_kin(urlsplit(url).scheme, self.engine) or not self.leads_to(url)
        return url if is_right else f"{self.engine}:{url.partition(':')[2]}"

    @property
    def said(self) -> str:
        """Who is connected to what, in words."""
        where = self.socket or f"{self.host}:{self.port}"
        return f"process {self.pid} ({self.program}) is connected to {self.engine} at {where}"


def connections_of(pids: Iterable[int]) -> list[Connection]:
    """Each server once that these processes, or those that they have started, are connected to."""
    pids = list(pids)
    return [*_over_the_network(pids), *_through_sockets(pids)]


def _through_sockets(pids: Iterable[int]) -> list[Connection]:
    found: dict[tuple[str, str], Connection] = {}
    for one in socket_peers(pids, _SERVERS):
        with contextlib.suppress(psutil.Error):
            engine = _SERVERS[one.server.name()]
            serves = _SERVES_LOCALLY.match(" ".join(one.server.cmdline())) if engine == "postgresql" else None
            account, database = (serves[1], serves[2]) if serves else ("", "")
            program = psutil.Process(one.pid).name()
            each = Connection(one.pid, program, engine, "", 0, account, database, one.path)
            found.setdefault((one.path, database), each)
    told = {path for path, database in found if database}
    return [one for (path, database), one in found.items() if database or path not in told]


def _over_the_network(pids: Iterable[int]) -> list[Connection]:
    found: dict[tuple[str, int, str], Connection] = {}
    served: dict[int, dict[int, tuple[str, str]]] = {}
    for process, own, host, port in _open(pids):
        server, engine = _server_at(host, port)
        if not engine:
            continue
        if server and server not in served:
            served[server] = dict(_served_by(server))
        account, database = served.get(server, {}).get(own, ("", ""))
        at = "127.0.0.1" if host.startswith(_LOOPBACK) else f"[{host}]" if ":" in host else host
        one = Connection(process.pid, process.name(), engine, at, port, account, database)
        found.setdefault((at, port, database), one)
    told = {(host, port) for host, port, database in found if database}
    return [one for (host, port, database), one in found.items() if database or (host, port) not in told]


def _open(pids: Iterable[int]) -> Iterator[tuple[psutil.Process, int, str, int]]:
    """Every connection of these: the process, its own port, and the other end's address and port."""
    for pid in pids:
        with contextlib.suppress(psutil.Error, OSError):
            process = psutil.Process(pid)
            for one in (process, *process.children(recursive=True)):
                for each in one.net_connections("tcp"):
                    if each.status == psutil.CONN_ESTABLISHED and each.raddr:
                        yield process, int(each.laddr.port), str(each.raddr.ip), int(each.raddr.port)


def _server_at(host: str, port: int) -> tuple[int, str]:
    """The process that listens there, and its kind: on this machine its program says so, elsewhere the usual port."""
    if not host.startswith(_LOOPBACK):
        return 0, USUAL_PORTS.get(str(port), "")
    for pid in listeners_on([port]).get(port, ()):
        with contextlib.suppress(psutil.Error):
            if pid and psutil.Process(pid).name() in _SERVERS:
                return pid, _SERVERS[psutil.Process(pid).name()]
    return 0, ""


def _served_by(server: int) -> Iterator[tuple[int, tuple[str, str]]]:
    """By the client's port, whom a PostgreSQL server serves: account and database. Only its own processes are believed:
    any other may call itself what it likes.
    """
    with contextlib.suppress(psutil.Error):
        for process in psutil.Process(server).children():
            with contextlib.suppress(psutil.Error):
                found = _SERVES.match(" ".join(process.cmdline()))
                if found is not None:
                    yield int(found[3]), (found[1], found[2])
