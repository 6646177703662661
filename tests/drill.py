"""A harbour's database that is taken through a declared change and hurt: what is found of it, in which row, as what.

Used by the drill, by the search for false alarms, and wherever a contract is tried without a climb.
"""

from __future__ import annotations

import re
import sqlite3
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from tests.conftest import MakeDemo
from tests.engines import connect
from yellow_ladder.database import Database, DatabaseAddress, open_database
from yellow_ladder.fingerprints.judge import Held, judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.narrowing import Look, find_rows, pairs_of, references_of, told_in
from yellow_ladder.fingerprints.rows import InWords
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.told import read_expected, read_matched, readings
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.release.contract import Contract

ROWS = 40
TYPES = {
    "sqlite": {"text": "TEXT", "money": "REAL", "double": "REAL", "moment": "TEXT", "truth": "INTEGER",
               "bytes": "BLOB"},
    "postgresql": {"text": "text", "money": "numeric(12,2)", "double": "double precision",
                   "moment": "timestamp(6)", "truth": "boolean", "bytes": "bytea"},
    "mariadb": {"text": "varchar(200)", "money": "decimal(12,2)", "double": "double",
                "moment": "datetime(6)", "truth": "boolean", "bytes": "varbinary(200)"},
}  # fmt: skip
COLUMNS = {
    "id": "integer", "slip": "text", "guest": "text", "note": "text", "windows": "text", "padded": "text",
    "blank": "text", "missing": "text", "code": "text", "figures": "text", "fee": "money", "nights": "integer",
    "weight": "double", "arrived": "moment", "logged": "moment", "member": "truth", "extra": "text", "photo": "bytes",
    "berth": "integer",
}  # fmt: skip
ROLES = {
    "text": "guest", "note": "note", "windows": "windows", "padded": "padded", "blank": "blank", "nothing": "missing",
    "code": "code", "figures": "figures", "money": "fee", "count": "nights", "weight": "weight", "moment": "arrived",
    "fine": "logged", "truth": "member", "json": "extra", "bytes": "photo",
}  # fmt: skip


def row(number: int) -> dict[str, Any]:
    """One stay; every role has values that can be hurt in its ways."""
    arrived = datetime(2026, 3, 1 + number % 12, 14, 35, 6) + timedelta(days=31 if number % 12 == 2 else 0)
    return {
        "id": number, "slip": f"S{number:04}", "guest": f"Käthe  O'Kielholm & Søn {number}".replace("  ", " "),
        "note": f"two dogs\nlate, berth {number}", "windows": f"first\r\nsecond {number}", "padded": f"mast {number}  ",
        "blank": "", "missing": None, "code": f"00{number}7", "figures": f"{number}.500", "fee": 120.55 + number,
        "nights": 40_000 + 100 * number, "weight": 1234.56789012 + number, "arrived": str(arrived),
        "logged": str(arrived.replace(microsecond=123_000 + number)), "member": bool(number % 2),
        "extra": f'{{"dogs": {number}, "cat": "yes"}}', "photo": bytes(range(number, number + 9)),
        "berth": 1 + number % 5,
    }  # fmt: skip


def literal(value: Any, engine: str) -> str:
    """A value as the engine's SQL."""
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return str(int(value)) if engine != "postgresql" else str(value).upper()
    if isinstance(value, bytes):
        return f"'\\x{value.hex()}'" if engine == "postgresql" else f"X'{value.hex()}'"
    if isinstance(value, str):
        text = value.replace("\\", "\\\\") if engine == "mariadb" else value
        return "'" + text.replace("'", "''") + "'"
    return repr(value)


