"""What is defined is data: whatever a migration changes of it without saying so is found, by name.

Held on tables that nobody spoke of, and on tables that a release changes: what it declares is all that may differ.
"""

from __future__ import annotations

import os
import random
import re
import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from tests.conftest import MakeDemo
from tests.engines import ask
from yellow_ladder.database import Database, DatabaseAddress, open_database
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict, is_whole
from yellow_ladder.release.contract import Contract

ENGINES = ("sqlite", "postgresql", "mariadb")
SETUP = {
    "sqlite": [
        "CREATE TABLE quays (id INTEGER PRIMARY KEY AUTOINCREMENT, name TEXT NOT NULL DEFAULT 'x' COLLATE NOCASE,"
        " len INTEGER CHECK (len > 0), twice INTEGER GENERATED ALWAYS AS (len * 2) STORED)",
        "CREATE TABLE slots (id INTEGER PRIMARY KEY, quay INTEGER, num INTEGER DEFAULT 7, UNIQUE (quay, num),"
        " FOREIGN KEY (quay) REFERENCES quays (id) ON DELETE RESTRICT)",
        "CREATE TABLE marks (code TEXT PRIMARY KEY, slot INTEGER) WITHOUT ROWID",
        "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
        "CREATE INDEX slots_by_num ON slots (num DESC) WHERE num > 0",
        "CREATE INDEX quays_lower ON quays (lower(name), len)",
        "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 8",
        "CREATE TRIGGER calm AFTER INSERT ON slots BEGIN UPDATE quays SET len = len WHERE id = new.quay; END",
    ],
    "postgresql": [
        "CREATE TYPE tide AS ENUM ('ebb', 'flood')",
        "CREATE DOMAIN depth AS int CHECK (value > 0)",
        "CREATE TABLE quays (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text NOT NULL DEFAULT 'x',"
        " len int CHECK (len > 0), deep depth, at tide, twice int GENERATED ALWAYS AS (len * 2) STORED)",
        "CREATE TABLE slots (id int PRIMARY KEY, quay int REFERENCES quays ON DELETE RESTRICT, num int DEFAULT 7,"
        " UNIQUE (quay, num))",
        "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
        "CREATE INDEX slots_by_num ON slots (num DESC) WHERE num > 0",
        "CREATE INDEX quays_lower ON quays (lower(name), len)",
        "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 8",
        "CREATE FUNCTION twice(x int) RETURNS int LANGUAGE sql AS 'SELECT x * 2'",
        "CREATE FUNCTION calm() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN new; END'",
        "CREATE TRIGGER calm BEFORE INSERT ON slots FOR EACH ROW EXECUTE FUNCTION calm()",
        "CREATE RULE quiet AS ON DELETE TO slots WHERE old.num = 1 DO INSTEAD NOTHING",
        "ALTER TABLE slots ENABLE ROW LEVEL SECURITY",
        "CREATE POLICY mine ON slots USING (num > 2)",
        "CREATE SEQUENCE tickets INCREMENT 5",
        "COMMENT ON COLUMN quays.len IS 'metres'",
        "GRANT SELECT ON quays TO PUBLIC",
    ],
    "mariadb": [
        "CREATE TABLE quays (id int PRIMARY KEY AUTO_INCREMENT, name varchar(40) NOT NULL DEFAULT 'x',"
        " len int CHECK (len > 0), at enum('ebb', 'flood'),"
        " seen timestamp NULL DEFAULT NULL ON UPDATE current_timestamp(),"
        " twice int GENERATED ALWAYS AS (len * 2) STORED)",
        "CREATE TABLE slots (id int PRIMARY KEY, quay int, num int DEFAULT 7, UNIQUE KEY by_both (quay, num),"
        " CONSTRAINT at_quay FOREIGN KEY (quay) REFERENCES quays(id))",
        "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
        "CREATE INDEX slots_by_num ON slots (num)",
        "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 8",
        "CREATE FUNCTION twice(x int) RETURNS int DETERMINISTIC RETURN x * 2",
        "CREATE PROCEDURE calm() BEGIN SELECT 1; END",
        "CREATE TRIGGER calm BEFORE INSERT ON slots FOR EACH ROW SET NEW.num = COALESCE(NEW.num, 1)",
        "CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2026-01-01 00:00:00' DO DELETE FROM slots WHERE num = 99",
        "CREATE SEQUENCE tickets INCREMENT BY 5",
    ],
}


