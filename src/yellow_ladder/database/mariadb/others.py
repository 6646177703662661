"""Keeps other accounts out of a MariaDB database while nobody may write to it.

The server has no door of a single database. What it has are accounts that can be locked: those with rights on this
database and on no other, where the account that the site file names is another one and may lock them. Which were
locked from here, the server remembers as a role that they have: it outlives a kill, and a database that is exchanged.
"""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from typing import TypeAlias

import pymysql

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.mariadb.connect import Connection, connected, is_mariadb, quoted, rows
from yellow_ladder.words import some_of

OUR_ROLES = "yellow_ladder_keeps_out_of_"
Account: TypeAlias = tuple[str, str]
"""Name and host."""

_ACCOUNTS = """
SELECT User, Host, JSON_VALUE(Priv, '$.is_role') IS TRUE, JSON_VALUE(Priv, '$.account_locked') IS TRUE,
       CAST(COALESCE(JSON_VALUE(Priv, '$.access'), 0) AS UNSIGNED) FROM mysql.global_priv"""
_RIGHTS = """
SELECT User, Host, Db, %s LIKE Db FROM (
SELECT User, Host, Db FROM mysql.db WHERE 'Y' IN (Insert_priv, Update_priv, Delete_priv, Create_priv, Drop_priv)
UNION SELECT User, Host, Db FROM mysql.tables_priv WHERE Table_priv RLIKE 'Insert|Update|Delete|Drop') AS given"""
_MAY_LOCK = """
SELECT count(*) FROM information_schema.user_privileges
WHERE grantee = CONCAT("'", REPLACE(CURRENT_USER(), '@', "'@'"), "'") AND privilege_type = 'CREATE USER'"""
_NEEDED = "CREATE USER, CONNECTION ADMIN ON *.* and SELECT ON mysql.*"


@dataclass(frozen=True, slots=True)
class Others:
    """Accounts that may write to a database: those to lock, and those that have to be left alone, with the reason."""

    to_lock: tuple[Account, ...] = ()
    left: tuple[str, ...] = ()


def keep_out(address: DatabaseAddress) -> None:
    """Lock what may be locked, and end the sessions that are there; may be repeated."""
    with connected(address) as connection:
        if is_mariadb(connection):
            with contextlib.suppress(pymysql.Error):  # it has not the rights: `why_in` tells that before
                _lock(connection, address.database)
        for (session,) in rows(
            connection, "SELECT id FROM information_schema.processlist WHERE db = DATABASE() AND id <> CONNECTION_ID()"
        ):
            with contextlib.suppress(pymysql.Error):  # ended by itself, or another account's
                rows(connection, f"KILL CONNECTION {int(session)}")


def let_in(address: DatabaseAddress) -> None:
    """Unlock what was locked from here; may be repeated."""
    role = _role(address.database)
    with connected(address, database="") as connection:
        try:
            known = rows(connection, "SELECT User, Host FROM mysql.roles_mapping WHERE Role = %s", [role])
        except pymysql.Error:
            return  # who may not look has locked nobody
        me = myself(connection)
        for account in known:
            if account != me:
                rows(connection, "ALTER USER IF EXISTS %s@%s ACCOUNT UNLOCK", account)
        if known:
            rows(connection, f"DROP ROLE IF EXISTS {quoted(role)}")


def why_in(address: DatabaseAddress) -> tuple[str, str]:
    """Who may still write while others are kept out, with what would change that; nothing where nobody may."""
    with connected(address) as connection:
        own, apart = "@".join(myself(connection)), "name an account in databases.url that no application uses"
        way = f"{apart}, with the rights on {quoted(address.database)}.* and {_NEEDED}"
        if not is_mariadb(connection):
            return "this server cannot keep others from one database", "see that nothing else writes to it"
        try:
            if not rows(connection, _MAY_LOCK)[0][0]:
                return f"{own} may not lock the accounts of others", way
            others = _others(connection, address.database)
        except pymysql.Error as fault:
            return f"{own} may not see which other accounts there are: {fault.args[-1]}", way
    if others.left:
        return some_of(list(others.left), 3), "see that nothing comes in with it during a climb"
    return ("", "") if others.to_lock else (f"no other account has rights on it: applications come in as {own}", way)


def _lock(connection: Connection, database: str) -> None:
    accounts = _others(connection, database).to_lock
    if not accounts:
        return
    role = quoted(_role(database))
    rows(connection, f"CREATE ROLE IF NOT EXISTS {role}")
    for account in accounts:
        rows(connection, f"GRANT {role.replace('%', '%%')} TO %s@%s", account)
        rows(connection, "ALTER USER %s@%s ACCOUNT LOCK", account)


def _others(connection: Connection, database: str) -> Others:
    """Accounts with nothing but rights of the whole server are its administrators': neither locked nor named."""
    role, me = _role(database), myself(connection)
    known = rows(connection, _ACCOUNTS)
    databases: dict[Account, set[str]] = {}
    is_here: set[Account] = set()
    for user, host, where, covers in rows(connection, _RIGHTS, [database]):
        databases.setdefault((user, host), set()).add(where)
        if covers:
            is_here.add((user, host))
    given = rows(connection, "SELECT User, Host, Role FROM mysql.roles_mapping")
    for _ in given:  # a role may have roles
        for user, host, one in given:
            databases.setdefault((user, host), set()).update(databases.get((one, ""), ()))
            if (one, "") in is_here:
                is_here.add((user, host))
    marked = {(user, host) for user, host, one in given if one == role}
    to_lock, left = [], []
    for user, host, is_role, is_locked, access in known:
        account = (user, host)
        if account not in is_here or account == me or is_role or (is_locked and account not in marked):
            continue
        if access:
            left.append(f"{user}@{host} has rights of the whole server, and is not locked")
        elif any(where.replace("\\_", "_") != database for where in databases[account]):
            left.append(f"{user}@{host} has rights on other databases too, and is not locked")
        else:
            to_lock.append(account)
    return Others(tuple(sorted(to_lock)), tuple(sorted(left)))


def _role(database: str) -> str:
    return f"{OUR_ROLES}{database}"


def myself(connection: Connection) -> Account:
    """The account that a connection is held to be, and the host that it is known with."""
    user, _, host = str(rows(connection, "SELECT CURRENT_USER()")[0][0]).rpartition("@")
    return user, host
