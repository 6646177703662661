"""Accounts of database servers: with the rights that the documents ask for, and no others, everything works."""

from __future__ import annotations

import uuid

import pytest

from tests.conftest import Demo, MakeDemo
from tests.engines import ask
from yellow_ladder.demo.proof import picture_of

OBJECTS = """
SELECT CASE relkind WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END, relname FROM pg_class
WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'v')
UNION ALL SELECT 'FUNCTION', proname FROM pg_proc WHERE pronamespace = 'public'::regnamespace"""


def goes_up_and_back(demo: Demo) -> None:
    """All that needs the account's rights: the checks, a backup, its loading, a climb, and the way back."""
    assert not [one for one in demo.json("check")["findings"] if one["level"] == "stop"]
    assert demo.yl("backup", "make").code == 0
    assert demo.yl("backup", "test", "--load").code == 0
    before = picture_of(demo.site())
    assert demo.yl("climb", "--yes").code == 0
    ask(demo, "DELETE FROM notices")
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before


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
    goes_up_and_back(demo)


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


CODE = {
    "the function tide": "FUNCTION tide() RETURNS INT DETERMINISTIC RETURN 7",
    "the view tide": "VIEW tide AS SELECT 7",
    "the trigger tide": "TRIGGER tide BEFORE INSERT ON notices FOR EACH ROW SET @tide = 7",
    "the event tide": "EVENT tide ON SCHEDULE EVERY 1 DAY DO DELETE FROM notices WHERE 1 = 0",
}


def kept_by_another(demo: Demo, *statements: str) -> str:
    """Have the site use an account with all rights on its database, and none beside."""
    keeper = f"keeper_{uuid.uuid4().hex[:8]}"
    name = demo.site().addresses()[0].database
    made = f"CREATE USER '{keeper}'@'%' IDENTIFIED BY 'low water'"
    ask(demo, made, f"GRANT ALL ON `{name}`.* TO '{keeper}'@'%'", *statements)
    (demo.folder / "quaybook.password").write_text("low water\n")
    demo.edit("mariadb://quaybook@", f"mariadb://{keeper}@")
    return keeper


@pytest.mark.parametrize("what", CODE)
def test_code_that_another_account_has_defined_stops_a_climb_until_the_rights_are_given(
    what: str, engine_demo: MakeDemo
) -> None:
    """Vendors' schemas have functions of whoever loaded them: an account of the application may not write them down."""
    demo = engine_demo("mariadb", start=False)
    kept_by_another(demo, f"CREATE {CODE[what]}")
    found = [one for one in demo.json("check", code=1)["findings"] if one["check"] == "database rights"]
    assert {one["level"] for one in found} == {"stop"}
    assert what in next(one["saw"] for one in found if "could not make again" in one["saw"])
    assert any("cannot read" in one["saw"] and what in one["saw"] for one in found) == (what == "the function tide")
    for one in found:  # as an administrator would do it, word for word
        ask(demo, one["remedy"].partition(", or name")[0])
    assert not [one for one in demo.json("check")["findings"] if one["level"] == "stop"]
    if what != "the function tide":
        return
    before = picture_of(demo.site())
    assert demo.yl("climb", "--yes").code == 0
    ask(demo, "DELETE FROM notices")
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before


def test_no_quick_clone_is_promised_that_the_account_could_not_make(engine_demo: MakeDemo) -> None:
    """An application's account has all rights on its database, and taking tables as files needs one on the server."""
    demo = engine_demo("mariadb", start=False)
    assert demo.site().databases()["main"].why_no_clone() == ""
    keeper = kept_by_another(demo)
    ask(demo, f"GRANT SET USER ON *.* TO '{keeper}'@'%'")
    (told,) = [one for one in demo.json("check")["findings"] if "could only be counted" in one["saw"]]
    assert (told["level"], told["check"]) == ("warn", "database rights")
    answer = demo.yl("climb", "--to", "2.6", "--yes", COLUMNS="200")
    assert answer.code == 0, answer
    ask(demo, "UPDATE notices SET body = 'written since' WHERE id = 3")
    price = demo.json("descend", "--price")["price"]
    assert [(one["table"], one["compared"]) for one in price["tables"]] == [("notices", False)]
    assert "may not do this" in price["counted_only"][0]
    ask(demo, told["remedy"].partition(" TO it")[0] + f" TO '{keeper}'@'%'")
    assert "could only be counted" not in str(demo.json("check"))
    price = demo.json("descend", "--price")["price"]
    assert [(one["table"], one["changed"]) for one in price["tables"]] == [("notices", 1)]
    assert "(no quick clone: the account lacks the right RELOAD" in answer.out
    ask(demo, f"GRANT RELOAD ON *.* TO '{keeper}'@'%'")
    database = demo.site().databases()["main"]
    assert database.why_no_clone() == ""
    assert database.make_clone(demo.folder / "clone") > 0
