"""What else of the site's own lies in a data folder: a key comes with it, and settings have to be told from data."""

from __future__ import annotations

import pytest

from tests.conftest import MakeDemo
from tests.test_shapes import Look, look

SHAPES = ("plain", "shared", "environment")


def beside_releases(found: Look) -> Look:
    """A database file counts how often it was opened to write."""
    return {path: one for path, one in found.items() if not path.startswith(("releases", "data/quaybook.sqlite"))}


@pytest.mark.parametrize("shape", SHAPES)
def test_a_key_in_a_data_folder_comes_with_it(make_demo: MakeDemo, shape: str) -> None:
    demo = make_demo(shape=shape, start=False)
    (demo.root / "data" / "office.key").write_text("of the office\n")
    (demo.root / "data" / "office.key").chmod(0o600)
    demo.edit('keys = ["etc/secret.key"', 'keys = ["data/office.key", "etc/secret.key"')
    before = beside_releases(look(demo.root))
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert look(demo.root)["data/office.key"] == before["data/office.key"]
    assert demo.yl("descend", "--yes").code == 0
    assert beside_releases(look(demo.root)) == before


@pytest.mark.parametrize("shape", SHAPES)
def test_settings_in_a_data_folder_stop_the_check_and_its_remedy_works_word_for_word(
    make_demo: MakeDemo, shape: str
) -> None:
    demo = make_demo(shape=shape, start=False)
    (demo.root / "etc" / "seen.json").write_text('{"ships": 7}\n')
    (demo.root / "etc" / "tides").mkdir()
    (demo.root / "etc" / "tides" / "may.csv").write_text("low,high\n")
    demo.edit("data = [", 'data = ["etc", ')
    demo.edit('keys = ["etc/secret.key"', 'keys = ["etc/other.key"')
    before = beside_releases(look(demo.root))
    findings = demo.json("check", "--to", "3.0", code=1)["findings"]
    told = [one for one in findings if one["level"] == "stop" and one["check"] == "data folders"]
    assert [one["saw"].split(" is settings")[0] for one in told] == ["etc/quaybook.ini"]
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 1
    assert demo.json("history") == []
    named = told[0]["remedy"].partition("data = [")[2].rstrip("]")
    assert named == '"etc/secret.key", "etc/seen.json", "etc/tides"'
    demo.edit('data = ["etc", ', f"data = [{named}, ")
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert (demo.root / "etc" / "seen.json").read_text() == '{"ships": 7}\n'
    assert demo.yl("descend", "--yes").code == 0
    assert beside_releases(look(demo.root)) == before
