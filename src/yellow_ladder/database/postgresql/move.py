"""Whole PostgreSQL databases: dumped and loaded by the server's own programs, made, described, swapped, dropped."""

from __future__ import annotations

import csv
import os
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from psycopg import errors, sql

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.clients import Call, run_client
from yellow_ladder.database.let_in import for_programs
from yellow_ladder.database.port import Details, OnAmount
from yellow_ladder.database.postgresql.connect import (
    Connection,
    call_of,
    client,
    command,
    connected,
    locked,
    plain,
    where,
)
from yellow_ladder.database.server import size_of_folder
from yellow_ladder.errors import AnswerNo, Problem

# The server cuts longer names without a word (NAMEDATALEN - 1).
LONGEST_NAME = 63
_LOOK_EVERY_S = 0.5
# From this version on, dumps are compressed with zstd: as fast as with nothing, at a fifth of the size.
_ZSTD_FROM = 16
# Settings that are lists of names; their text is a list already (guc_tables.c, GUC_LIST_QUOTE).
_LISTS = ("search_path", "temp_tablespaces", "local_preload_libraries", "session_preload_libraries",
          "shared_preload_libraries", "unix_socket_directories")  # fmt: skip
# Where new databases lie unless told otherwise. Naming it takes a right that not even an owner with CREATEDB has.
_USUAL_TABLESPACE = "pg_default"
_SETTINGS = """
SELECT coalesce(r.rolname, ''), unnest(s.setconfig) FROM pg_db_role_setting AS s
JOIN pg_database AS d ON d.oid = s.setdatabase LEFT JOIN pg_roles AS r ON r.oid = s.setrole
WHERE d.datname = current_database() ORDER BY 1, 2"""
_RIGHTS = """
SELECT CASE WHEN x.grantee = 0 THEN '' ELSE pg_get_userbyid(x.grantee) END, x.privilege_type, x.is_grantable
FROM pg_database AS d, aclexplode(d.datacl) AS x WHERE d.datname = current_database() ORDER BY 1, 2"""
_DESCRIPTION = """
SELECT to_jsonb(d) || jsonb_build_object('owner', pg_get_userbyid(d.datdba), 'encoding_name',
  pg_encoding_to_char(d.encoding), 'tablespace', (SELECT spcname FROM pg_tablespace WHERE oid = d.dattablespace),
  'comment', shobj_description(d.oid, 'pg_database'))
FROM pg_database AS d WHERE d.datname = current_database()"""


def server_major(connection: Connection) -> int:
    """The first number of the server's version."""
    return connection.info.server_version // 10_000


def details_of(connection: Connection) -> dict[str, Any]:
    """What a dump does not say of a database: owner, encoding, locale, rights, settings, comment."""
    ((described,),) = connection.execute(plain(_DESCRIPTION)).fetchall()
    kept = ("owner", "encoding_name", "datcollate", "datctype", "datlocprovider", "daticulocale", "datlocale",
            "daticurules", "datconnlimit", "tablespace", "comment")  # fmt: skip
    found = {key: described[key] for key in kept if described.get(key) is not None}
    settings = [list(row) for row in connection.execute(plain(_SETTINGS))]
    # Set from here for the length of a window, it would shut the site out for ever.
    found["settings"] = [one for one in settings if one != ["", f"{_ONLY_READING}=on"]]
    found["rights"] = None if described["datacl"] is None else [list(row) for row in connection.execute(plain(_RIGHTS))]
    return found


def creation(name: str, details: Details) -> sql.Composed:
    """The statement that makes an empty database of the same kind."""
    parts = [
        # template1 may have been changed here; template0 is as it was delivered and takes any encoding.
        command("CREATE DATABASE {} TEMPLATE template0 OWNER {}", name, str(details["owner"])),
        plain(" ENCODING ") + sql.Literal(details["encoding_name"]),
        plain(" LC_COLLATE ") + sql.Literal(details["datcollate"]),
        plain(" LC_CTYPE ") + sql.Literal(details["datctype"]),
    ]
    if details["tablespace"] != _USUAL_TABLESPACE:
        parts.append(command(" TABLESPACE {}", str(details["tablespace"])))
    provider = details.get("datlocprovider", "c")
    if provider == "i":
        locale = details.get("datlocale") or details.get("daticulocale")
        parts.append(plain(" LOCALE_PROVIDER icu ICU_LOCALE ") + sql.Literal(locale))
        if details.get("daticurules"):
            parts.append(plain(" ICU_RULES ") + sql.Literal(details["daticurules"]))
    elif provider == "b":
        parts.append(plain(" LOCALE_PROVIDER builtin BUILTIN_LOCALE ") + sql.Literal(details["datlocale"]))
    return sql.Composed(parts)


