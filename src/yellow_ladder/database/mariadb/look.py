"""What a MariaDB database holds besides rows, read from `information_schema` and what the server shows of itself."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import pymysql
from pymysql.constants import FIELD_TYPE

from yellow_ladder.database.mariadb import accounts as of_server
from yellow_ladder.database.mariadb.connect import Connection, is_mariadb, quoted, rows
from yellow_ladder.database.port import COUNTER_OF, LEDGER_TABLE, Session, Table, Traits
from yellow_ladder.words import count_of, some_of

PROGRESS_TABLE = "yellow_ladder_progress"
OURS = (LEDGER_TABLE, PROGRESS_TABLE)
_COUNTER = re.compile(r" AUTO_INCREMENT=\d+")
_BASE = ("BASE TABLE", "SYSTEM VERSIONED")
_NEEDED = ("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX", "REFERENCES", "LOCK TABLES",
           "CREATE VIEW", "SHOW VIEW", "TRIGGER", "CREATE ROUTINE", "ALTER ROUTINE", "EXECUTE", "EVENT")  # fmt: skip
_BYTES = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry", "point", "linestring",
          "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection")  # fmt: skip


def tables(connection: Connection) -> dict[str, tuple[Table, dict[str, str]]]:
    """(table, type of each column) of every table of the site, by name."""
    names = rows(
        connection,
        "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
        " AND table_type IN %s AND table_name NOT IN %s ORDER BY binary table_name",
        (_BASE, OURS),
    )
    columns: dict[str, dict[str, str]] = {}
    for table, column, kind in rows(
        connection,
        "SELECT table_name, column_name, data_type FROM information_schema.columns"
        " WHERE table_schema = DATABASE() ORDER BY table_name, ordinal_position",
    ):
        columns.setdefault(table, {})[column] = kind.lower()
    indexes: dict[str, dict[str, list[tuple[str, str]]]] = {}
    for table, index, column, nullable in rows(
        connection,
        "SELECT table_name, index_name, column_name, nullable FROM information_schema.statistics"
        " WHERE table_schema = DATABASE() AND non_unique = 0 ORDER BY table_name, index_name, seq_in_index",
    ):
        indexes.setdefault(table, {}).setdefault(index, []).append((column, nullable))
    keys = {table: _key_of(found) for table, found in indexes.items()}
    return {n: (Table(n, tuple(columns[n]), keys.get(n, ())), columns[n]) for (n,) in names if n in columns}


def _key_of(indexes: dict[str, list[tuple[str, str]]]) -> tuple[str, ...]:
    """The primary key, or the shortest unique one that is never NULL."""
    fit = [
        (name != "PRIMARY", len(parts), tuple(column for column, _ in parts))
        for name, parts in indexes.items()
        if all(nullable != "YES" for _, nullable in parts)
    ]
    return min(fit)[2] if fit else ()


def expression(column: str, kind: str) -> str:
    """What is selected for a column: FLOAT is printed with six digits unless it is made a DOUBLE first."""
    return f"CAST({quoted(column)} AS DOUBLE)" if kind == "float" else quoted(column)


def binary_order(column: str, kind: str) -> str:
    """What rows are sorted by so that their order is that of the bytes of the text."""
    return in_bytes(quoted(column) if kind in _BYTES else expression(column, kind), kind)


def in_bytes(text: str, kind: str) -> str:
    """The bytes of the text of an SQL expression."""
    return f"CAST({text} AS BINARY)" if kind in _BYTES else f"CAST(CONVERT({text} USING utf8mb4) AS BINARY)"


def query_kinds(connection: Connection, query: str) -> dict[str, str]:
    """The columns of a query's answer, with their types where these decide how they are read."""
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT * FROM ({query}) AS q LIMIT 0")
        return {str(column[0]): _KINDS.get(column[1], "") for column in cursor.description}


_KINDS = {FIELD_TYPE.FLOAT: "float", FIELD_TYPE.BIT: "bit", FIELD_TYPE.GEOMETRY: "geometry"}


accounts = of_server.accounts