def schema(engine: str) -> list[str]:
    """The harbour before any change, with its rows."""
    types = TYPES[engine]
    columns = ", ".join(
        f"{name} {types.get(kind, kind)}{' PRIMARY KEY' if name == 'id' else ''}" for name, kind in COLUMNS.items()
    )
    text = types["text"]
    tables = [
        f"CREATE TABLE berths (id integer PRIMARY KEY, name {text} NOT NULL DEFAULT 'x',"
        " depth integer CHECK (depth > 0))",
        f"CREATE TABLE stays ({columns}, FOREIGN KEY (berth) REFERENCES berths (id))",
        f"CREATE TABLE seats (dock {'varchar(9)' if engine == 'mariadb' else 'text'}, number integer, label {text},"
        " PRIMARY KEY (dock, number))",
        f"CREATE TABLE tides (hour integer, height {types['double']}, mark {text})",
    ]
    stays = ", ".join("(" + ", ".join(literal(v, engine) for v in row(n).values()) + ")" for n in range(1, ROWS + 1))
    return [
        *tables,
        "INSERT INTO berths VALUES " + ", ".join(f"({n}, 'Berth {n}', {n + 2})" for n in range(1, 7)),
        f"INSERT INTO stays VALUES {stays}",
        "INSERT INTO seats VALUES " + ", ".join(f"('{d}', {n}, 'seat {d}{n}')" for d in "ABC" for n in range(1, 4)),
        "INSERT INTO tides VALUES " + ", ".join(f"({n}, {n * 1.5}, 'm{n % 4}')" for n in range(12)),
    ]


@dataclass
class Harbour:
    """Two databases on one engine: `old` as it was before, and `new`, which is changed and hurt."""

    engine: str
    old: Database
    new: Database
    folder: Path
    run: Callable[[Database, Sequence[str]], None]
    renew: Callable[[], None]
    begin: Callable[[Sequence[str]], None] = lambda _statements: None
    """Makes both databases anew, from other statements than the harbour's."""
    close: Callable[[], None] = lambda: None

    def fly(
        self, contract: dict[str, Any], change: Sequence[str], damage: Sequence[str]
    ) -> tuple[list[TableVerdict], dict[str, InWords]]:
        """Take `new` through a change and hurt it; the verdicts that differ, and what was found of rows by table."""
        self.renew()
        declared = Contract.model_validate(contract)
        base = take_fingerprint(self.old, workers=1)
        line = compose(base, [("5.0", declared)])
        told = readings(line, base, self.engine, lambda _table, query: self.old.query_columns(query))
        keys = self.folder / "keys"
        expected = read_expected(self.old, told, [declared], keys)
        self.run(self.new, change)
        self.run(self.new, damage)
        after = take_fingerprint(self.new, line.ties(base), workers=1)
        columns = {name: table.names for name, table in after.tables.items()}
        matched = read_matched(self.new, told, columns, keys, lambda _count: None)
        judged = judge(base, after, line, (), Held(expected.tables, matched))
        pairs = pairs_of(base, after, line, told)
        references = references_of(after.objects)
        differing, found = [], {}
        for one in judged:
            if one.verdict is not Verdict.DIFFERS:
                continue
            lines = InWords({}, {})
            if one.table in pairs and one.rows_after is not None:
                path = self.folder / "rows.csv"
                until = time.monotonic() + 60
                seen = find_rows(Look(self.old, self.new, pairs[one.table], path, (), until), lambda: None)
                seen.references = references.get(one.table, ())
                seen.settle()
                lines = seen.in_words()
            found[one.table] = lines
            differing.append(told_in(one, lines))
        return differing, found


def sqlite_harbour(folder: Path) -> Harbour:
    """The harbour in two files."""
    old, new = folder / "old.sqlite", folder / "new.sqlite"

    def run(database: Database, statements: Sequence[str]) -> None:
        with sqlite3.connect(database.address.path) as connection:
            for one in statements:
                connection.execute(one)
        connection.close()

    def renew() -> None:
        new.write_bytes(old.read_bytes())

    opened = [open_database(DatabaseAddress("main", "sqlite", path)) for path in (old, new)]

    def begin(statements: Sequence[str]) -> None:
        old.unlink(missing_ok=True)
        run(opened[0], statements)

    begin(schema("sqlite"))
    return Harbour("sqlite", opened[0], opened[1], folder, run, renew, begin)


