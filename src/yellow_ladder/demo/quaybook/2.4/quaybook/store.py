"""The data layer: a URL decides which driver is used; SQL with named parameters in between."""

import os
import re
import sqlite3
from urllib.parse import unquote, urlsplit


def _connect_sqlite(rest):
    connection = sqlite3.connect(f"file:{rest}?mode=rw", uri=True, timeout=10)
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


def _server(rest):
    """What a URL behind its two slashes says; the password lies in a file that the environment names."""
    parts = urlsplit("//" + rest)
    with open(os.environ["QUAYBOOK_PASSWORD_FILE"]) as stream:
        password = stream.read().strip()
    return {
        "host": parts.hostname, "port": parts.port, "user": parts.username, "password": password,
        "database": unquote(parts.path[1:]),
    }


def _connect_postgresql(rest):
    import psycopg

    where = _server(rest)
    return psycopg.connect(dbname=where.pop("database"), application_name="quaybook", **where)


def _connect_mariadb(rest):
    import pymysql

    where = _server(rest)
    # Within this machine nobody listens, and reading all the certificates takes longer than a page does.
    return pymysql.connect(charset="utf8mb4", autocommit=False, ssl_disabled=where["host"] == "127.0.0.1", **where)


CONNECT = {"sqlite": _connect_sqlite, "postgresql": _connect_postgresql, "mariadb": _connect_mariadb}


class Store:
    """Runs SQL on a fresh connection each time, so that threads never share one."""

    def __init__(self, url):
        self.kind, _, rest = url.partition("://")
        if self.kind not in CONNECT:
            raise SystemExit(f"quaybook: no driver for the database {self.kind}")
        self.open = lambda: CONNECT[self.kind](rest)

    def _do(self, connection, sql, values):
        if self.kind != "sqlite":
            sql = re.sub(r":(\w+)", r"%(\1)s", sql)
        cursor = connection.cursor()
        cursor.execute(sql, values)
        return cursor

    def rows(self, sql, values=()):
        connection = self.open()
        try:
            return self._do(connection, sql, values).fetchall()
        finally:
            connection.close()

    def value(self, sql, values=()):
        rows = self.rows(sql, values)
        return rows[0][0] if rows else None

    def run(self, sql, values=()):
        connection = self.open()
        try:
            self._do(connection, sql, values)
            connection.commit()
        finally:
            connection.close()