def objects(connection: Connection) -> dict[str, str]:
    """Everything that is defined, by `kind name`."""
    found = {f"table {name}": _created(connection, "TABLE", name) for name in tables(connection)}
    found.update(_indexes(connection))
    for kind, query in (
        ("view", "SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE()"),
        ("trigger", "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = DATABASE()"),
        ("event", "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE()"),
        ("procedure", _routines("PROCEDURE")),
        ("function", _routines("FUNCTION")),
        ("sequence", _SEQUENCES),
    ):
        found.update(
            {f"{kind} {name}": _created(connection, kind.upper(), name) for (name,) in rows(connection, query)}
        )
    ((charset, collation),) = rows(
        connection,
        "SELECT default_character_set_name, default_collation_name FROM information_schema.schemata"
        " WHERE schema_name = DATABASE()",
    )
    found["default characters"] = f"{charset} {collation}"
    return dict(sorted(found.items()))


_COUNTS = """
SELECT 'view', count(*) FROM information_schema.views WHERE table_schema = DATABASE()
UNION ALL SELECT 'trigger', count(*) FROM information_schema.triggers WHERE trigger_schema = DATABASE()
UNION ALL SELECT 'event', count(*) FROM information_schema.events WHERE event_schema = DATABASE()
UNION ALL SELECT lower(routine_type), count(*) FROM information_schema.routines
  WHERE routine_schema = DATABASE() GROUP BY 1
UNION ALL SELECT 'index', count(DISTINCT table_name, index_name) FROM information_schema.statistics
  WHERE table_schema = DATABASE() AND table_name NOT IN %s"""


def object_counts(connection: Connection) -> dict[str, int]:
    """How many objects there are of each kind; the server is not asked for the definition of each."""
    return {str(kind): int(count) for kind, count in rows(connection, _COUNTS, (OURS,)) if count}


_SEQUENCES = (
    "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'SEQUENCE'"
)


def _routines(kind: str) -> str:
    return (
        "SELECT routine_name FROM information_schema.routines"
        f" WHERE routine_schema = DATABASE() AND routine_type = '{kind}'"
    )


def _created(connection: Connection, kind: str, name: str) -> str:
    """The statement that would make an object, as the server tells it; the counter of a table is no part of it."""
    (row,) = rows(connection, f"SHOW CREATE {kind} {quoted(name)}")
    places = {"TABLE": 1, "SEQUENCE": 1, "VIEW": 1, "EVENT": 3}
    text = str(row[places.get(kind, 2)])
    mode = {"TRIGGER": str(row[1]), "PROCEDURE": str(row[1]), "FUNCTION": str(row[1]), "EVENT": str(row[1])}.get(kind)
    text = _COUNTER.sub("", text) if kind == "TABLE" else text
    return f"{text} -- {mode}" if mode else text


def _indexes(connection: Connection) -> dict[str, str]:
    found: dict[str, str] = {}
    for table, name, unique, column, length in rows(
        connection,
        "SELECT table_name, index_name, non_unique, column_name, sub_part FROM information_schema.statistics"
        " WHERE table_schema = DATABASE() AND table_name NOT IN %s ORDER BY table_name, index_name, seq_in_index",
        (OURS,),
    ):
        key = f"index {name} on {table}"
        part = f"{column}({length})" if length else str(column)
        found[key] = f"{found[key]}, {part}" if key in found else f"{'' if unique else 'unique '}{part}"
    return found


def positions(connection: Connection) -> dict[str, str]:
    """Where the counter of each table and each sequence stands."""
    if not is_mariadb(connection):
        rows(connection, "SET SESSION information_schema_stats_expiry = 0")
    counters = rows(
        connection,
        "SELECT table_name, auto_increment FROM information_schema.tables WHERE table_schema = DATABASE()"
        " AND auto_increment IS NOT NULL AND table_type <> 'SEQUENCE' AND table_name NOT IN %s ORDER BY 1",
        (OURS,),
    )
    found = {f"{COUNTER_OF}{name}": str(stands) for name, stands in counters}
    for (name,) in rows(connection, _SEQUENCES):
        ((stands,),) = rows(connection, f"SELECT next_not_cached_value FROM {quoted(name)}")
        found[f"sequence {name}"] = str(stands)
    return found


