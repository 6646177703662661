"""The data layer: a URL decides which driver is used; SQL with named parameters in between."""

import sqlite3


def _connect_sqlite(rest):
    connection = sqlite3.connect(f"file:{rest}?mode=rw", uri=True, timeout=10)
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


CONNECT = {"sqlite": _connect_sqlite}


class Store:
    """Runs SQL on a fresh connection each time, so that threads never share one."""

    def __init__(self, url):
        kind, _, rest = url.partition("://")
        if kind not in CONNECT:
            raise SystemExit(f"quaybook: no driver for the database {kind}")
        self.open = lambda: CONNECT[kind](rest)

    def rows(self, sql, values=()):
        connection = self.open()
        try:
            return connection.execute(sql, values).fetchall()
        finally:
            connection.close()

    def value(self, sql, values=()):
        rows = self.rows(sql, values)
        return rows[0][0] if rows else None

    def run(self, sql, values=()):
        connection = self.open()
        try:
            with connection:
                connection.execute(sql, values)
        finally:
            connection.close()