def server_harbour(engine: str, engine_demo: MakeDemo, folder: Path) -> Harbour:
    """The harbour in two databases of a server: the demonstration's own, emptied, and one that is copied from it."""
    demos = [engine_demo(engine, name, rows=10, start=False) for name in ("old", "new")]
    databases = [demo.site().databases()["main"] for demo in demos]
    connections = {id(base): connect(demo) for base, demo in zip(databases, demos, strict=True)}

    def run(database: Database, statements: Sequence[str]) -> None:
        with connections[id(database)].cursor() as cursor:
            for one in statements:
                cursor.execute(one)

    def empty(database: Database) -> None:
        if engine == "postgresql":
            run(database, ["DROP SCHEMA public CASCADE", "CREATE SCHEMA public"])
            return
        names = [(kind, name) for kind, _, name in (one.partition(" ") for one in database.objects())]
        drops = [f"DROP {kind} IF EXISTS `{name}`" for kind, name in names if kind in ("view", "table", "function")]
        run(database, ["SET foreign_key_checks = 0", *sorted(drops, reverse=True), "SET foreign_key_checks = 1"])

    made: list[str] = []

    def renew() -> None:
        empty(databases[1])
        run(databases[1], made)

    def begin(statements: Sequence[str]) -> None:
        made[:] = statements
        empty(databases[0])
        run(databases[0], statements)

    begin(schema(engine))

    def close() -> None:
        for one in connections.values():
            one.close()

    return Harbour(engine, databases[0], databases[1], folder, run, renew, begin, close)


@dataclass(frozen=True)
class Shape:
    """A declared change: its contract, the honest migration, and where the stays are afterwards."""

    name: str
    contract: dict[str, Any]
    change: Callable[[str], list[str]]
    table: str = "stays"
    renamed: dict[str, str] = field(default_factory=dict)
    gone: tuple[str, ...] = ()
    """Columns that are given up or gone."""
    key: Callable[[int], str] = lambda number: f"id {number}"
    where: Callable[[int], str] = lambda number: f"id = {number}"
    without: tuple[str, ...] = ()
    """Kinds of damage to rows that are no damage here."""

    def column(self, name: str) -> str:
        return self.renamed.get(name, name)


def _tables(**change: Any) -> dict[str, Any]:
    return {"tables": [{"name": "stays", **change}]}


def _joined(engine: str, *parts: str) -> str:
    return f"CONCAT({', '.join(parts)})" if engine == "mariadb" else " || ".join(parts)


_ALL = ", ".join(COLUMNS)
_BUT_FIGURES = ", ".join(one for one in COLUMNS if one != "figures")
_SUFFIX = {one: f"({_joined(one, 'code', repr('-Q'))})" for one in TYPES}


def _as_text(engine: str) -> list[str]:
    if engine == "sqlite":
        return [
            "ALTER TABLE stays ADD COLUMN nights_new TEXT", "UPDATE stays SET nights_new = nights",
            "ALTER TABLE stays DROP COLUMN nights", "ALTER TABLE stays RENAME COLUMN nights_new TO nights",
        ]  # fmt: skip
    if engine == "postgresql":
        return ["ALTER TABLE stays ALTER nights TYPE text USING nights || '.00'"]
    return ["ALTER TABLE stays MODIFY nights varchar(20)", "UPDATE stays SET nights = CONCAT(nights, '.00')"]


def _grown(engine: str) -> list[str]:
    more = [{**row(n), "id": 1000 + n, "slip": f"N{n}"} for n in range(1, 4)]
    return ["INSERT INTO stays VALUES " + ", ".join(
        "(" + ", ".join(literal(v, engine) for v in one.values()) + ")" for one in more)]  # fmt: skip


def _moved(engine: str) -> list[str]:
    text = TYPES[engine]["text"]
    drop = "ALTER TABLE stays DROP COLUMN guest"
    return [f"CREATE TABLE guests (stay_id integer PRIMARY KEY, guest {text})",
            "INSERT INTO guests SELECT id, guest FROM stays", drop]  # fmt: skip