def rewritten(name: str, old: str, new: str) -> list[str]:
    """SQLite cannot change most of a table: damage to its definition is done where it is kept."""
    return [
        "PRAGMA writable_schema = ON",
        f"UPDATE sqlite_master SET sql = replace(sql, '{old.replace(chr(39), chr(39) * 2)}',"
        f" '{new.replace(chr(39), chr(39) * 2)}') WHERE name = '{name}'",
        "PRAGMA writable_schema = RESET",
    ]


Damage = tuple[str, Sequence[str], str, str]
DAMAGE: dict[str, list[Damage]] = {
    "sqlite": [
        ("not null", rewritten("quays", "NOT NULL ", ""), "table quays", "not null"),
        ("default", rewritten("quays", "'x'", "'y'"), "table quays", "'y'"),
        ("default lost", rewritten("slots", " DEFAULT 7", ""), "table slots", "default 7"),
        ("collation", rewritten("quays", " COLLATE NOCASE", ""), "table quays", "nocase"),
        ("check lost", rewritten("quays", " CHECK (len > 0)", ""), "table quays", "check"),
        ("check loosened", rewritten("quays", "len > 0", "len > -9"), "table quays", "9"),
        ("numbers again", rewritten("quays", " AUTOINCREMENT", ""), "table quays", "autoincrement"),
        ("type", rewritten("slots", "num INTEGER", "num TEXT"), "table slots", "text"),
        ("generated", rewritten("quays", "len * 2", "len * 3"), "table quays", "3"),
        ("foreign key lost", rewritten("slots", ", FOREIGN KEY (quay) REFERENCES quays (id) ON DELETE RESTRICT", ""),
         "table slots", "foreign key"),
        ("foreign key's action", rewritten("slots", "RESTRICT", "CASCADE"), "table slots", "cascade"),
        ("unique lost", [*rewritten("slots", ", UNIQUE (quay, num)", "")[:2],
                         "DELETE FROM sqlite_master WHERE name = 'sqlite_autoindex_slots_1'",
                         "PRAGMA writable_schema = RESET"], "table slots", "unique"),
        ("row numbers", rewritten("marks", "slot INTEGER", "slot INTEGER NOT NULL"), "table marks", "not null"),
        ("index lost", ["DROP INDEX quays_by_name"], "index quays_by_name", "gone"),
        ("index not unique", ["DROP INDEX quays_by_name", "CREATE INDEX quays_by_name ON quays (name)"],
         "index quays_by_name", "unique"),
        ("index on another", ["DROP INDEX quays_by_name", "CREATE UNIQUE INDEX quays_by_name ON quays (id)"],
         "index quays_by_name", "name"),
        ("index order", ["DROP INDEX slots_by_num", "CREATE INDEX slots_by_num ON slots (num) WHERE num > 0"],
         "index slots_by_num", "desc"),
        ("index of fewer rows", ["DROP INDEX slots_by_num",
                                 "CREATE INDEX slots_by_num ON slots (num DESC) WHERE num > 5"],
         "index slots_by_num", "5"),
        ("index expression", ["DROP INDEX quays_lower", "CREATE INDEX quays_lower ON quays (upper(name), len)"],
         "index quays_lower", "upper"),
        ("index of fewer columns", ["DROP INDEX quays_lower", "CREATE INDEX quays_lower ON quays (lower(name))"],
         "index quays_lower", "len"),
        ("view lost", ["DROP VIEW long_quays"], "view long_quays", "gone"),
        ("view", ["DROP VIEW long_quays", "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 9"],
         "view long_quays", "9"),
        ("trigger lost", ["DROP TRIGGER calm"], "trigger calm", "gone"),
        ("trigger", ["DROP TRIGGER calm", "CREATE TRIGGER calm AFTER DELETE ON slots BEGIN UPDATE quays SET len = len"
                     " WHERE id = old.quay; END"], "trigger calm", "delete"),
        ("trigger came", ["CREATE TRIGGER restless AFTER UPDATE ON slots BEGIN DELETE FROM marks; END"],
         "trigger restless", "appeared"),
        ("trigger beside another", ["CREATE TRIGGER calm_too BEFORE DELETE ON slots WHEN old.num > 1"
                                    " BEGIN SELECT raise(IGNORE); END"], "trigger calm_too", "appeared"),
        ("trigger on a view", ["CREATE TRIGGER by_view INSTEAD OF INSERT ON long_quays BEGIN SELECT 1; END"],
         "trigger by_view", "appeared"),
        ("index sorts otherwise", ["DROP INDEX quays_by_name",
                                   "CREATE UNIQUE INDEX quays_by_name ON quays (name COLLATE BINARY)"],
         "index quays_by_name", "binary"),
        ("key renumbered by age", rewritten("quays", "PRIMARY KEY AUTOINCREMENT", "PRIMARY KEY ON CONFLICT REPLACE"),
         "table quays", "conflict"),
        ("number of its own", ["PRAGMA user_version = 41"], "number user_version", "41"),
        ("application's number", ["PRAGMA application_id = 77"], "number application_id", "77"),
    ],
    "postgresql": [
        ("not null", ["ALTER TABLE quays ALTER name DROP NOT NULL"], "table quays", "NOT NULL"),
        ("default", ["ALTER TABLE quays ALTER name SET DEFAULT 'y'"], "table quays", "'y'"),
        ("default lost", ["ALTER TABLE slots ALTER num DROP DEFAULT"], "table slots", "default 7"),
        ("type", ["DROP RULE quiet ON slots", "DROP POLICY mine ON slots", "ALTER TABLE slots ALTER num TYPE bigint"],
         "table slots", "bigint"),
        ("shorter type", ["DROP VIEW long_quays", "ALTER TABLE quays ALTER name TYPE varchar(40)"],
         "table quays", "40"),
        ("collation", ["DROP VIEW long_quays", 'ALTER TABLE quays ALTER name TYPE text COLLATE "C"'],
         "table quays", "collate"),
        ("check lost", ["ALTER TABLE quays DROP CONSTRAINT quays_len_check"], "table quays", "CHECK"),
        ("check loosened", ["ALTER TABLE quays DROP CONSTRAINT quays_len_check",
                            "ALTER TABLE quays ADD CONSTRAINT quays_len_check CHECK (len > -9)"], "table quays", "9"),
        ("check not held", ["ALTER TABLE quays DROP CONSTRAINT quays_len_check",
                            "ALTER TABLE quays ADD CONSTRAINT quays_len_check CHECK (len > 0) NOT VALID"],
         "table quays", "not valid"),
        ("numbers anew", ["ALTER TABLE quays ALTER id DROP IDENTITY"], "table quays", "identity"),
        ("numbers given", ["ALTER TABLE quays ALTER id SET GENERATED BY DEFAULT"], "table quays", "identity d"),
        ("generated lost", ["ALTER TABLE quays ALTER twice DROP EXPRESSION"], "table quays", "generated"),
        ("foreign key lost", ["ALTER TABLE slots DROP CONSTRAINT slots_quay_fkey"], "table slots", "foreign key"),
        ("foreign key's action", ["ALTER TABLE slots DROP CONSTRAINT slots_quay_fkey",
          "ALTER TABLE slots ADD CONSTRAINT slots_quay_fkey FOREIGN KEY (quay) REFERENCES quays ON DELETE CASCADE"],
         "table slots", "CASCADE"),
        ("primary key lost", ["ALTER TABLE slots DROP CONSTRAINT slots_pkey"], "table slots", "primary key"),
        ("unique lost", ["ALTER TABLE slots DROP CONSTRAINT slots_quay_num_key"], "table slots", "unique"),
        ("unlogged", ["ALTER TABLE slots SET UNLOGGED"], "table slots", "u row"),
        ("storage", ["ALTER TABLE slots SET (fillfactor = 50)"], "table slots", "fillfactor"),
        ("index lost", ["DROP INDEX quays_by_name"], "index quays_by_name", "gone"),
        ("index not unique", ["DROP INDEX quays_by_name", "CREATE INDEX quays_by_name ON quays (name)"],
         "index quays_by_name", "UNIQUE"),
        ("index on another", ["DROP INDEX quays_by_name", "CREATE UNIQUE INDEX quays_by_name ON quays (len)"],
         "index quays_by_name", "len"),
        ("index order", ["DROP INDEX slots_by_num", "CREATE INDEX slots_by_num ON slots (num) WHERE num > 0"],
         "index slots_by_num", "desc"),
        ("index of fewer rows", ["DROP INDEX slots_by_num",
                                 "CREATE INDEX slots_by_num ON slots (num DESC) WHERE num > 5"],
         "index slots_by_num", "5"),
        ("index expression", ["DROP INDEX quays_lower", "CREATE INDEX quays_lower ON quays (upper(name), len)"],
         "index quays_lower", "upper"),
        ("index kind", ["DROP INDEX quays_by_name", "CREATE INDEX quays_by_name ON quays USING hash (name)"],
         "index quays_by_name", "unique"),
        ("view", ["CREATE OR REPLACE VIEW long_quays AS SELECT name FROM quays WHERE len > 9"], "view long_quays", "9"),
        ("view lost", ["DROP VIEW long_quays"], "view long_quays", "gone"),
        ("function", ["CREATE OR REPLACE FUNCTION twice(x int) RETURNS int LANGUAGE sql AS 'SELECT x * 3'"],
         "function twice", "3"),
        ("function lost", ["DROP FUNCTION twice"], "function twice", "gone"),
        ("function runs as another", ["ALTER FUNCTION twice SECURITY DEFINER"], "function twice", "definer"),
        ("trigger lost", ["DROP TRIGGER calm ON slots"], "trigger calm", "gone"),
        ("trigger came", ["CREATE TRIGGER restless AFTER UPDATE ON quays FOR EACH ROW EXECUTE FUNCTION calm()"],
         "trigger restless", "appeared"),
        ("rule came", ["CREATE RULE loud AS ON UPDATE TO quays DO INSTEAD NOTHING"], "rule loud", "appeared"),
        ("policy came", ["CREATE POLICY none ON slots AS RESTRICTIVE USING (false)"], "policy none", "appeared"),
        ("trigger asleep", ["ALTER TABLE slots DISABLE TRIGGER calm"], "trigger calm", "enabled d"),
        ("rule lost", ["DROP RULE quiet ON slots"], "rule quiet", "gone"),
        ("policy lost", ["DROP POLICY mine ON slots"], "policy mine", "gone"),
        ("policy", ["ALTER POLICY mine ON slots USING (num > 1)"], "policy mine", "1"),
        ("row security off", ["ALTER TABLE slots DISABLE ROW LEVEL SECURITY"], "table slots", "security"),
        ("words of a type", ["ALTER TYPE tide ADD VALUE 'slack'"], "type tide", "slack"),
        ("domain", ["ALTER DOMAIN depth DROP CONSTRAINT depth_check"], "type depth", "check"),
        ("comment", ["COMMENT ON TABLE quays IS 'stone'"], "table quays", "stone"),
        ("comment of a column", ["COMMENT ON COLUMN quays.len IS NULL"], "table quays", "metres"),
        ("rights", ["REVOKE SELECT ON quays FROM PUBLIC"], "table quays", "="),
        ("rights of a column", ["GRANT UPDATE (name) ON quays TO PUBLIC"], "table quays", "rights"),
        ("sequence's step", ["ALTER SEQUENCE tickets INCREMENT 1"], "sequence tickets", "1"),
        ("sequence goes round", ["ALTER SEQUENCE tickets CYCLE"], "sequence tickets", "t"),
    ],
    "mariadb": [
        ("not null", ["ALTER TABLE quays MODIFY name varchar(40) DEFAULT 'x'"], "table quays", "NOT NULL"),
        ("default", ["ALTER TABLE quays ALTER name SET DEFAULT 'y'"], "table quays", "'y'"),
        ("default lost", ["ALTER TABLE slots ALTER num DROP DEFAULT"], "table slots", "default 7"),
        ("type", ["ALTER TABLE slots MODIFY num bigint DEFAULT 7"], "table slots", "bigint"),
        ("sign", ["ALTER TABLE slots MODIFY num int unsigned DEFAULT 7"], "table slots", "unsigned"),
        ("longer type", ["ALTER TABLE quays MODIFY name varchar(50) NOT NULL DEFAULT 'x'"], "table quays", "50"),
        ("words of a type", ["ALTER TABLE quays MODIFY at enum('ebb', 'flood', 'slack')"], "table quays", "slack"),
        ("time of change lost", ["ALTER TABLE quays MODIFY seen timestamp NULL DEFAULT NULL"],
         "table quays", "on update"),
        ("generated", ["ALTER TABLE quays MODIFY twice int GENERATED ALWAYS AS (len * 3) STORED"], "table quays", "3"),
        ("check lost", ["ALTER TABLE quays MODIFY len int"], "table quays", "check"),
        ("numbers lost", ["ALTER TABLE slots DROP FOREIGN KEY at_quay", "ALTER TABLE quays MODIFY id int NOT NULL"],
         "table quays", "auto_increment"),
        ("foreign key lost", ["ALTER TABLE slots DROP FOREIGN KEY at_quay"], "table slots", "foreign key"),
        ("foreign key's action", ["ALTER TABLE slots DROP FOREIGN KEY at_quay",
          "ALTER TABLE slots ADD CONSTRAINT at_quay FOREIGN KEY (quay) REFERENCES quays (id) ON DELETE CASCADE"],
         "table slots", "CASCADE"),
        ("primary key lost", ["ALTER TABLE slots DROP PRIMARY KEY"], "table slots", "primary key"),
        ("unique lost", ["ALTER TABLE slots ADD INDEX other (quay)", "ALTER TABLE slots DROP INDEX by_both"],
         "table slots", "unique"),
        ("index lost", ["DROP INDEX slots_by_num ON slots"], "index slots_by_num", "gone"),
        ("index not unique", ["DROP INDEX quays_by_name ON quays", "CREATE INDEX quays_by_name ON quays (name)"],
         "index quays_by_name", ""),
        ("index of a part", ["DROP INDEX quays_by_name ON quays",
                             "CREATE UNIQUE INDEX quays_by_name ON quays (name(9))"],
         "index quays_by_name", "9"),
        ("index on another", ["DROP INDEX slots_by_num ON slots", "CREATE INDEX slots_by_num ON slots (quay)"],
         "index slots_by_num", "quay"),
        ("view", ["CREATE OR REPLACE VIEW long_quays AS SELECT name FROM quays WHERE len > 9"], "view long_quays", "9"),
        ("view lost", ["DROP VIEW long_quays"], "view long_quays", "gone"),
        ("view runs as another", ["CREATE OR REPLACE SQL SECURITY INVOKER VIEW long_quays AS SELECT name FROM quays"
                                  " WHERE len > 8"], "view long_quays", "invoker"),
        ("function", ["CREATE OR REPLACE FUNCTION twice(x int) RETURNS int DETERMINISTIC RETURN x * 3"],
         "function twice", "3"),
        ("function lost", ["DROP FUNCTION twice"], "function twice", "gone"),
        ("procedure", ["CREATE OR REPLACE PROCEDURE calm() BEGIN SELECT 2; END"], "procedure calm", "2"),
        ("procedure lost", ["DROP PROCEDURE calm"], "procedure calm", "gone"),
        ("trigger lost", ["DROP TRIGGER calm"], "trigger calm", "gone"),
        ("trigger", ["DROP TRIGGER calm", "CREATE TRIGGER calm BEFORE INSERT ON slots FOR EACH ROW SET NEW.num = 2"],
         "trigger calm", "2"),
        ("strictness of a trigger", ["DROP TRIGGER calm", "SET sql_mode = ''",
                                     "CREATE TRIGGER calm BEFORE INSERT ON slots"
         " FOR EACH ROW SET NEW.num = COALESCE(NEW.num, 1)", "SET sql_mode = DEFAULT"], "trigger calm", "strict"),
        ("trigger came", ["CREATE TRIGGER restless AFTER DELETE ON slots FOR EACH ROW DELETE FROM quays"],
         "trigger restless", "appeared"),
        ("event came", ["CREATE EVENT hourly ON SCHEDULE EVERY 1 HOUR DO DELETE FROM slots"],
         "event hourly", "appeared"),
        ("event lost", ["DROP EVENT nightly"], "event nightly", "gone"),
        ("event asleep", ["ALTER EVENT nightly DISABLE"], "event nightly", "disable"),
        ("comment", ["ALTER TABLE quays COMMENT 'stone'"], "table quays", "stone"),
        ("character set", ["ALTER TABLE quays CONVERT TO CHARACTER SET latin1"], "table quays", "latin1"),
        ("collation", ["ALTER TABLE slots COLLATE utf8mb4_bin"], "table slots", "utf8mb4_bin"),
        ("engine", ["ALTER TABLE slots DROP FOREIGN KEY at_quay", "ALTER TABLE slots ENGINE = Aria"],
         "table slots", "aria"),
        ("row format", ["ALTER TABLE slots ROW_FORMAT = COMPRESSED"], "table slots", "compressed"),
        ("sequence's step", ["ALTER SEQUENCE tickets INCREMENT BY 1"], "sequence tickets", "1"),
        ("sequence goes round", ["ALTER SEQUENCE tickets CYCLE"], "sequence tickets", "cycle"),
    ],
}  # fmt: skip

