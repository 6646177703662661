"""Databases behind one port: SQLite, PostgreSQL, MariaDB, a room each; beside these, a module for what they share."""

from yellow_ladder.database.address import DatabaseAddress, parse_address
from yellow_ladder.database.port import Chunk, Database, Span, Table

__all__ = [
    "Chunk",
    "Database",
    "DatabaseAddress",
    "Span",
    "Table",
    "open_database",
    "parse_address",
]


def open_database(address: DatabaseAddress) -> Database:
    """The adapter for an address; nothing is connected until it is asked something."""
    # A driver is loaded by who needs it: they take longer to load than most commands take to run.
    if address.engine == "postgresql":
        from yellow_ladder.database.postgresql.database import PostgresqlDatabase

        return PostgresqlDatabase(address)
    if address.engine == "mariadb":
        from yellow_ladder.database.mariadb.database import MariadbDatabase

        return MariadbDatabase(address)
    from yellow_ladder.database.sqlite.database import SqliteDatabase

    return SqliteDatabase(address)
