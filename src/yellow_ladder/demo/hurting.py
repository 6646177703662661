"""Hurts a demonstration site on purpose, in one of many ways: so that people see what would be found, and how."""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from yellow_ladder.database import Database
from yellow_ladder.database.secrets import password_of
from yellow_ladder.database.selection import Field, Selection
from yellow_ladder.demo.damage import VALUES, ValueDamage
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.site.site import Site
from yellow_ladder.words import count_of

# Where the demonstration has values of a role, and how they are read from an engine's text.
_TARGETS: dict[str, tuple[str, str, Callable[[Any], Any]]] = {
    "text": ("owners", "name", str),
    "note": ("bookings", "remark", str),
    "blank": ("bookings", "remark", str),
    "nothing": ("bookings", "remark", str),
    "money": ("invoices", "amount_cents", int),
    "count": ("invoices", "amount_cents", int),
    "moment": ("bookings", "arrive", str),
}
_OTHERS = {
    "html": ("boats", "name", str),
    "quotes-doubled": ("boats", "name", str),
    "backslashes": ("boats", "name", str),
    "quotes-curled": ("boats", "name", str),
}
_FOR_DAYS = ("next-day", "next-month", "day-and-month", "century")
_NOT_HERE = (
    "rounded", "rounded-once", "cut-to-whole", "null-number", "line-ends", "breaks-for-pages", "breaks-spelt",
    "blanks-inside",
)  # fmt: skip
_ROWS = ("gone", "gone-some", "doubled", "repointed", "swapped-rows")
_DEFINED = {
    "index-lost": ["DROP INDEX bookings_by_arrival{on_bookings}"],
    "index-on-another": [
        "DROP INDEX bookings_by_arrival{on_bookings}", "CREATE INDEX bookings_by_arrival ON bookings (depart)",
    ],
    "view-lost": ["DROP VIEW unpaid"],
    "view-changed": [
        "DROP VIEW unpaid",
        "CREATE VIEW unpaid AS SELECT id, booking_id, amount_cents FROM invoices WHERE paid_on IS NULL AND id > 9",
    ],
    "trigger-lost": ["DROP TRIGGER no_backward_stay{of_bookings}"],
    "column-came": ["ALTER TABLE notices ADD COLUMN surprise integer"],
    "table-came": ["CREATE TABLE leftovers (id integer PRIMARY KEY)"],
    "table-emptied": ["DELETE FROM documents"],
}  # fmt: skip
_FILES = ("file-gone", "file-changed", "file-mode", "file-renamed", "code-edited", "setting-changed")


def kinds() -> tuple[str, ...]:
    """Every kind of damage, values first."""
    return (*(one.kind for one in _values()), *_ROWS, *_DEFINED, *_FILES)


def _values() -> Iterator[ValueDamage]:
    for one in VALUES:
        is_day = one.role == "moment"
        if one.role in _TARGETS and one.kind not in _NOT_HERE and (one.kind in _FOR_DAYS or not is_day):
            yield one


def hurt(site: Site, kind: str) -> str:
    """Do one kind of damage; says what was done. Raises BadInput where there is no such kind, or nothing to hurt."""
    value = next((one for one in _values() if one.kind == kind), None)
    if value is not None:
        return _hurt_values(site, value)
    if kind in _ROWS:
        return _hurt_rows(site, kind)
    if kind in _DEFINED:
        statements = [_for_engine(one, site) for one in _DEFINED[kind]]
        _run(site, statements)
        return "; ".join(statements)
    if kind in _FILES:
        return _hurt_files(site, kind)
    text = f"there is no damage of the kind {kind!r}"
    raise BadInput(Problem("unknown-damage", text, "yl demo --damage list shows every kind"))


def _for_engine(statement: str, site: Site) -> str:
    engine = site.addresses()[0].engine
    return statement.format(
        on_bookings=" ON bookings" if engine == "mariadb" else "",
        of_bookings=" ON bookings" if engine == "postgresql" else "",
    )


def _run(site: Site, statements: Sequence[str]) -> None:
    address = site.addresses()[0]
    if address.is_file:
        with contextlib.closing(sqlite3.connect(address.path, isolation_level=None)) as connection:
            for one in statements:
                connection.execute(one)
        return
    given = {"host": address.host, "port": address.port, "user": address.user, "password": password_of(address) or ""}
    with contextlib.closing(_connect(address.engine, given, address.database)) as connection:
        with connection.cursor() as cursor:
            for one in statements:
                cursor.execute(one)
        connection.commit()


