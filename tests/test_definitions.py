"""What is defined is data: whatever a migration changes of it without saying so is found, by name."""

from __future__ import annotations

import pytest

from tests.conftest import MakeDemo
from tests.engines import SERVERS, ask
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.verdicts import Verdict, is_whole
from yellow_ladder.release.contract import Contract

SETUP = {
    "postgresql": [
        "CREATE TABLE quays (id int PRIMARY KEY, name text NOT NULL DEFAULT 'x', len int CHECK (len > 0))",
        "CREATE TABLE slots (id int PRIMARY KEY, quay int REFERENCES quays ON DELETE RESTRICT)",
        "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
        "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 8",
        "CREATE FUNCTION twice(x int) RETURNS int LANGUAGE sql AS 'SELECT x * 2'",
    ],
    "mariadb": [
        "CREATE TABLE quays (id int PRIMARY KEY, name varchar(40) NOT NULL DEFAULT 'x', len int CHECK (len > 0))",
        "CREATE TABLE slots (id int PRIMARY KEY, quay int, CONSTRAINT at_quay FOREIGN KEY (quay) REFERENCES quays(id))",
        "CREATE UNIQUE INDEX quays_by_name ON quays (name)",
        "CREATE VIEW long_quays AS SELECT name FROM quays WHERE len > 8",
        "CREATE FUNCTION twice(x int) RETURNS int DETERMINISTIC RETURN x * 2",
    ],
}
DAMAGE = {
    "postgresql": [
        (["ALTER TABLE quays ALTER name DROP NOT NULL"], "table quays", "NOT NULL"),
        (["ALTER TABLE quays ALTER name SET DEFAULT 'y'"], "table quays", "'y'"),
        (["ALTER TABLE quays DROP CONSTRAINT quays_len_check"], "table quays", "CHECK"),
        (["ALTER TABLE slots DROP CONSTRAINT slots_quay_fkey",
          "ALTER TABLE slots ADD CONSTRAINT slots_quay_fkey FOREIGN KEY (quay) REFERENCES quays ON DELETE CASCADE"],
         "table slots", "CASCADE"),
        (["DROP INDEX quays_by_name", "CREATE INDEX quays_by_name ON quays (name)"], "index quays_by_name", "UNIQUE"),
        (["CREATE OR REPLACE VIEW long_quays AS SELECT name FROM quays WHERE len > 9"], "view long_quays", "9"),
        (["CREATE OR REPLACE FUNCTION twice(x int) RETURNS int LANGUAGE sql AS 'SELECT x * 3'"], "function twice", "3"),
        (["COMMENT ON TABLE quays IS 'stone'"], "table quays", "stone"),
    ],
    "mariadb": [
        (["ALTER TABLE quays MODIFY name varchar(40) DEFAULT 'x'"], "table quays", "NOT NULL"),
        (["ALTER TABLE quays ALTER name SET DEFAULT 'y'"], "table quays", "'y'"),
        (["ALTER TABLE slots DROP FOREIGN KEY at_quay",
          "ALTER TABLE slots ADD CONSTRAINT at_quay FOREIGN KEY (quay) REFERENCES quays (id) ON DELETE CASCADE"],
         "table slots", "CASCADE"),
        (["DROP INDEX quays_by_name ON quays", "CREATE INDEX quays_by_name ON quays (name)"], "table quays", "KEY"),
        (["CREATE OR REPLACE VIEW long_quays AS SELECT name FROM quays WHERE len > 9"], "view long_quays", "9"),
        (["CREATE OR REPLACE FUNCTION twice(x int) RETURNS int DETERMINISTIC RETURN x * 3"], "function twice", "3"),
        (["ALTER TABLE quays COMMENT 'stone'"], "table quays", "stone"),
        (["ALTER TABLE quays CONVERT TO CHARACTER SET latin1"], "table quays", "latin1"),
    ],
}  # fmt: skip


@pytest.mark.parametrize("engine", SERVERS)
def test_what_is_defined_otherwise_without_a_word_is_found(engine: str, engine_demo: MakeDemo) -> None:
    demo = engine_demo(engine, start=False)
    ask(demo, *SETUP[engine])
    database = demo.site().databases()["main"]
    before = take_fingerprint(database)
    for statements, name, piece in DAMAGE[engine]:
        ask(demo, *statements)
        after = take_fingerprint(database)
        found = [one for one in judge(before, after, compose(before, [])) if one.verdict is Verdict.DIFFERS]
        mine = [one for one in found if one.table.startswith(name)]
        assert mine, (statements, found)
        assert any(piece.lower() in remark.lower() for one in mine for remark in one.remarks), mine
        # Declared, it is none; and what is defined on a table that is declared to change need not be named.
        declared = Contract(definition_changed=[one.table for one in found])
        assert is_whole(judge(before, after, compose(before, [("3.0", declared)])))
        before = after
