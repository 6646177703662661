"""Databases behind one port: look, read, copy, put back, migrate. SQLite today; the port is made for servers too."""

from yellow_ladder.database.address import DatabaseAddress, parse_address
from yellow_ladder.database.port import Chunk, Database, Span, Table
from yellow_ladder.database.sqlite import SqliteDatabase

__all__ = [
    "Chunk",
    "Database",
    "DatabaseAddress",
    "Span",
    "SqliteDatabase",
    "Table",
    "open_database",
    "parse_address",
]


def open_database(address: DatabaseAddress) -> Database:
    """The adapter for an address; nothing is connected until it is asked something."""
    return SqliteDatabase(address)
