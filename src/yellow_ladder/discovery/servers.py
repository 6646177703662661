"""Finds database servers whose data folders lie below an application's folder, and proposes them for the site file."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

import tomlkit

from yellow_ladder import nolinks
from yellow_ladder.accounts import account_name
from yellow_ladder.database.clusters import clusters_among
from yellow_ladder.files.reading import read_regular

_STANDARD_PORT = 5432


@dataclass(frozen=True, slots=True)
class FoundServer:
    """A data folder, relative to root; the engine that made it, whether a server is at work in it, and its address as
    far as it is known, with `NAME` for a database.
    """

    folder: str
    engine: str
    is_live: bool
    url: str
    account: str


def find_servers(root: Path, files: Iterable[str]) -> list[FoundServer]:
    """The servers whose data folders lie among `files`; nothing is asked of them."""
    found = []
    for cluster in clusters_among(root, files):
        folder = str(cluster.folder.relative_to(root))
        engine = "postgresql" if nolinks.is_there(cluster.folder / "PG_VERSION") else "mariadb"
        url = _address(cluster.folder) if engine == "postgresql" else "mariadb://root@/NAME?socket=/PATH/TO/SOCKET"
        found.append(
            FoundServer(folder, engine, cluster.is_live, url, account_name(nolinks.status_of(cluster.folder).st_uid))
        )
    return found


def _address(folder: Path) -> str:
    """As the server says in its own file while it runs: the fourth line is the port, the fifth a folder of sockets."""
    with contextlib.suppress(OSError, ValueError, IndexError):
        lines = read_regular(folder / "postmaster.pid", cut=True).decode(errors="replace").splitlines()
        port, socket = int(lines[3]), lines[4].strip()
        if socket.startswith("/"):
            shown = f":{port}" if port != _STANDARD_PORT else ""
            return f"postgresql://postgres@{shown}/NAME?socket={socket}"
        return f"postgresql://postgres@127.0.0.1:{port}/NAME"
    return "postgresql://postgres@127.0.0.1/NAME"


def servers_text(servers: Iterable[FoundServer], root: Path, release: str) -> Iterator[str]:
    """Lines of the site file that propose a server; whether it climbs with the site, nobody but a person knows."""
    for number, one in enumerate(servers):
        more = f"-{number + 1}" if number else ""
        programs = _programs(root / release, one.engine)
        lines = [
            f"{one.folder} is the data folder of a database server: no folder of files. Where that server climbs with",
            "this site, this is how it is said; otherwise its data folder has to lie elsewhere.",
            "[[databases]]",
            *([f'name = "server{more}"'] if number else ()),
            f"url = {_text(one.url)}",
            *([f'programs = "{{release}}/{programs}"'] if programs else ()),
            "[[services]]",
            f'name = "server{more}"',
            'kind = "commands" # or "unit", or "process"',
            f"as_user = {_text(one.account)}",
            *_commands(one, programs),
            f'holds = "{f"server{more}" if number else "main"}"',
            f"data_folder = {_text(one.folder)}",
        ]
        yield from (f"# {line if line.isprintable() else ascii(line)[1:-1]}" for line in lines)
        yield ""


def _commands(one: FoundServer, programs: str) -> Iterator[str]:
    if one.engine != "postgresql":
        yield from (f'{key} = ["/path/to/control", "{key}"]' for key in ("start", "stop", "status"))
        return
    control = f"{{release}}/{programs}/pg_ctl" if programs else "/path/to/pg_ctl"
    ways = {"start": ["-w", "-l", "{site}/server.log", "start"], "stop": ["-w", "-m", "fast", "stop"],
            "status": ["status"]}  # fmt: skip
    for key, words in ways.items():
        line = ", ".join(_text(word) for word in (control, "-D", f"{{root}}/{one.folder}", *words))
        yield f"{key} = [{line}]"


def _programs(release: Path, engine: str) -> str:
    """The folder of the release that has the server's own programs."""
    name = {"postgresql": "pg_ctl", "mariadb": "mariadb-dump"}[engine]
    return next((one for one in ("bin", "sbin") if os.access(release / one / name, os.X_OK)), "")


def _text(value: str) -> str:
    return tomlkit.string(value).as_string()