TOUCHED = Contract.model_validate(
    {"tables": [{"name": "quays", "columns_added": ["flag"]}, {"name": "slots", "columns_renamed": {"num": "place"}}]}
)
TOUCH = ["ALTER TABLE quays ADD COLUMN flag int", "ALTER TABLE slots RENAME COLUMN num TO place"]


class Kept:
    """A database that is made anew for each damage."""

    def __init__(self, engine: str, engine_demo: MakeDemo, folder: Path) -> None:
        self.engine, self.path = engine, folder / "quays.sqlite"
        self.demo = None if engine == "sqlite" else engine_demo(engine, rows=10, start=False)
        self.database: Database = (
            open_database(DatabaseAddress("main", "sqlite", self.path))
            if self.demo is None
            else self.demo.site().databases()["main"]
        )

    def run(self, statements: Sequence[str]) -> None:
        if self.demo is not None:
            ask(self.demo, *statements)
            return
        connection = sqlite3.connect(self.path, isolation_level=None)
        for one in statements:
            connection.execute(one)
        connection.close()

    def renew(self) -> None:
        if self.engine == "sqlite":
            self.path.unlink(missing_ok=True)
        elif self.engine == "postgresql":
            self.run(["DROP SCHEMA public CASCADE", "CREATE SCHEMA public"])
        else:
            names = [one.split(" ", 1) for one in self.database.objects()]
            kinds = ("table", "view", "function", "procedure", "event", "sequence")
            drops = [f"DROP {kind} IF EXISTS `{name}`" for kind, name in names if kind in kinds]
            self.run(["SET foreign_key_checks = 0", *drops])
        self.run(SETUP[self.engine])

    def look(self) -> DatabasePrint:
        return take_fingerprint(self.database, workers=1)