_HISTORIES = """
SELECT t.table_name, coalesce(c.column_name, 'ROW_END'), coalesce(c.data_type, 'timestamp')
FROM information_schema.tables AS t LEFT JOIN information_schema.columns AS c ON c.table_schema = t.table_schema
  AND c.table_name = t.table_name AND c.generation_expression = 'ROW END'
WHERE t.table_schema = DATABASE() AND t.table_type = 'SYSTEM VERSIONED' ORDER BY 1"""
_UNTIL = ", the last until "


def kept_apart(connection: Connection, known: Mapping[str, str]) -> dict[str, str]:
    """The history of versioned tables: how many earlier rows there are, and when the last of them ended."""
    found = {}
    for table, column, kind in rows(connection, _HISTORIES) if is_mariadb(connection) else []:
        key = f"history {table}"
        # Times for most, numbers of transactions for some; rows of today end with the last there is of these.
        end = quoted(column) if kind == "bigint" else f"unix_timestamp({quoted(column)})"
        now = "18446744073709551615" if kind == "bigint" else "unix_timestamp(now(6))"
        until = known.get(key, "").partition(_UNTIL)[2]
        limit = f"{end} <= {until}" if re.fullmatch(r"[\d.]+", until) else f"{end} < {now}"
        ((count, last),) = rows(
            connection, f"SELECT count(*), max({end}) FROM {quoted(table)} FOR SYSTEM_TIME ALL WHERE {limit}"
        )
        some = count_of(int(count), "earlier row")  # some connections give all values as text
        found[key] = f"{some}{_UNTIL}{until or last}" if int(count) or until else "no earlier rows"
        if known.get(key) == "no earlier rows":  # what came since is later history
            found[key] = known[key]
    return found


def _sequences(connection: Connection) -> tuple[str, ...]:
    return tuple(name.removeprefix(COUNTER_OF).removeprefix("sequence ") for name in positions(connection))


def version_of(connection: Connection) -> str:
    """The server's version, as numbers with dots."""
    ((said,),) = rows(connection, "SELECT VERSION()")
    found = re.match(r"\d+(?:\.\d+)*", str(said))
    return found[0] if found else str(said)


def traits(connection: Connection) -> Traits:
    """Version, character set, collations in use, sequences."""
    ((charset, collation),) = rows(connection, "SELECT @@character_set_database, @@collation_database")
    used = rows(
        connection,
        "SELECT DISTINCT collation_name FROM information_schema.columns WHERE table_schema = DATABASE()"
        " AND collation_name IS NOT NULL",
    )
    collations = tuple(sorted({str(collation), *(str(name) for (name,) in used)}))
    engine = "mariadb" if is_mariadb(connection) else "mysql"
    return Traits(engine, version_of(connection), str(charset), collations, _sequences(connection))


def broken_objects(connection: Connection) -> list[str]:
    """Views that can no longer be read."""
    found = []
    query = "SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE() ORDER BY 1"
    for (name,) in rows(connection, query):
        try:
            rows(connection, f"SELECT * FROM {quoted(name)} LIMIT 0")
        except pymysql.Error as fault:
            found.append(f"the view {name}: {fault.args[-1]}")
    return found


_ROWS_ELSEWHERE = ("FEDERATED", "CONNECT", "SPIDER", "S3", "MRG_MYISAM", "BLACKHOLE", "SPHINX", "OQGRAPH")


def beyond_backups(connection: Connection) -> list[str]:
    """Tables of engines that keep their rows elsewhere, and those that the server forgets when it stops."""
    found = rows(
        connection,
        "SELECT table_name, engine FROM information_schema.tables WHERE table_schema = DATABASE()"
        " AND engine IN %s ORDER BY table_name",
        (("MEMORY", *_ROWS_ELSEWHERE),),
    )
    told = [
        f"the table {name} is of the engine {engine}: its rows are kept elsewhere, and a dump may not hold them"
        for name, engine in found
        if engine != "MEMORY"
    ]
    held = [str(name) for name, engine in found if engine == "MEMORY"]
    if held:
        tables = f"the table {held[0]} lies" if len(held) == 1 else f"the tables {some_of(held)} lie"
        told.append(
            f"{tables} in the server's memory: a stop of the server empties {'it' if held[1:] == [] else 'them'}"
        )
    return told


