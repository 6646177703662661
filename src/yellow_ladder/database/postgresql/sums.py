"""Sums of a table's columns, worked out by the server, so that no row has to leave it.

The hash is the server's own for text, of 64 bits with a seed. With the collation C it reads the bytes alone. It has not
changed since version 11, when it came: rows of tables that are partitioned by hash lie where it says, and stay there
when a data folder is taken into a newer version. The bytes are those of the server's encoding, so that only databases
in UTF-8 are summed by it; and before every use it must give what it gave when this was written.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from psycopg import sql

from yellow_ladder.database.port import Sums
from yellow_ladder.database.postgresql.connect import Connection, command, plain

_WAY = "hashtextextended"
_LOOKED_AT, _IN_ORDER = 64, 0.9
_KNOWN = """
SELECT current_setting('server_encoding') = 'UTF8' AND hashtextextended('' COLLATE "C", 0) = -6939563903564495251
  AND hashtextextended('Käthe lies at quay 7' COLLATE "C", 4611686018427387904) = 1787594486303763044"""


def has_our_hash(connection: Connection) -> bool:
    """Whether this server's hash is the one that earlier sums were made with."""
    row = connection.execute(plain(_KNOWN)).fetchone()
    return bool(row and row[0])


def summed(connection: Connection, text: str, names: Sequence[str], key: Sequence[str]) -> Sums:
    """Sums over the rows of a selection, whose columns are named `f0`, `f1`, … in its text.

    Values are hashed as the server writes them. Those of the key are hashed one into the other, and what comes out is
    the seed of the row's other hashes, so that the same value in another row is another number.
    """
    tie = "0::bigint"
    for name in key:
        place = names.index(name)
        tie = f"hashtextextended(coalesce(v{place}, ''), {tie} # (v{place} IS NULL)::int::bigint)"
    values = ", ".join(f'f{place}::text COLLATE "C" AS v{place}' for place in range(len(names)))
    parts = ", ".join(
        f"count(v{place}), sum(hashtextextended(v{place}, tie)), sum(hashtextextended(v{place}, 0))"
        for place in range(len(names))
    )
    # Without OFFSET the server would put each expression into every place where it is used, and work it out there.
    query = (
        f"SELECT count(*), ARRAY[{parts}]::numeric[] FROM (SELECT *, {tie} AS tie FROM (SELECT {values}"
        f" FROM ({text}) AS q OFFSET 0) AS w OFFSET 0) AS t"
    )
    row = connection.execute(plain(query)).fetchone()
    rows, parts_found = row if row else (0, [])
    found = [int(one or 0) for one in parts_found]
    columns = tuple((found[at], found[at + 1] % 2**64, found[at + 2] % 2**64) for at in range(0, len(found), 3))
    return Sums(_WAY, int(rows), columns)


def pages(connection: Connection, schema: str, name: str) -> int:
    """How many pages a table has."""
    query = "SELECT pg_relation_size(to_regclass(%s)) / current_setting('block_size')::int"
    row = connection.execute(query, [command("{}.{}", schema, name).as_string(connection)]).fetchone()
    return int(row[0]) if row else 0


def key_ends(connection: Connection, schema: str, name: str, key: str, *, is_known: bool) -> tuple[int, int] | None:
    """The smallest and largest value of a key of one whole number, where rows lie in its order.

    Read in another order than they lie in, a table that does not fit into memory would be read many times over.
    `is_known`: that was found out before.
    """
    table = command("{}.{}", schema, name)
    query = """
        SELECT a.atttypid IN ('int2'::regtype, 'int4'::regtype, 'int8'::regtype)
        FROM pg_attribute AS a WHERE a.attrelid = to_regclass(%s) AND a.attname = %s"""
    row = connection.execute(query, [table.as_string(connection), key]).fetchone()
    if not row or not row[0]:
        return None
    found = connection.execute(command("SELECT min({}), max({}) FROM ONLY ", key, key) + table).fetchone()
    if not found or found[0] is None:
        return None
    low, high = int(found[0]), int(found[1])
    return (low, high) if is_known or _lies_in_order(connection, table, key, low, high) else None


def _lies_in_order(connection: Connection, table: sql.Composed, key: str, low: int, high: int) -> bool:
    """Whether the pages of some rows, taken in the order of the key, nearly all come one after the other."""
    query = (
        plain(
            "SELECT (f.place::text::point)[0] FROM generate_series(%s::bigint, %s::bigint, %s::bigint) AS at CROSS JOIN"
        )
        + command(" LATERAL (SELECT o.ctid AS place FROM ONLY ")
        + table
        + command(" AS o WHERE o.{} >= at.at ORDER BY o.{} LIMIT 1) AS f ORDER BY at.at", key, key)
    )
    step = max(1, (high - low) // _LOOKED_AT)
    places = [int(place) for (place,) in connection.execute(query, [low, high, step]).fetchall()]
    rising = sum(first <= second for first, second in pairwise(places))
    return rising >= _IN_ORDER * (len(places) - 1)