def _connect(engine: str, given: dict[str, Any], database: str) -> Any:
    if engine == "postgresql":
        import psycopg

        return psycopg.connect(**given, dbname=database)
    import pymysql

    return pymysql.connect(**given, database=database, charset="utf8mb4", ssl_disabled=True)


def _rows_of(database: Database, table: str, columns: Sequence[str]) -> list[tuple[Any, ...]]:
    selection = Selection(tuple(Field(one) for one in columns), table)
    rows = [row for chunk in database.read_selected(selection, lenient=True) for row in chunk]
    return sorted(rows, key=lambda row: int(row[0]))


def _literal(value: Any) -> str:
    return "NULL" if value is None else str(value) if isinstance(value, int) else "'" + value.replace("'", "''") + "'"


def _target(damage: ValueDamage) -> tuple[str, str, Callable[[Any], Any]]:
    return _OTHERS.get(damage.kind) or _TARGETS[damage.role]


def _hurt_values(site: Site, damage: ValueDamage) -> str:
    table, column, read = _target(damage)
    statements = []
    for number, raw in _rows_of(site.databases()["main"], table, ["id", column]):
        old = raw.decode() if isinstance(raw, bytes) else raw
        wanted = {"blank": old == "", "nothing": old is None}.get(damage.role, old not in (None, ""))
        if not wanted:
            continue
        try:
            new = damage.change(None if old is None else read(old))
        except ValueError:  # the 31st of a month has no day and month that can change places
            continue
        new = new[:10] if damage.role == "moment" else new
        if new != old:
            statements.append(f"UPDATE {table} SET {column} = {_literal(new)} WHERE id = {int(number)}")  # noqa: S608
        if len(statements) == damage.rows:
            break
    if not statements:
        text = f"no value of {table}.{column} here can be hurt by {damage.kind}"
        raise BadInput(Problem("nothing-to-hurt", text, "take another kind, or a demonstration with more --rows"))
    _run(site, [one.replace("\\", "\\\\") if site.addresses()[0].engine == "mariadb" else one for one in statements])
    return "; ".join(statements[:2]) + (f" and {len(statements) - 2} more" if len(statements) > 2 else "")


def _hurt_rows(site: Site, kind: str) -> str:
    if kind == "swapped-rows":
        rows = _rows_of(site.databases()["main"], "boats", ["id", "name"])[2:]
        (first, one), (second, other) = rows[0], next((row for row in rows if row[1] != rows[0][1]), rows[0])
        names = [(first, other), (second, one)]
        statements = [f"UPDATE boats SET name = {_literal(name)} WHERE id = {number}" for number, name in names]  # noqa: S608
    else:
        statements = {
            "gone": ["DELETE FROM documents WHERE id = 7"],
            "gone-some": ["DELETE FROM documents WHERE id BETWEEN 5 AND 13"],
            "doubled": ["INSERT INTO notices (id, posted, title, body)"
                        " SELECT id + 50000, posted, title, body FROM notices WHERE id = 7"],
            "repointed": ["UPDATE documents SET boat_id = boat_id + 1 WHERE id = 7"],
        }[kind]  # fmt: skip
    _run(site, statements)
    return "; ".join(statements)


def _hurt_files(site: Site, kind: str) -> str:
    if kind == "code-edited":
        path = sorted(site.root.rglob("*.py"))[0]
        path.write_text(path.read_text() + "# edited by hand\n")
        return f"a line behind {site.tree_path(path)}"
    if kind == "setting-changed":
        path = site.root / next(iter(site.record.keep.merged)).file
        path.write_text(re.sub(r"(?m)^(\w+ *= *).*$", r"\1changed by hand", path.read_text(), count=1))
        return f"the first value in {site.tree_path(path)}"
    path = next(path for path in sorted((site.root / "uploads").rglob("*.*")) if path.is_file())
    if kind == "file-gone":
        path.unlink()
    elif kind == "file-changed":
        path.write_bytes(path.read_bytes()[:-3] + b"???")
    elif kind == "file-mode":
        path.chmod(path.stat().st_mode ^ 0o006)
    else:
        path.rename(path.with_name("renamed.txt"))
    return f"{kind}: {site.tree_path(path)}"


def in_words(kind: str) -> str:
    """What a kind of damage does, for a list."""
    value = next((one for one in _values() if one.kind == kind), None)
    if value is not None:
        table, column, _ = _target(value)
        return f"{count_of(value.rows, 'value')} of {table}.{column}"
    return "rows" if kind in _ROWS else "what is defined" if kind in _DEFINED else "files"
