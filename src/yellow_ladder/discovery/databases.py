"""Finds database settings among flat keys and values. Passwords are recognised so that they can be left out."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote

from yellow_ladder.discovery.wordings import fields_of, url_of
from yellow_ladder.files.reading import read_regular

_A_FILE = re.compile(r"^(?:jdbc:)?(sqlite3?)(?:\+\w+)?:/", re.IGNORECASE)
_ENGINES = {
    "sqlite": "sqlite", "sqlite3": "sqlite", "pdo_sqlite": "sqlite", "postgres": "postgresql", "pgsql": "postgresql",
    "postgresql": "postgresql", "pdo_pgsql": "postgresql", "mysql": "mysql", "mysqli": "mysql", "pdo_mysql": "mysql",
    "mariadb": "mariadb", **dict.fromkeys(("psycopg", "psycopg2", "asyncpg", "pg8000", "pg"), "postgresql"),
    **dict.fromkeys(("pymysql", "mysqldb", "mysqlclient", "aiomysql", "mysql2"), "mysql"),
}  # fmt: skip
# What the last word of a key says; of two that fit, the longer one stands first.
_FIELDS = (
    ("name", ("name", "database", "db", "schema", "path", "file", "default")),
    ("host", ("hostname", "host", "server")),
    ("socket", ("unix_socket", "socket")),
    ("at_once", ("dsn", "url", "uri")),
    ("port", ("port",)),
    ("user", ("username", "user", "login")),
    ("password", ("passwd", "password", "pass", "pw")),
    ("engine", ("engine", "backend", "driver", "dialect", "type", "adapter", "connection")),
)
_ABOUT_DATABASES = re.compile(
    r"(?i)(^|[._])(db|database|databases|sql|mysql|postgres|pgsql|datasource|doctrine)|^db|dbname"
)
# A file that is called so is about nothing else, and its keys need not say it.
_FILE_OF_DATABASES = re.compile(r"(?i)^(?:databases?|db|dbconfig|database[._-]?conf\w*)\.\w+$")
_IN_USE, _OF_AUTHORS = "production", {"development", "test", "default", "defaults", "staging"}
_AN_EXPRESSION = re.compile(r"[()'\"<>]")
_OF_LIBPQ = re.compile(r"(^|\.)PG(HOST|PORT|USER|PASSWORD|DATABASE)$")
_HUMP = re.compile(r"(?<=[a-z0-9])(?=[A-Z])")
_NAMES_IN_KEYS = {
    "postgres": "postgresql",
    "pgdatabase": "postgresql",
    "pgsql": "postgresql",
    "mariadb": "mariadb",
    "mysql": "mysql",
}
USUAL_PORTS = {"5432": "postgresql", "3306": "mariadb"}
_SQLITE_ENDINGS = (".sqlite", ".sqlite3", ".db", ".db3")
SQLITE_MAGIC = b"SQLite format 3\0"


@dataclass(frozen=True, slots=True)
class FoundDatabase:
    """A database: its URL without a password, where its settings stand, and under which key a password does.

    `doubt`: what speaks against its engine, in words.
    """

    url: str
    where: str
    password_key: str = ""
    is_guess: bool = False
    doubt: str = ""

    @property
    def engine(self) -> str:
        """Its engine."""
        return self.url.split(":", 1)[0]


def find_databases(pairs: Iterable[tuple[str, str]], file: Path, root: Path) -> list[FoundDatabase]:
    """What the settings of one file say of databases."""
    pairs = list(pairs)
    found = []
    for key, value in pairs:
        if _A_FILE.match(value):
            found += _of_file(key, value, file, root)
        elif fields := fields_of(value):
            found.append(_said_at_once(key, fields, pairs, file, root))
        elif value.endswith(_SQLITE_ENDINGS) and len(value) < 500:
            path = _existing_file(value, file, root)
            if path is not None:
                found.append(FoundDatabase(sqlite_url(path, root), f"{short_path(file, root)}: {key}"))
    return found or _from_fields(pairs, file, root)


def _of_file(key: str, value: str, file: Path, root: Path) -> list[FoundDatabase]:
    path = _existing_file(unquote(value.removeprefix("jdbc:").split(":", 1)[1].lstrip("/") or ""), file, root)
    path = path or _existing_file("/" + value.split(":", 1)[1].lstrip("/"), file, root)
    return [FoundDatabase(sqlite_url(path, root), f"{short_path(file, root)}: {key}")] if path else []


def _said_at_once(
    key: str, fields: dict[str, str], pairs: Iterable[tuple[str, str]], file: Path, root: Path
) -> FoundDatabase:
    """A database that one text says all of, or all but account and password, which stand beside it then."""
    beside = {} if fields.get("user") else _grouped(pairs, file).get(_field_of(_HUMP.sub("_", key))[0], {})
    fields = {**{name: beside[name][1] for name in ("user",) if name in beside}, **fields}
    password_key = key if fields.get("password") else beside.get("password", ("", ""))[0]
    of_port = USUAL_PORTS.get(fields.get("port", ""), "")
    engine = fields.get("engine") or of_port or "mariadb"
    doubt = ""
    if of_port and not is_kin(engine, of_port):
        doubt = f"its URL says {engine}, and its port {fields['port']} is that of {of_port}"
    is_guess = bool(doubt) or not fields.get("engine")
    where = f"{short_path(file, root)}: {key}"
    return FoundDatabase(url_of(engine, fields), where, password_key, is_guess, doubt)


def _from_fields(pairs: Iterable[tuple[str, str]], file: Path, root: Path) -> list[FoundDatabase]:
    """Host, name, user and so on under keys of their own, grouped by what stands before their last word."""
    pairs = list(pairs)
    # Some name the engine, or its driver, beside the block that has the rest.
    engines = {key.lower().rpartition(".")[0]: value for key, value in pairs if value.lower() in _ENGINES}
    found = []
    for prefix, fields in _grouped(pairs, file).items():
        above = prefix.rpartition(".")[0]
        if above and "engine" not in fields and above in engines and _ABOUT_DATABASES.search(prefix):
            fields["engine"] = (above, engines[above])
        if not _is_name(fields.get("name", ("", ""))[1]) or _AN_EXPRESSION.search(fields.get("host", ("", ""))[1]):
            continue
        if fields["name"][0].lower().endswith("default") and fields["name"][1].lower() in _ENGINES:
            continue  # the connection that is taken where none is named, and no database
        name, where = fields["name"][1], f"{short_path(file, root)}: {fields['name'][0]}"
        path = _existing_file(name, file, root)
        if path is not None:
            found.append(FoundDatabase(sqlite_url(path, root), where))
        elif "host" in fields or "user" in fields or "engine" in fields:
            found.append(_server(fields, name, where))
    return found


def _grouped(pairs: Iterable[tuple[str, str]], file: Path) -> dict[str, dict[str, tuple[str, str]]]:
    """What is said of each database, by what stands before the last word of the keys."""
    groups: dict[str, dict[str, tuple[str, str]]] = {}
    is_of_databases = _FILE_OF_DATABASES.match(file.name) is not None
    for key, value in pairs:
        # `DatabaseHost` is said as `database_host` elsewhere, `PGHOST` by the server's own programs.
        plain = _OF_LIBPQ.sub(r"\1postgres_\2", _HUMP.sub("_", key))
        if is_of_databases or _ABOUT_DATABASES.search(plain):
            prefix, field = _field_of(plain)
            if field:
                groups.setdefault(prefix, {}).setdefault(field, (key, value))
    for key, value in pairs:  # a part of YAML that begins as a copy of another one
        above = groups.get(value.removeprefix("*")) or groups.get("default") or groups.get("defaults")
        if key.endswith(".<<") and above is not None:
            prefix = key.lower().removesuffix(".<<")
            groups[prefix] = {**above, **groups.get(prefix, {})}
    # The others in such a file are of those who write the application.
    others = _OF_AUTHORS if _IN_USE in groups else ()
    return {prefix: fields for prefix, fields in groups.items() if prefix not in others}


def _is_name(value: str) -> bool:
    """Whether a value names something; code that is still to be run, like the words of a form, does not."""
    return value.lower() not in ("", "null", "none") and not _AN_EXPRESSION.search(value)


def _server(fields: dict[str, tuple[str, str]], name: str, where: str) -> FoundDatabase:
    said = fields.get("engine", ("", ""))[1].lower().rsplit(".", 1)[-1]
    host = fields.get("host", ("", ""))[1]
    port = fields.get("port", ("", ""))[1] or (host.partition(":")[2] if host.count(":") == 1 else "")
    named = next((word for word in _NAMES_IN_KEYS if word in fields["name"][0].lower()), "")
    of_key, of_port = _NAMES_IN_KEYS.get(named, ""), USUAL_PORTS.get(port, "")
    engine = _ENGINES.get(said) or of_key or of_port or "mariadb"
    doubt = ""
    if of_key and not is_kin(engine, of_key):
        doubt = f"its engine is said to be {engine}, and its key says {named}"
    elif of_port and not is_kin(engine, of_port):
        doubt = f"its engine is said to be {engine}, and its port {port} is that of {of_port}"
    url = url_of(engine, {**{field: value for field, (_, value) in fields.items()}, "name": name, "port": port})
    is_guess = bool(doubt) or (said not in _ENGINES and not of_key)
    return FoundDatabase(url, where, fields.get("password", ("", ""))[0], is_guess, doubt)


def is_kin(one: str, other: str) -> bool:
    """Whether two names of engines are of the same kind of server."""
    return one == other or {one, other} <= {"mysql", "mariadb"}


def _field_of(key: str) -> tuple[str, str]:
    """What stands before the field in a key, and which field it is."""
    lower = key.lower()
    for field, words in _FIELDS:
        for word in words:
            if lower == word or lower.endswith((f".{word}", f"_{word}")):
                return lower[: -len(word)].rstrip("._"), field
            if lower.endswith(f"db{word}"):  # `dbname` may stand beside `host` as well as beside `dbhost`
                return lower[: -len(word) - 2].rstrip("._"), field
    return "", ""


def _existing_file(value: str, file: Path, root: Path) -> Path | None:
    """A SQLite database that a value names, relative to wherever applications look."""
    value = re.sub(r"^\{\w+\}/|^%\(\w+\)s/|^\$\{?\w+\}?/", "", value.removeprefix("file:")).partition("?")[0]
    for base in (root, file.parent, file.parent.parent):
        path = base / value
        try:
            if read_regular(path, len(SQLITE_MAGIC), cut=True) == SQLITE_MAGIC:
                return path.resolve()
        except (OSError, ValueError):
            continue
    return None


def sqlite_url(path: Path, root: Path) -> str:
    """The URL of a database file, relative to the folder of the site file where that is above it."""
    base = root.resolve()
    if path.is_relative_to(base.parent):
        return f"sqlite:///{quote(str(path.relative_to(base.parent)))}"
    return f"sqlite:///{quote(str(path))}"


def short_path(file: Path, root: Path) -> str:
    """A path relative to root where it lies below it."""
    return str(file.relative_to(root)) if file.is_relative_to(root) else str(file)