@pytest.fixture(params=ENGINES)
def kept(request: pytest.FixtureRequest, engine_demo: MakeDemo, tmp_path: Path) -> Kept:
    return Kept(request.param, engine_demo, tmp_path)


def differing(before: DatabasePrint, after: DatabasePrint, contract: Contract) -> list[TableVerdict]:
    judged = judge(before, after, compose(before, [("3.0", contract)]))
    return [one for one in judged if one.verdict is Verdict.DIFFERS]


def some(cases: list[Damage], engine: str) -> list[Damage]:
    """On servers others in each run, all of them in a sweep."""
    return cases if engine == "sqlite" or os.environ.get("YELLOW_LADDER_SWEEP") else random.sample(cases, 9)


def _as_is(statement: str) -> str:
    return statement


def _after_touch(statement: str) -> str:
    return re.sub(r"\bnum\b", "place", statement)


@pytest.mark.parametrize(
    ("contract", "change", "as_now"),
    [(Contract(), [], _as_is), (TOUCHED, TOUCH, _after_touch)],
    ids=["nobody spoke of it", "on a table that is changed"],
)
def test_what_is_defined_otherwise_without_a_word_is_found(
    contract: Contract, change: list[str], as_now: Callable[[str], str], kept: Kept
) -> None:
    missed = []
    for kind, statements, name, piece in some(DAMAGE[kept.engine], kept.engine):
        kept.renew()
        before = kept.look()
        kept.run([*change, *map(as_now, statements)])
        after = kept.look()
        found = differing(before, after, contract)
        mine = [remark for one in found if one.table.startswith(name) for remark in one.remarks]
        if not any(piece.lower() in remark.lower() for remark in mine):
            missed.append((kind, [(one.table, one.remarks) for one in found]))
        # Declared, it is none.
        declared = contract.model_copy(update={
            "definition_changed": [one.table for one in found if "otherwise" in one.remarks[0]],
            "objects_added": [one.table for one in found if "appeared" in one.remarks[0]],
            "objects_dropped": [one.table for one in found if "is gone" in one.remarks[0]],
        })  # fmt: skip
        assert is_whole(judge(before, after, compose(before, [("3.0", declared)]))), kind
    assert missed == []


