"""Reads large tables of SQLite in columns, by Arrow's driver for SQLite: no object is made of a value.

The driver has a SQLite of its own. Two of them in one process would take each other's locks away when they close the
file (fcntl(2)), so nothing else of this process may have the database open meanwhile.

The driver decides a column's type by the first rows, and makes texts or fractions of whole numbers that come with such
later. What it may have turned into something else is found out by asking SQLite for the type beside it: by a column's
affinity (section 3 of its chapter on datatypes) most need no such question. Where values cannot be told exactly, they
are read one by one.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Generator, Sequence
from dataclasses import dataclass

import adbc_driver_manager
import adbc_driver_sqlite
import nanoarrow
import numpy as np

from yellow_ladder.database.columns import Column
from yellow_ladder.database.port import CannotPack, UndecodableText
from yellow_ladder.database.sqlite.look import quoted
from yellow_ladder.database.sqlite.strangers import has_own_order

_CHUNK_ROWS, _CHUNK_BYTES = 16_384, 16 * 1024**2
_SAMPLE_ROWS = 200
_PAD = bytes(8)
_EXACT = 2**53  # below, integers are told apart as float64
_INTEGER, _REAL, _TEXT, _ANY = "integer", "real", "text", "any"


def affinities(connection: sqlite3.Connection, table: str, columns: Sequence[str]) -> list[str]:
    """What each column makes of values that are put into it."""
    query = "SELECT name, type FROM pragma_table_xinfo(?)"
    types = {str(name): str(kind).upper() for name, kind in connection.execute(query, (table,))}
    return [_affinity(types.get(column, "")) for column in columns]


def _affinity(kind: str) -> str:
    if "INT" in kind:
        return _INTEGER
    if any(one in kind for one in ("CHAR", "CLOB", "TEXT")):
        return _TEXT
    if "BLOB" not in kind and any(one in kind for one in ("REAL", "FLOA", "DOUB")):
        return _REAL
    return _ANY


@dataclass(frozen=True, slots=True)
class Wish:
    """What is to be read: columns of a table with their affinities, where (SQL, or nothing); about how many bytes a row
    has, and whether a column begins with nothing but NULL.
    """

    table: str
    columns: Sequence[str]
    kinds: Sequence[str]
    where: str
    width: float
    is_sparse: bool


def wish_for(connection: sqlite3.Connection, table: str, columns: Sequence[str], where: str) -> Wish | None:
    """How to read rows of a table in bulk; None where there are none, or they cannot be."""
    if has_own_order(connection, table):
        return None  # the driver that reads in bulk takes no stand-ins
    kinds = affinities(connection, table, columns)
    connection.text_factory = bytes  # to see how long they are
    query = f"SELECT {', '.join(map(quoted, columns))} FROM {quoted(table)}{where} LIMIT {_SAMPLE_ROWS}"
    sample = connection.execute(query).fetchall()
    if not sample:
        return None
    width = sum(len(one) if isinstance(one, bytes) else 8 for row in sample for one in row) / len(sample)
    is_sparse = any(all(one is None for one in column) for column in zip(*sample, strict=True))
    wish = Wish(table, columns, kinds, where, width, is_sparse)
    return None if _has_bytes_for_texts(connection, wish) else wish


def _has_bytes_for_texts(connection: sqlite3.Connection, wish: Wish) -> bool:
    """Whether bytes stand where texts are expected, which the driver would give as texts. Every text comes before all
    bytes (section 4.1 of that chapter), which is asked far sooner than each value for its type.
    """
    texts = [quoted(name) for name, kind in zip(wish.columns, wish.kinds, strict=True) if kind == _TEXT]
    if not texts:
        return False
    wanted = " OR ".join(f"{name} >= x''" for name in texts)
    also = f"{wish.where} AND" if wish.where else " WHERE"
    query = f"SELECT 1 FROM {quoted(wish.table)}{also} ({wanted}) LIMIT 1"
    return connection.execute(query).fetchone() is not None


def read(uri: str, wish: Wish) -> Generator[list[Column], None, None]:
    """Columns in chunks of bounded memory.

    Raises CannotPack where a value's type cannot be told, UndecodableText for a text that is no UTF-8. What was given
    before that is void.
    """
    rows = max(1, min(_CHUNK_ROWS, int(_CHUNK_BYTES / max(wish.width, 1))))
    skip = int(wish.is_sparse)
    try:
        with (
            adbc_driver_sqlite.connect(uri) as database,
            adbc_driver_manager.AdbcConnection(database) as connection,
            adbc_driver_manager.AdbcStatement(connection) as statement,
        ):
            statement.set_options(**{"adbc.sqlite.query.batch_rows": str(rows)})
            statement.set_sql_query(_query(wish))
            stream, _ = statement.execute_query()
            for batch in nanoarrow.c_array_stream(stream):
                if batch.length > skip:
                    yield _columns_of([_column(part, skip) for part in batch.children], wish.kinds)
                skip = max(0, skip - batch.length)
    except (adbc_driver_manager.Error, RuntimeError) as fault:
        raise CannotPack from fault


def _query(wish: Wish) -> str:
    """Of a sparse table, a value of each column comes first, from which the driver learns its type."""
    names = [*map(quoted, wish.columns)]
    beside = [f"unicode(typeof({name}))" for name, kind in zip(names, wish.kinds, strict=True) if kind == _ANY]
    source = f"{quoted(wish.table)}{wish.where}"
    query = f"SELECT {', '.join([*names, *beside])} FROM {source}"
    if wish.is_sparse:
        also = " AND" if wish.where else " WHERE"
        first = [f"(SELECT {name} FROM {source}{also} {name} IS NOT NULL LIMIT 1)" for name in names]
        query = f"SELECT {', '.join([*first, *('0' for _ in beside)])} UNION ALL {query}"
    return query


def _columns_of(found: Sequence[Column], kinds: Sequence[str]) -> list[Column]:
    beside = iter(found[len(kinds) :])
    return [
        _told_apart(column, next(beside)) if kind == _ANY else _fitting(column, kind)
        for column, kind in zip(found, kinds, strict=False)
    ]


def _column(part: nanoarrow.c_array.CArray, skip: int) -> Column:
    """One column of a chunk, but for as many rows at its beginning."""
    view, form = part.view(), part.schema.format
    if part.offset or form not in _FORMS:
        raise CannotPack
    end = part.length
    present = None
    if part.null_count:
        bits = np.frombuffer(view.buffer(0).unpack_bits(), dtype=np.uint8, count=end)
        present = bits[skip:].astype(np.bool_)
    if form in "lg":
        numbers = np.frombuffer(view.buffer(1), dtype=_FORMS[form], count=end)
        return Column(present, numbers[skip:])
    ends = np.frombuffer(view.buffer(1), dtype=_FORMS[form], count=end + 1).astype(np.int64)
    data = b"".join([bytes(view.buffer(2)), _PAD])
    column = Column(present, None, None, data, ends[skip:-1], np.diff(ends[skip:]), form in "uU")
    if column.is_text:
        _see_text(column)
    return column


# Of Arrow's formats: whole numbers, fractions, texts and bytes, the latter two by the places where they end.
_FORMS = {"l": np.int64, "g": np.float64, "u": np.int32, "U": np.int64, "z": np.int32, "Z": np.int64}


def _see_text(column: Column) -> None:
    """Raise UndecodableText unless every text is UTF-8: all of them together are, and none begins within a letter."""
    try:
        column.data.decode()
    except UnicodeDecodeError as fault:
        raise UndecodableText from fault
    letters = np.frombuffer(column.data, dtype=np.uint8)
    if column.starts is None or column.lengths is None:
        return
    if ((letters[column.starts] & 0xC0 == 0x80) & (column.lengths > 0)).any():
        raise UndecodableText


def _fitting(column: Column, kind: str) -> Column:
    """A column as it is, if its affinity lets nothing else stand in it than the driver took it for."""
    if column.numbers is None:
        if kind == _TEXT and column.is_text:
            return column
    elif column.numbers.dtype == (np.float64 if kind == _REAL else np.int64) and kind != _TEXT:
        return column
    if column.present is not None and not column.present.any():
        return column  # nothing but NULL, which is taken for numbers
    raise CannotPack


def _told_apart(column: Column, types: Column) -> Column:
    """A column in which anything may stand, by what SQLite says that each value is."""
    codes = types.numbers
    if codes is None:
        raise CannotPack
    there = set(np.unique(codes).tolist()) - {ord("n")}
    if column.numbers is None:
        if there <= {ord("t") if column.is_text else ord("b")}:
            return column
    elif column.numbers.dtype == np.int64:
        if there <= {ord("i")}:
            return column
    elif there <= {ord("r"), ord("i")}:
        whole = codes == ord("i")
        if not (np.abs(column.numbers[whole]) >= _EXACT).any():
            return Column(column.present, column.numbers, whole)
    raise CannotPack