_KEYS = """
SELECT k.constraint_name, k.table_name, k.referenced_table_name, k.column_name, k.referenced_column_name
FROM information_schema.key_column_usage AS k
WHERE k.table_schema = DATABASE() AND k.referenced_table_schema = DATABASE()
ORDER BY k.table_name, k.constraint_name, k.ordinal_position"""


def dangling(connection: Connection) -> list[str]:
    """Rows that refer to rows that do not exist: keys can be switched off while rows are written."""
    keys: dict[tuple[str, str, str], list[tuple[str, str]]] = {}
    for name, table, parent, column, referred in rows(connection, _KEYS):
        keys.setdefault((name, table, parent), []).append((column, referred))
    found = []
    for (_, table, parent), pairs in keys.items():
        joined = " AND ".join(f"c.{quoted(own)} = p.{quoted(other)}" for own, other in pairs)
        filled = " AND ".join(f"c.{quoted(own)} IS NOT NULL" for own, _ in pairs)
        query = (
            f"SELECT count(*) FROM {quoted(table)} AS c LEFT JOIN {quoted(parent)} AS p ON {joined}"
            f" WHERE {filled} AND p.{quoted(pairs[0][1])} IS NULL"
        )
        ((count,),) = rows(connection, query)
        if count:
            found.append(f"{count:,} rows of {table} refer to rows of {parent} that do not exist")
    return found


def sessions(connection: Connection) -> list[Session]:
    """Who else is connected to this database, and for how long a transaction of theirs has changed rows."""
    busy: dict[Any, float] = {}
    try:
        query = (
            "SELECT trx_mysql_thread_id, UNIX_TIMESTAMP() - UNIX_TIMESTAMP(trx_started)"
            " FROM information_schema.innodb_trx WHERE trx_rows_modified > 0"
        )
        busy = {one: float(age) for one, age in rows(connection, query)}
    except pymysql.Error:
        pass  # only an account with the right PROCESS may ask that
    found = rows(
        connection,
        "SELECT id, user, host FROM information_schema.processlist"
        " WHERE db = DATABASE() AND id <> CONNECTION_ID() ORDER BY id",
    )
    return [Session(f"{user} from {host} (server thread {one})", busy.get(one)) for one, user, host in found]


def lacking_rights(connection: Connection) -> list[str]:
    """Rights that a backup and its return need, and that the account does not have."""
    if rows(connection, "SELECT CURRENT_USER()")[0][0] is None:
        return []
    has = granted(connection)
    if not has:
        return []  # its rights come by a role, of which this list says nothing
    return [right for right in _NEEDED if right not in has]


def granted(connection: Connection) -> set[str]:
    """The account's own rights in the database and everywhere; what comes by a role is not among them."""
    return {str(right) for (right,) in rows(connection, _GRANTED)}


def may_make(connection: Connection, database: str) -> bool:
    """Whether the account may make and drop a database of that name, as far as its own rights tell."""
    if not granted(connection):
        return True  # its rights come by a role, or nobody tells
    return {"CREATE", "DROP"} <= {str(right) for (right,) in rows(connection, _GRANTED_ON, (database,))}


_GRANTED_ON = """
SELECT privilege_type FROM information_schema.user_privileges
WHERE grantee = CONCAT("'", REPLACE(CURRENT_USER(), '@', "'@'"), "'")
UNION SELECT privilege_type FROM information_schema.schema_privileges
WHERE grantee = CONCAT("'", REPLACE(CURRENT_USER(), '@', "'@'"), "'") AND %s LIKE table_schema"""

_GRANTED = """
SELECT privilege_type FROM information_schema.user_privileges
WHERE grantee = CONCAT("'", REPLACE(CURRENT_USER(), '@', "'@'"), "'")
UNION SELECT privilege_type FROM information_schema.schema_privileges
WHERE grantee = CONCAT("'", REPLACE(CURRENT_USER(), '@', "'@'"), "'") AND DATABASE() LIKE table_schema"""
