"""How two SQLite files of the same descent differ, row by row. Both are copies that nobody writes to."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

from yellow_ladder.database.port import Table, TableChanges
from yellow_ladder.database.row_changes import ADDED, CHANGED, DELETED, WAS, Difference, write_lines
from yellow_ladder.database.sqlite.look import quoted
from yellow_ladder.database.sqlite.strangers import has_own_order, lend_orders

_ROW_NUMBERS = ("rowid", "_rowid_", "oid")


@contextlib.contextmanager
def both_opened(then: Path, now: Path) -> Iterator[sqlite3.Connection]:
    """Both files on one connection, as `main` and `now`, to be read only."""
    connection = sqlite3.connect(_uri(then), uri=True, isolation_level=None)
    try:
        connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
        connection.execute("ATTACH ? AS now", (_uri(now),))
        for schema in ("main", "now"):
            lend_orders(connection, schema)
        yield connection
    finally:
        connection.close()


def _uri(path: Path) -> str:
    return f"file:{quote(str(path))}?mode=ro&immutable=1"


def count_changes(connection: sqlite3.Connection, then: Table | None, now: Table | None) -> TableChanges:
    """Rows of one table that were added, changed and deleted; a table that is only on one side is all of one kind."""
    name = (now or then or Table("", (), ())).name
    counts = dict.fromkeys((ADDED, CHANGED, DELETED), 0)
    for kind, _, query in _queries(connection, then, now):
        if kind in counts:
            counts[kind] = int(connection.execute(f"SELECT count(*) FROM ({query})").fetchone()[0])
    return TableChanges(name, counts[ADDED], counts[CHANGED], counts[DELETED])


def write_changes(connection: sqlite3.Connection, then: Table | None, now: Table | None, target: Path) -> int:
    """Write these rows as CSV: what happened, then every column. A changed row stands as it is and as it was."""
    with target.open("w", encoding="utf-8", errors="backslashreplace", newline="") as stream:
        target.chmod(0o600)
        return write_lines(stream, _differences(connection, then, now))


def _differences(connection: sqlite3.Connection, then: Table | None, now: Table | None) -> Iterator[Difference]:
    for kind, columns, query in _queries(connection, then, now):
        for row in connection.execute(query):
            yield kind, columns, row


def _queries(
    connection: sqlite3.Connection, then: Table | None, now: Table | None
) -> Iterator[tuple[str, tuple[str, ...], str]]:
    """(what happened, columns, query) for each kind of change."""
    if then is None or now is None:
        only, place, kind = (now, "now", ADDED) if now else (then, "main", DELETED)
        if only:
            yield kind, only.columns, f"SELECT {_listed(only.columns, 'x')} FROM {place}.{quoted(only.name)} AS x"
        return
    key = _key(connection, then, now)
    old, new = f"{_found_by(connection, 'main', then, key)} AS t", f"{_found_by(connection, 'now', now, key)} AS n"
    same = " AND ".join(f"t.{one} IS n.{one}" for one in key)
    shared = [name for name in now.columns if name in then.columns]
    differs = " OR ".join(_differs(quoted(name)) for name in shared) or "0"
    theirs, ours = _listed(now.columns, "n"), _listed(then.columns, "t")
    yield ADDED, now.columns, f"SELECT {theirs} FROM {new} WHERE NOT EXISTS (SELECT 1 FROM {old} WHERE {same})"
    yield CHANGED, now.columns, f"SELECT {theirs} FROM {new} JOIN {old} ON {same} WHERE {differs}"
    yield WAS, then.columns, f"SELECT {ours} FROM {new} JOIN {old} ON {same} WHERE {differs}"
    yield DELETED, then.columns, f"SELECT {ours} FROM {old} WHERE NOT EXISTS (SELECT 1 FROM {new} WHERE {same})"


def _found_by(connection: sqlite3.Connection, schema: str, table: Table, key: Sequence[str]) -> str:
    """Where rows of a table are found by a key: in it, or in a copy by bytes where nobody here knows its order."""
    place = f"{schema}.{quoted(table.name)}"
    if key[0] in _ROW_NUMBERS or not has_own_order(connection, table.name, schema):
        return place
    copy = quoted(f"of {schema}")
    connection.execute(f"DROP TABLE IF EXISTS temp.{copy}")
    connection.execute(f"CREATE TEMP TABLE {copy} AS SELECT * FROM {place}")
    connection.execute(f"CREATE INDEX temp.{quoted(f'key of {schema}')} ON {copy} ({', '.join(key)})")
    return f"temp.{copy}"


def _listed(columns: Sequence[str], of: str) -> str:
    return ", ".join(f"{of}.{quoted(name)}" for name in columns)


def _differs(column: str) -> str:
    """Whatever a column's collation calls equal, other bytes and another type are another value."""
    return f"(n.{column} COLLATE BINARY IS NOT t.{column} COLLATE BINARY OR typeof(n.{column}) <> typeof(t.{column}))"


def _key(connection: sqlite3.Connection, then: Table, now: Table) -> list[str]:
    """What ties a row to its earlier self: the primary key, or the row number, which migrations give both alike."""
    if now.key and now.key == then.key:
        return [quoted(name) for name in now.key]
    taken = {name.lower() for name in (*then.columns, *now.columns)}
    number = next((one for one in _ROW_NUMBERS if one not in taken), "")
    if number:
        with contextlib.suppress(sqlite3.OperationalError):
            connection.execute(f"SELECT {number} FROM now.{quoted(now.name)} LIMIT 0").close()
            connection.execute(f"SELECT {number} FROM main.{quoted(then.name)} LIMIT 0").close()
            return [number]
    return [quoted(name) for name in now.columns if name in then.columns]
