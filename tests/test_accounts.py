"""Accounts of database servers: with the rights that the documents ask for, and no others, everything works."""

from __future__ import annotations

import uuid

import pytest

from tests.conftest import MakeDemo
from tests.engines import ask
from yellow_ladder.demo.proof import picture_of

OBJECTS = """
SELECT CASE relkind WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END, relname FROM pg_class
WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'v')
UNION ALL SELECT 'FUNCTION', proname FROM pg_proc WHERE pronamespace = 'public'::regnamespace"""


@pytest.mark.parametrize("clone", ["wanted", "off"])
def test_an_owner_that_may_only_make_databases_goes_up_and_back(clone: str, engine_demo: MakeDemo) -> None:
    """No right in a tablespace is needed, and nothing of a superuser."""
    demo = engine_demo("postgresql", start=False)
    name, keeper = demo.site().addresses()[0].database, f"keeper_{uuid.uuid4().hex[:8]}"
    ask(
        demo,
        f"CREATE ROLE {keeper} LOGIN CREATEDB PASSWORD 'low water'",
        f"ALTER DATABASE {name} OWNER TO {keeper}",
        *(f"ALTER {kind} {which} OWNER TO {keeper}" for kind, which in ask(demo, OBJECTS)),
    )
    (demo.folder / "quaybook.password").write_text("low water\n")
    demo.edit("postgresql://quaybook@", f"postgresql://{keeper}@")
    demo.edit("volatile = ", f'clone = "{clone}"\nvolatile = ')
    assert not [one for one in demo.json("check")["findings"] if one["level"] == "stop"]
    assert demo.yl("backup", "make").code == 0
    assert demo.yl("backup", "test", "--load").code == 0
    before = picture_of(demo.site())
    assert demo.yl("climb", "--yes").code == 0
    ask(demo, "DELETE FROM notices")
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before


def test_objects_of_somebody_else_that_going_back_could_not_give_back_stop_a_climb(engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql", start=False)
    name, keeper = demo.site().addresses()[0].database, f"keeper_{uuid.uuid4().hex[:8]}"
    ask(
        demo,
        f"CREATE ROLE {keeper} LOGIN CREATEDB PASSWORD 'low water'",
        f"GRANT ALL ON ALL TABLES IN SCHEMA public TO {keeper}",
        f"GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO {keeper}",
        f"ALTER DATABASE {name} OWNER TO {keeper}",
        *(f"ALTER {kind} {which} OWNER TO {keeper}" for kind, which in ask(demo, OBJECTS) if which != "berths"),
    )
    (demo.folder / "quaybook.password").write_text("low water\n")
    demo.edit("postgresql://quaybook@", f"postgresql://{keeper}@")
    found = demo.json("check", code=1)["findings"]
    (told,) = [one for one in found if one["check"] == "database rights"]
    assert told["level"] == "stop"
    assert "berths" in told["saw"]
    assert f"GRANT quaybook TO {keeper}" in told["remedy"]
