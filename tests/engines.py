"""Asks database servers by their own drivers, so that tests need not believe the adapters."""

from __future__ import annotations

from typing import Any

import psycopg
import pymysql

from tests.conftest import Demo
from yellow_ladder.demo.servers import USER, PrivateServer

SERVERS = ("postgresql", "mariadb")


def server_of(demo: Demo) -> PrivateServer:
    assert demo.prepared.server is not None
    return demo.prepared.server


def connect(demo: Demo, database: str = "") -> Any:
    """A connection of somebody else's: whatever it does is kept at once."""
    server = server_of(demo)
    name = database or demo.site().addresses()[0].database
    if server.engine == "postgresql":
        return psycopg.connect(
            host="127.0.0.1", port=server.port, user=USER, password=server.password, dbname=name, autocommit=True
        )
    return pymysql.connect(
        host="127.0.0.1", port=server.port, user=USER, password=server.password, database=name, charset="utf8mb4",
        autocommit=True, ssl_disabled=True,
    )  # fmt: skip


def ask(demo: Demo, *statements: str, database: str = "") -> list[tuple[Any, ...]]:
    """Run statements; the rows of the last one."""
    connection = connect(demo, database)
    try:
        found: list[tuple[Any, ...]] = []
        with connection.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
                found = list(cursor.fetchall()) if cursor.description else []
        return found
    finally:
        connection.close()


def databases_on(demo: Demo) -> set[str]:
    """Every database of the server."""
    if server_of(demo).engine == "postgresql":
        return {str(name) for (name,) in ask(demo, "SELECT datname FROM pg_database", database="postgres")}
    return {str(name) for (name,) in ask(demo, "SHOW DATABASES")}