def _made_anew(engine: str) -> list[str]:
    rename = "ALTER TABLE {} RENAME TO {}"
    return [
        f"CREATE TABLE kept AS SELECT {_BUT_FIGURES} FROM stays",
        "DROP TABLE stays",
        rename.format("kept", "visits"),
    ]


SHAPES = [
    Shape("nothing", {}, lambda _: []),
    Shape("column added", _tables(columns_added=["vip"]), lambda _: ["ALTER TABLE stays ADD COLUMN vip integer"]),
    Shape("column filled", _tables(filled={"currency": "'EUR'"}),
          lambda e: [f"ALTER TABLE stays ADD COLUMN currency {TYPES[e]['text']} DEFAULT 'EUR'"]),
    Shape("table renamed", {"tables": [{"name": "visits", "renamed_from": "stays"}]},
          lambda _: ["ALTER TABLE stays RENAME TO visits"], table="visits"),
    Shape("column renamed", _tables(columns_renamed={"guest": "visitor", "fee": "price"}),
          lambda _: ["ALTER TABLE stays RENAME COLUMN guest TO visitor",
                     "ALTER TABLE stays RENAME COLUMN fee TO price"],
          renamed={"guest": "visitor", "fee": "price"}),
    Shape("column dropped", _tables(columns_dropped=["figures"]), lambda _: ["ALTER TABLE stays DROP COLUMN figures"],
          gone=("figures",)),
    Shape("column rewritten loosely", _tables(columns_changed=["code"]),
          lambda e: [f"UPDATE stays SET code = {_SUFFIX[e]}"], gone=("code",)),
    Shape("rewritten in some rows", _tables(columns_changed=["code"], changed_where="id = 0"),
          lambda e: [f"UPDATE stays SET code = {_SUFFIX[e]} WHERE id = 0"]),
    Shape("column told", _tables(values={"code": _SUFFIX}), lambda e: [f"UPDATE stays SET code = {_SUFFIX[e]}"],
          gone=("code",)),
    Shape("rows gone", _tables(gone_where="id % 10 = 0"), lambda _: ["DELETE FROM stays WHERE id % 10 = 0"]),
    Shape("rows kept", _tables(kept_where="nights < 43500"), lambda _: ["DELETE FROM stays WHERE nights >= 43500"]),
    Shape("rows come", _tables(rows="grow"), _grown, without=("doubled", "renumbered")),
    Shape("type changed", _tables(same_as={"nights": "number"}), _as_text, gone=("nights",)),
    Shape("numbered anew", _tables(values={"id": "id + 5000"}), lambda _: ["UPDATE stays SET id = id + 5000"],
          key=lambda n: f"id {n + 5000}", where=lambda n: f"id = {n + 5000}"),
    Shape("found otherwise", _tables(matched_by=["slip"]), lambda _: ["UPDATE stays SET id = 9000 - id"],
          key=lambda n: f"slip 'S{n:04}'", where=lambda n: f"slip = 'S{n:04}'", without=("renumbered", "doubled")),
    Shape("made anew by a query",
          {"tables_added": ["visits"], "tables_dropped": ["stays"],
           "tables": [{"name": "visits", "query": f"SELECT {_BUT_FIGURES} FROM stays", "matched_by": ["id"]}]},
          _made_anew, table="visits", gone=("figures",), without=("repointed",)),
    Shape("moved", {"tables_added": ["guests"],
                    "moved": [{"from": "stays.guest", "to": "guests.guest", "by": "stay_id"}]},
          _moved, table="guests", gone=tuple(one for one in COLUMNS if one != "guest"),
          key=lambda n: f"stay_id {n}", where=lambda n: f"stay_id = {n}",
          without=("gone", "gone-some", "doubled", "renumbered", "swapped-columns", "repointed")),
]  # fmt: skip


def remarks_of(differing: Sequence[TableVerdict], table: str) -> str:
    return "; ".join(remark for one in differing if one.table == table for remark in one.remarks)


def tells(line: str, words: str) -> bool:
    return re.search(words, line) is not None
