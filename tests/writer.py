"""Somebody who was forgotten: writes to a site's database all the time, and notes every row that was committed.

Run as a program: python -m tests.writer SITE_FILE NOTES WAY. With WAY `anew`, it connects for each row; with `held`, it
keeps its connection. It goes on until it is killed, whatever the database says to it.
"""

from __future__ import annotations

import sqlite3
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psycopg
import pymysql

from yellow_ladder.database import DatabaseAddress
from yellow_ladder.database.secrets import password_of
from yellow_ladder.site.site import load_site

TITLE = "written by the forgotten one"
INSERT = "INSERT INTO notices (posted, title, body) VALUES ('2026-11-26', '{title}', '{number}')"
PAUSE_S = 0.004


def connector(address: DatabaseAddress) -> Callable[[], Any]:
    """How to connect, as an application would: with the engine's driver and nothing else."""
    if address.engine == "sqlite":
        return lambda: sqlite3.connect(address.path, timeout=2)
    password = password_of(address)
    if address.engine == "postgresql":
        return lambda: psycopg.connect(
            host=address.host, port=address.port, user=address.user, dbname=address.database, password=password
        )
    return lambda: pymysql.connect(
        host=address.host, port=address.port, user=address.user, database=address.database, password=password or "",
        ssl_disabled=True,
    )  # fmt: skip


def main() -> None:
    site_file, notes, way = Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3]
    connect = connector(load_site(site_file).addresses()[0])
    path = load_site(site_file).addresses()[0].path
    number, connection = 0, None
    with notes.open("a") as stream:
        while True:
            number += 1
            try:
                if connection is None:
                    if path != Path() and not path.exists():
                        raise OSError("sqlite would make an empty one")
                    connection = connect()
                cursor = connection.cursor()
                cursor.execute(INSERT.format(title=TITLE, number=number))
                connection.commit()
                stream.write(f"{number}\n")
                stream.flush()
                if way == "anew":
                    connection.close()
                    connection = None
            except Exception:
                try:
                    if connection is not None:
                        connection.close()
                except Exception:
                    stream.flush()
                connection = None
            time.sleep(PAUSE_S)


if __name__ == "__main__":
    main()
