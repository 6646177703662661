"""What a MariaDB server knows of accounts: no part of any database, and in no dump of one."""

from __future__ import annotations

import contextlib
import hashlib
import re

import pymysql

from yellow_ladder.database.mariadb.connect import Connection, rows
from yellow_ladder.database.mariadb.others import OUR_ROLES

_SECRET = re.compile(r"(?i)(IDENTIFIED (?:BY PASSWORD|VIA \S+ USING) )'([^']*)'")
_OF_SERVER = ("mariadb.sys", "PUBLIC")


def accounts(connection: Connection) -> dict[str, str]:
    """Every account of the server, by `account NAME@HOST`, with its rights; nothing where this account may not look.

    Of a password there is no more than a digest of what the server keeps.
    """
    found: dict[str, str] = {}
    with contextlib.suppress(pymysql.Error):
        for name, host in rows(connection, "SELECT User, Host FROM mysql.user ORDER BY 1, 2"):
            if name in _OF_SERVER or str(name).startswith(OUR_ROLES):
                continue
            with contextlib.suppress(pymysql.Error):
                whose, words = ("%s@%s", (name, host)) if host else ("%s", (name,))
                granted = [str(line) for (line,) in rows(connection, f"SHOW GRANTS FOR {whose}", words)]
                kept = sorted(_without_secret(line) for line in granted if OUR_ROLES not in line)
                found[f"account {name}@{host}"] = "; ".join(kept)
    return found


def _without_secret(line: str) -> str:
    return _SECRET.sub(lambda seen: seen[1] + hashlib.sha256(seen[2].encode()).hexdigest()[:16], line)
