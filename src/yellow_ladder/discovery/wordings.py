"""Where a database is, in the many wordings that drivers take: URLs, keywords, a data source's name."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlsplit

_ENGINES = {
    "postgres": "postgresql", "postgresql": "postgresql", "pgsql": "postgresql", "mysql": "mysql", "mariadb": "mariadb"
}  # fmt: skip
_URL = re.compile(r"^(?:jdbc:)?(postgres(?:ql)?|mysql|mariadb)(?:\+\w+)?://", re.IGNORECASE)
_FIELDS = {
    "host": "host", "hostname": "host", "server": "host", "data source": "host", "port": "port", "user": "user",
    "username": "user", "uid": "user", "user id": "user", "password": "password", "pwd": "password",
    "dbname": "name", "database": "name", "initial catalog": "name", "unix_socket": "socket", "socket": "socket",
}  # fmt: skip
# `host=127.0.0.1 dbname=quaybook`, `pgsql:host=127.0.0.1;dbname=quaybook`, `Server=127.0.0.1;Database=quaybook;Uid=…`
_SOURCE = re.compile(r"^(?:(mysql|mariadb|pgsql|postgresql):)?(?=[a-z_ ]+=)", re.IGNORECASE)
_KEYWORD = re.compile(r"\s*([A-Za-z_]+(?: [A-Za-z]+)?)\s*=\s*(?:'((?:[^'\\]|\\.)*)'|([^\s;']*))\s*(?:;|\s|$)")
# `quaybook:secret@unix(/run/mysqld/mysqld.sock)/quaybook?parseTime=true`
_IN_BRACKETS = re.compile(r"^(?:([^:@/()\s]+)(?::([^\s]*))?@)?(tcp|unix)\(([^()\s]*)\)/([\w-]+)(?:\?\S*)?$")
_LONGEST = 2_000
FOLDERS_OF_SOCKETS = [Path("/run/postgresql"), Path("/var/run/postgresql"), Path("/tmp")]  # noqa: S108  looked at
USUAL_SOCKETS = [Path("/run/mysqld/mysqld.sock"), Path("/var/lib/mysql/mysql.sock")]
_USUAL_PORT = "5432"


def fields_of(value: str) -> dict[str, str]:
    """`engine`, `name`, `host`, `port`, `user`, `password`, `socket` as far as a text says them; nothing where it says
    nothing of a server's database.
    """
    if len(value) > _LONGEST:
        return {}
    url = _URL.match(value)
    found = _of_url(value, url[1]) if url else _of_keywords(value) or _of_brackets(value)
    if found.get("engine") == "postgresql" and not found.get("name"):
        found["name"] = found.get("user", "")  # as the server's own programs take it
    return {field: one for field, one in found.items() if one} if found.get("name") else {}


def _of_url(value: str, engine: str) -> dict[str, str]:
    try:
        parts = urlsplit(value.removeprefix("jdbc:"))
        port = parts.port
    except ValueError:
        return {}
    found = {_FIELDS[key.lower()]: one for key, one in parse_qsl(parts.query) if key.lower() in _FIELDS}
    # The host is taken as it is written: it may be the path of a socket, whose capitals count.
    where = parts.netloc.rpartition("@")[2]
    host = unquote(where.removesuffix(f":{port}") if port else where.removesuffix(":"))
    said = {
        "engine": _ENGINES[engine.lower()], "name": unquote(parts.path.lstrip("/")), "host": host,
        "port": str(port or ""), "user": unquote(parts.username or ""), "password": unquote(parts.password or ""),
    }  # fmt: skip
    return {**found, **{field: one for field, one in said.items() if one}}


def _of_keywords(value: str) -> dict[str, str]:
    begins = _SOURCE.match(value)
    if begins is None:
        return {}
    found, at = dict[str, str](), begins.end()
    while at < len(value):
        pair = _KEYWORD.match(value, at)
        if pair is None:
            return {}
        field = _FIELDS.get(pair[1].lower(), "")
        if field:
            found[field] = re.sub(r"\\(.)", r"\1", pair[2]) if pair[2] is not None else pair[3]
        at = pair.end()
    engine = _ENGINES.get((begins[1] or "").lower(), "")
    if not engine and ";" not in value and "dbname" in value:
        engine = "postgresql"
    return {**found, "engine": engine} if found.keys() & {"name", "host"} and (engine or len(found) > 1) else {}


def _of_brackets(value: str) -> dict[str, str]:
    match = _IN_BRACKETS.match(value)
    if match is None:
        return {}
    user, password, kind, where, name = match.groups(default="")
    found = {"engine": "mysql", "user": user, "password": password, "name": name}
    if kind == "unix":
        return {**found, "socket": where}
    host, _, port = where.rpartition(":") if where.rpartition(":")[2].isdigit() else (where, "", "")
    return {**found, "host": host, "port": port}


def url_of(engine: str, fields: Mapping[str, str]) -> str:
    """The URL of a site file for what was found, without the password."""
    host, port, socket = fields.get("host", ""), fields.get("port", ""), fields.get("socket", "")
    host, _, behind = host.partition(":/") if ":/" in host else (host, "", "")
    if behind:  # localhost:/run/mysqld/mysqld.sock
        socket = socket or f"/{behind}"
    elif host.startswith("/"):
        host, socket = "", socket or host
    host = f"[{host}]" if host.count(":") > 1 and not host.startswith("[") else host
    if socket.startswith("/") and host in ("", "localhost", "127.0.0.1", "[::1]"):
        host = ""
    else:
        socket = "" if host else _usual_socket(engine, port)
    socket, port = _as_the_engine_says(engine, socket, port)
    user = fields.get("user", "")
    at = (host or "localhost") if not socket else ""
    if port.isdigit() and not at.endswith(f":{port}"):
        at = f"{at}:{port}"
    who = f"{quote(user)}@" if user else ""
    way = f"?socket={quote(socket)}" if socket else ""
    return f"{engine}://{who}{at}/{quote(fields.get('name', ''), safe='')}{way}"


def _usual_socket(engine: str, port: str) -> str:
    """Where drivers look that are told no host, if a server listens there."""
    if engine != "postgresql":
        return next((str(one) for one in USUAL_SOCKETS if one.is_socket()), "")
    name = f".s.PGSQL.{port or _USUAL_PORT}"
    return next((str(one) for one in FOLDERS_OF_SOCKETS if (one / name).is_socket()), "")


def _as_the_engine_says(engine: str, socket: str, port: str) -> tuple[str, str]:
    """PostgreSQL's sockets are named by their folder and the port, others by their path alone."""
    if not socket:
        return "", port
    path = Path(socket)
    if engine == "postgresql" and path.name.startswith(".s.PGSQL."):
        path, port = path.parent, path.name.rpartition(".")[2]
    if engine == "postgresql":
        return str(path), "" if port == _USUAL_PORT else port
    return str(path), ""