def finishing(name: str, details: Details) -> Iterator[sql.Composed]:
    """The statements that give a database what neither a dump nor a clone brings along."""
    if details.get("datconnlimit", -1) != -1:
        yield command("ALTER DATABASE {} CONNECTION LIMIT ", name) + sql.Literal(int(details["datconnlimit"]))
    if details.get("comment"):
        yield command("COMMENT ON DATABASE {} IS ", name) + sql.Literal(details["comment"])
    for role, setting in details.get("settings", ()):
        key, _, value = setting.partition("=")
        whose = command("ALTER ROLE {} IN DATABASE {} SET ", role, name) if role else None
        values = next(csv.reader([value], skipinitialspace=True), []) if key in _LISTS else [value]
        words = sql.SQL(", ").join(map(sql.Literal, values))
        # A setting of an extension has a dot in its name, and each part is an identifier.
        names = sql.SQL(".").join(map(sql.Identifier, key.split(".")))
        yield (whose or command("ALTER DATABASE {} SET ", name)) + names + plain(" TO ") + words
    if details.get("rights") is not None:
        # A new database lets everybody connect and make temporary tables; the old one may not have.
        yield command("REVOKE ALL ON DATABASE {} FROM PUBLIC", name)
        for role, right, is_grantable in details["rights"]:
            to = sql.Identifier(role) if role else plain("PUBLIC")
            grant = plain("GRANT ") + plain(right) + command(" ON DATABASE {} TO ", name) + to
            yield grant + plain(" WITH GRANT OPTION") if is_grantable else grant


def dump(address: DatabaseAddress, major: int, target: Path, on_amount: OnAmount) -> None:
    """Dump a database into a folder, on all cores, from the moment that the address names."""
    program = client("pg_dump", major, address.programs)
    ways = ["zstd:1", "gzip:1"] if program.major >= _ZSTD_FROM else ["1"]
    more = [f"--snapshot={address.snapshot}"] if address.snapshot else []
    with for_programs(address) as given, call_of(given) as call:
        argv = [program.path, *where(given), "--format=directory", f"--jobs={os.cpu_count() or 1}", f"--file={target}",
                f"--lock-wait-timeout={address.lock_wait_s * 1000:.0f}", *more]  # fmt: skip
        looking = replace(call, look_on=_now_and_then(lambda: on_amount(size_of_folder(target), 0)))
        for way in ways:
            try:
                run_client([*argv, f"--compress={way}"], looking, f"the dump of the database `{address.name}`")
            except AnswerNo as fault:
                said = fault.problems[0].message
                if "statement timeout" in said:  # that is how the program waits for locks
                    raise locked(address, said) from fault
                if way == ways[-1] or "not supported by this build" not in said:
                    raise
            else:
                break


def _now_and_then(tell: Callable[[], None]) -> Callable[[], None]:
    last = 0.0

    def look() -> None:
        nonlocal last
        if time.monotonic() - last > _LOOK_EVERY_S:
            last = time.monotonic()
            tell()

    return look


# Older servers copy files anyway. Newer ones write every page to the log unless they are asked for this.
_STRATEGY_FROM = 15


def clone(address: DatabaseAddress, name: str, details: Details, within_s: float = 15.0) -> None:
    """Have the server copy a database as files, to a name that nobody may connect to. Sessions there are ended."""
    with connected(address, database=maintenance(address)) as connection:
        drop(connection, name)
        statement = command("CREATE DATABASE {} TEMPLATE {} OWNER {}", name, address.database, str(details["owner"]))
        if server_major(connection) >= _STRATEGY_FROM:
            statement += plain(" STRATEGY FILE_COPY")
        end = time.monotonic() + within_s
        while True:
            # An application connects again within milliseconds: end sessions until it is too slow once.
            _end_sessions(connection, [address.database])
            try:
                connection.execute(statement)
            except errors.ObjectInUse:
                if time.monotonic() > end:
                    raise
                time.sleep(0.1)
            else:
                break
        # It is a way back: nobody may write to it, not even by mistake.
        connection.execute(command("ALTER DATABASE {} ALLOW_CONNECTIONS false", name))


def check_dump(address: DatabaseAddress, major: int, source: Path) -> None:
    """Raise AnswerNo unless the server's own program can read the dump's table of contents."""
    run_client(
        [client("pg_restore", major, address.programs).path, "--list", str(source)],
        Call(),
        f"reading the dump {source.name}",
    )


def load(address: DatabaseAddress, major: int, database: str, source: Path) -> None:
    """Load a dump into an empty database, on all cores."""
    program = client("pg_restore", major, address.programs).path
    with for_programs(address) as given, call_of(given) as call:
        argv = [program, *where(given, database), "--exit-on-error", f"--jobs={os.cpu_count() or 1}", str(source)]
        run_client(argv, call, f"loading the dump of the database `{address.name}`")


