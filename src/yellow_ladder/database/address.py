"""Where a database is, read from a URL."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any
from urllib.parse import SplitResult, parse_qsl, unquote, urlsplit

ENGINES = {"sqlite": "sqlite", "postgresql": "postgresql", "mariadb": "mariadb", "mysql": "mariadb"}
_EXAMPLES = "sqlite:///data/site.db, postgresql://app@127.0.0.1/site or mariadb:///site?socket=/run/mysqld/mysqld.sock"


@dataclass(frozen=True, slots=True)
class DatabaseAddress:
    """One database: its name in the site file, its engine, and the file or the server that it lives in.

    `is_kept`: the file is a backup, which nobody writes to and beside which nothing may be written. `snapshot`: a
    moment that the server keeps for others to read. A password is never in here, only where it can be had. `as_user`:
    the account of this machine that a socket is opened as, for a server that goes by those.
    """

    name: str
    engine: str
    path: Path = Path()
    is_kept: bool = False
    host: str = ""
    port: int = 0
    socket: str = ""
    user: str = ""
    database: str = ""
    password_env: str = ""
    password_file: str = ""
    snapshot: str = ""
    lock_wait_s: float = 30.0
    programs: str = ""
    as_user: str = ""

    @property
    def is_file(self) -> bool:
        """Whether the database is a file of this machine, and no server's."""
        return self.engine == "sqlite"

    @property
    def place(self) -> str:
        """Where it is, for people."""
        if self.is_file:
            return str(self.path)
        at = self.socket or (f"{self.host}:{self.port}" if self.port else self.host) or "this machine"
        return f"{self.database} at {at}"

    def as_record(self) -> dict[str, Any]:
        """As JSON, for a helper process."""
        return {**asdict(self), "path": str(self.path)}

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> DatabaseAddress:
        """Read what `as_record` gave."""
        return DatabaseAddress(**{**record, "path": Path(record["path"])})


def parse_address(name: str, url: str, base: Path, password_env: str = "", password_file: str = "") -> DatabaseAddress:
    """Parse `sqlite:///relative.db` (to `base`), `sqlite:////absolute.db`, `postgresql://user@host:port/name`,
    `mariadb:///name?socket=PATH`; raises ValueError with the reason.
    """
    parts = urlsplit(url)
    engine = ENGINES.get(parts.scheme)
    if engine is None:
        raise ValueError(f"should be a URL like {_EXAMPLES}")
    if engine == "sqlite":
        if parts.netloc or not parts.path.strip("/"):
            raise ValueError("should have three slashes before a relative path and four before an absolute one")
        if password_env or password_file:
            raise ValueError("is a file, which has no password")
        return DatabaseAddress(name, "sqlite", base / unquote(parts.path[1:]))
    server = _server(parts)
    if password_env and password_file:
        raise ValueError("has both password_env and password_file; one of them is enough")
    secret = str(base / password_file) if password_file else ""
    return DatabaseAddress(name, engine, password_env=password_env, password_file=secret, **server)


def _server(parts: SplitResult) -> dict[str, Any]:
    """What a URL says of a server's database; raises ValueError with the reason."""
    if parts.password is not None:
        raise ValueError("has a password in it; take it out, and name password_env or password_file instead")
    database, options = unquote(parts.path[1:]), dict(parse_qsl(parts.query))
    if not database or "/" in database:
        raise ValueError("should end in the name of the database, like postgresql://app@127.0.0.1/site")
    if unknown := options.keys() - {"socket"}:
        raise ValueError(f"has {min(unknown)!r} behind the question mark; only socket=PATH is known")
    try:
        port = parts.port or 0
    except ValueError:
        raise ValueError("has a port that is not a number from 1 to 65535") from None
    if options.get("socket") and parts.hostname:
        raise ValueError("names both a host and a socket")
    user, socket = unquote(parts.username or ""), options.get("socket", "")
    return {"host": parts.hostname or "", "port": port, "socket": socket, "user": user, "database": database}
