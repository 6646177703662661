"""A quick clone of a MariaDB database: the tables' own files beside their definitions, and the way back from them.

The server exports each table into a file that can be taken away, and takes it in again (the manual's chapter on InnoDB
tablespaces). Copying files and taking them in is limited by the disk; loading a dump builds every index anew.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Sequence
from pathlib import Path

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Client
from yellow_ladder.database.mariadb import move, parts
from yellow_ladder.database.mariadb.connect import Connection, connected, is_mariadb, quoted, rows
from yellow_ladder.database.mariadb.look import granted
from yellow_ladder.durable import private_folder, sync_folder
from yellow_ladder.files.copying import copy_bytes, remove_entry

_TAKES_FILES = "RELOAD"
_STRUCTURE, _EVENTS = "structure.sql.zst", "events.sql.zst"
_PLAIN_NAME = re.compile(r"[A-Za-z0-9_]+")
_LOCAL = ("", "localhost", "127.0.0.1", "::1")


def why_not(address: DatabaseAddress) -> str:
    """Why there is no quick clone of a database, or nothing where there is one."""
    if address.host not in _LOCAL:
        return "the server runs on another machine"
    with connected(address) as connection:
        if not is_mariadb(connection):
            return "only MariaDB's tables are taken as files"
        names = _tables(connection)
        odd = [name for name in (address.database, *names) if not _PLAIN_NAME.fullmatch(name)]
        if odd:
            return f"the name {odd[0]} is written in another form in the file system"
        other = rows(connection, _NOT_EXPORTED)
        if other:
            return f"the table {other[0][0]} is {other[0][1]}, which cannot be taken as a file"
        folder = _folder(connection, address.database)
        has = granted(connection)
    if has and _TAKES_FILES not in has:
        return f"the account lacks the right {_TAKES_FILES}, which taking tables as files needs"
    missing = [name for name in names if not (folder / f"{name}.ibd").is_file()]
    if missing or not os.access(folder, os.R_OK | os.W_OK | os.X_OK):
        return f"this account cannot read and write the server's files in {folder}"
    return ""


_NOT_EXPORTED = """
SELECT table_name, CONCAT('of the engine ', engine) FROM information_schema.tables
WHERE table_schema = DATABASE() AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED', 'SEQUENCE') AND engine <> 'InnoDB'
UNION SELECT table_name, 'system-versioned' FROM information_schema.tables
WHERE table_schema = DATABASE() AND table_type = 'SYSTEM VERSIONED'
UNION SELECT table_name, 'partitioned' FROM information_schema.partitions
WHERE table_schema = DATABASE() AND partition_name IS NOT NULL
UNION SELECT table_name, 'searched by full text' FROM information_schema.statistics
WHERE table_schema = DATABASE() AND index_type IN ('FULLTEXT', 'SPATIAL')"""


def _tables(connection: Connection) -> list[str]:
    query = (
        "SELECT table_name FROM information_schema.tables"
        " WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' ORDER BY 1"
    )
    return [str(name) for (name,) in rows(connection, query)]


def _folder(connection: Connection, database: str) -> Path:
    ((folder,),) = rows(connection, "SELECT @@datadir")
    return Path(str(folder)) / database


def make(address: DatabaseAddress, program: Client, place: Path) -> int:
    """Take definitions and files of every table into a folder; may be repeated. Returns its bytes."""
    remove_entry(place)
    private_folder(place)
    move.dump(address, program, place / _STRUCTURE, _nobody, parts.definitions(address))
    move.dump(address, program, place / _EVENTS, _nobody, parts.only_events(address))
    with connected(address) as connection:
        names = _tables(connection)
        folder = _folder(connection, address.database)
        # The server writes the tables out and keeps them locked until this connection says otherwise or ends.
        if names:
            rows(connection, f"FLUSH TABLES {', '.join(map(quoted, names))} FOR EXPORT")
        for name in names:
            for ending in (".ibd", ".cfg"):
                copy_bytes(folder / (name + ending), place / (name + ending))
        rows(connection, "UNLOCK TABLES")
    sync_folder(place)
    return sum(path.stat().st_size for path in place.iterdir())


def _nobody(_done: int, _total: int) -> None:
    """Without progress: these are small."""


def put_back(address: DatabaseAddress, shell: Client, place: Path) -> None:
    """Make an empty database what the clone holds; the clone stays as it is."""
    name = address.database
    move.load(address, shell, name, place / _STRUCTURE)
    with connected(address) as connection:
        # Tables come in one by one, and a key may point to one that is still empty.
        rows(connection, "SET SESSION foreign_key_checks = 0")
        folder = _folder(connection, name)
        _take_in(connection, _tables(connection), place, folder)
    move.load(address, shell, name, place / _EVENTS)


def _take_in(connection: Connection, names: Sequence[str], place: Path, folder: Path) -> None:
    owner = folder.stat()
    for name in names:
        rows(connection, f"ALTER TABLE {quoted(name)} DISCARD TABLESPACE")
        for ending in (".ibd", ".cfg"):
            target = folder / (name + ending)
            remove_entry(target)
            copy_bytes(place / (name + ending), target)
            shutil.chown(target, owner.st_uid, owner.st_gid)
            # As the server makes them: it refuses a file that it cannot write to.
            target.chmod(0o660)
        rows(connection, f"ALTER TABLE {quoted(name)} IMPORT TABLESPACE")
        remove_entry(folder / f"{name}.cfg")  # left there, it would keep the database from ever being dropped


def is_there(place: Path) -> bool:
    """Whether a clone lies at a place; whether it is whole is for the journal to say."""
    return (place / _STRUCTURE).is_file()