def maintenance(address: DatabaseAddress) -> str:
    """The database to be connected to while others are made and renamed."""
    # No session can rename or drop the database that it is connected to.
    return "postgres" if address.database != "postgres" else "template1"


def make_empty(address: DatabaseAddress, name: str, details: Details) -> None:
    """Make an empty database in place of one of that name."""
    with connected(address, database=maintenance(address)) as connection:
        drop(connection, name)
        connection.execute(creation(name, details))


def finish(address: DatabaseAddress, name: str, details: Details) -> None:
    """Give a database rights, settings and comment."""
    with connected(address, database=maintenance(address)) as connection:
        connection.execute(command("ALTER DATABASE {} ALLOW_CONNECTIONS true", name))
        for statement in finishing(name, details):
            connection.execute(statement)


def drop(connection: Connection, name: str) -> None:
    """End every session of a database and remove it; may be repeated."""
    # One of the server's own processes may be looking at it just now; without force that is a refusal.
    connection.execute(command("DROP DATABASE IF EXISTS {} WITH (FORCE)", name))


def let_in(address: DatabaseAddress, name: str, *, allowed: bool = True) -> None:
    """Let sessions into a database, or keep every new one out."""
    with connected(address, database=maintenance(address)) as connection:
        if connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [name]).fetchone():
            connection.execute(command("ALTER DATABASE {} ALLOW_CONNECTIONS " + str(allowed).lower(), name))


_ONLY_READING = "default_transaction_read_only"


def only_reading(address: DatabaseAddress, *, only: bool) -> None:
    """Have every new session of others begin as one that only reads, and end those that are there; or undo that.

    Sessions from here say otherwise for themselves. To write, others would have to say so, too.
    """
    with connected(address, database=maintenance(address)) as connection:
        change = command("ALTER DATABASE {} ", address.database)
        if not only:
            connection.execute(change + plain(f"RESET {_ONLY_READING}"))
            return
        connection.execute(change + plain(f"SET {_ONLY_READING} TO on"))
        _end_sessions(connection, [address.database])


def swap(address: DatabaseAddress, fresh: str, gone: str, within_s: float = 15.0) -> None:
    """Rename the database away and another into its place, in one transaction; sessions there are ended.

    Nobody is let into the one that goes: a program that connects again at once would keep it from being renamed.
    """
    let_in(address, address.database, allowed=False)
    end = time.monotonic() + within_s
    while True:
        try:
            with connected(address, database=maintenance(address), autocommit=False) as connection:
                query = "SELECT 1 FROM pg_database WHERE datname = %s"
                names = [name for name in (address.database, fresh) if connection.execute(query, [name]).fetchone()]
                _end_sessions(connection, names)
                if address.database in names:
                    connection.execute(command("ALTER DATABASE {} RENAME TO {}", address.database, gone))
                connection.execute(command("ALTER DATABASE {} RENAME TO {}", fresh, address.database))
                connection.commit()
                return
        except AnswerNo as fault:
            if not isinstance(fault.__cause__, errors.ObjectInUse) or time.monotonic() > end:
                raise
        time.sleep(0.1)


def _end_sessions(connection: Connection, names: list[str]) -> None:
    connection.execute(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = ANY(%s) AND pid <> pg_backend_pid()",
        [names],
    )
    if not connection.autocommit:
        connection.commit()


def lacking(connection: Connection, programs: str) -> list[tuple[str, str]]:
    """What is missing here for a backup and its return."""
    found = []
    major = server_major(connection)
    for program in ("pg_dump", "pg_restore"):
        try:
            client(program, major, programs)
        except AnswerNo as fault:
            found += [(problem.message, problem.remedy) for problem in fault.problems]
    ((user, may, owner, is_owner),) = connection.execute(plain(_MAY)).fetchall()
    if not may:
        found.append(
            (f"the account {user} may not make databases, which going back needs", f"ALTER ROLE {user} CREATEDB")
        )
    if not is_owner:
        found.append(
            (f"the database belongs to {owner}, whose rights {user} does not have", f"GRANT {owner} TO {user}")
        )
    return found


_MAY = """
SELECT current_user, r.rolcreatedb OR r.rolsuper, pg_get_userbyid(d.datdba), pg_has_role(d.datdba, 'MEMBER')
FROM pg_roles AS r, pg_database AS d WHERE r.rolname = current_user AND d.datname = current_database()"""


def exists(address: DatabaseAddress, name: str) -> bool:
    """Whether the server has a database of a name."""
    with connected(address, database=maintenance(address)) as connection:
        return connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [name]).fetchone() is not None


def refuse_unknown(details: Mapping[str, Any], name: str) -> None:
    """Raise AnswerNo where a backup does not say whose the database was."""
    if "owner" not in details:
        text = f"the backup of the database `{name}` does not say whose it was"
        raise AnswerNo(Problem("backup-damaged", text, "use another backup"))