RENAMES = [f"ALTER TABLE quays RENAME COLUMN {a} TO {b}" for a, b in (("name", "title"), ("len", "length"))]
HONEST: dict[str, tuple[dict[str, object], dict[str, list[str]]]] = {
    "renamed": (
        {"tables": [{"name": "walls", "renamed_from": "quays"}]},
        {"sqlite": ["ALTER TABLE quays RENAME TO walls"], "postgresql": ["ALTER TABLE quays RENAME TO walls"]}
        | {"mariadb": ["ALTER TABLE quays RENAME TO walls",
                       "CREATE OR REPLACE VIEW long_quays AS SELECT name FROM walls WHERE len > 8"]},
    ),
    "renamed to what is no plain word": (
        {"tables": [{"name": "quay-walls", "renamed_from": "quays"}]},
        {"sqlite": ['ALTER TABLE quays RENAME TO "quay-walls"'],
         "postgresql": ['ALTER TABLE quays RENAME TO "quay-walls"'],
         "mariadb": ["ALTER TABLE quays RENAME TO `quay-walls`",
                     "CREATE OR REPLACE VIEW long_quays AS SELECT name FROM `quay-walls` WHERE len > 8"]},
    ),
    "columns renamed": (
        {"tables": [{"name": "quays", "columns_renamed": {"name": "title", "len": "length"}}]},
        dict.fromkeys(ENGINES, RENAMES)
        | {"mariadb": [
            *RENAMES, "CREATE OR REPLACE VIEW long_quays AS SELECT title AS name FROM quays WHERE length > 8"]},
    ),
    "key renamed": (
        {"tables": [{"name": "quays", "columns_renamed": {"id": "number"}}]},
        {engine: ["ALTER TABLE quays RENAME COLUMN id TO number"] for engine in ENGINES},
    ),
    "table dropped": (
        {"tables_dropped": ["slots"]},
        {"sqlite": ["DROP TABLE slots"], "postgresql": ["DROP TABLE slots"],
         "mariadb": ["DROP TABLE slots"]},
    ),
    "column added in the middle": (
        {"tables": [{"name": "quays", "columns_added": ["flag"]}]},
        {"sqlite": ["CREATE TABLE fresh (id INTEGER PRIMARY KEY AUTOINCREMENT, flag INTEGER,"
                    " name TEXT NOT NULL DEFAULT 'x'"
                    " COLLATE NOCASE, len INTEGER CHECK (len > 0), twice INTEGER GENERATED ALWAYS AS (len * 2) STORED)",
                    "DROP TABLE quays", "PRAGMA legacy_alter_table = ON", "ALTER TABLE fresh RENAME TO quays",
                    "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
                    "CREATE INDEX quays_lower ON quays (lower(name), len)"],
         "postgresql": ["ALTER TABLE quays ADD flag int"], "mariadb": ["ALTER TABLE quays ADD flag int AFTER id"]},
    ),
    "names of the engine's own": (
        {},
        {"sqlite": [],
         "postgresql": ["ALTER TABLE slots RENAME CONSTRAINT slots_quay_fkey TO fk_1",
                        "ALTER INDEX slots_quay_num_key RENAME TO other_name"],
         "mariadb": ["ALTER TABLE slots DROP FOREIGN KEY at_quay",
                     "ALTER TABLE slots ADD CONSTRAINT other FOREIGN KEY (quay) REFERENCES quays (id)"]},
    ),
    "column dropped with its index": (
        {"tables": [{"name": "slots", "columns_dropped": ["num"]}]},
        {"sqlite": [], "postgresql": ["DROP POLICY mine ON slots", "DROP RULE quiet ON slots",
                                      "ALTER TABLE slots DROP COLUMN num"], "mariadb": []},
    ),
}  # fmt: skip
ALSO = {"column dropped with its index": {"postgresql": ["policy mine on slots", "rule quiet on slots"]}}


@pytest.mark.parametrize("change", HONEST)
def test_an_honest_change_of_a_table_takes_its_definitions_along(change: str, kept: Kept) -> None:
    contract, statements = HONEST[change]
    if not statements[kept.engine]:
        return  # this engine has no such change in one step
    kept.renew()
    before = kept.look()
    kept.run(statements[kept.engine])
    dropped = ALSO.get(change, {}).get(kept.engine, [])
    declared = Contract.model_validate({**contract, "objects_dropped": dropped})
    assert [(one.table, one.remarks) for one in differing(before, kept.look(), declared)] == []
