"""Each question has one judge: what becomes of a settings key, and which version a probe should tell."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path

import pytest

from tests.conftest import Demo
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.source import sheet_in
from yellow_ladder.survey.records import ProbeAnswer
from yellow_ladder.survey.versions import judge_versions

SECOND = "[server]\nport = 9\n\n[harbour]\ntitle = Winter quay\n\n[ui]\nlegacy_theme = dark\n"


def with_second_file(demo: Demo) -> Path:
    """A second settings file, with keys of the same names as the first one's."""
    second = demo.root / "etc" / "winter.ini"
    second.write_text(SECOND)
    demo.edit('{ file = "etc/quaybook.ini" }', '{ file = "etc/quaybook.ini" }, { file = "etc/winter.ini" }')
    return second


def set_first(demo: Demo, old: str, new: str) -> None:
    settings = demo.root / "etc" / "quaybook.ini"
    text = settings.read_text()
    assert old in text
    settings.write_text(text.replace(old, new))


def faults_of(demo: Demo) -> list[str]:
    """What the proof says of settings now."""
    proof = json.loads(demo.yl("verify", "--json").out)["result"]
    return [fault for fault in proof["faults"] if fault.startswith("setting ")]


def test_the_proof_of_settings_passes_no_loss(idle: Demo) -> None:
    with_second_file(idle)
    set_first(idle, "[booking]", "[booking]\nhold_hours = 24")
    assert idle.yl("climb", "--yes").code == 0
    first, second = idle.root / "config" / "quaybook.ini", idle.root / "etc" / "winter.ini"
    assert "legacy_theme = dark" in second.read_text().splitlines(), "a release changes only the file that it names"
    assert "title = Winter quay" in second.read_text().splitlines()

    # Retired and renamed in the first file only: the second file's keys of these names must stay.
    second.write_text(SECOND.replace("legacy_theme = dark\n", "").replace("title = Winter quay\n", ""))
    found = faults_of(idle)
    assert len(found) == 2
    assert all("etc/winter.ini" in one for one in found)
    assert "ui.legacy_theme" in " ".join(found)
    assert "harbour.title" in " ".join(found)
    second.write_text(SECOND)

    # 2.6 adds this key; the site had it already, so that its value must stay.
    text = first.read_text()
    first.write_text(text.replace("hold_hours = 24", "hold_hours = 48"))
    assert ["booking.hold_hours" in one for one in faults_of(idle)] == [True]
    first.write_text("\n".join(line for line in text.splitlines() if "hold_hours" not in line) + "\n")
    assert ["booking.hold_hours" in one for one in faults_of(idle)] == [True]

    # 4.0 adds this one, which was not set before: it must be there.
    first.write_text("\n".join(line for line in text.splitlines() if "sender" not in line) + "\n")
    assert ["mail.sender" in one for one in faults_of(idle)] == [True]
    first.write_text(text)
    assert faults_of(idle) == []


def test_check_tells_what_the_climb_will_do_with_a_key_that_has_both_names(idle: Demo) -> None:
    set_first(idle, "[harbour]", "[harbour]\nname = New harbour")
    told = [one for one in idle.json("check")["findings"] if one["check"] == "settings changes"]
    told = [one for one in told if "harbour.title" in one["saw"]]
    assert [one["level"] for one in told] == ["warn"], told
    assert "harbour.name" in told[0]["saw"]
    plan = idle.json("climb", "--yes")
    assert plan["state"] == "climbed"
    lines = (idle.root / "config" / "quaybook.ini").read_text().splitlines()
    assert "name = New harbour" in lines
    assert any(line.startswith("# title = ") for line in lines), "the value under the old name can still be read"
    assert faults_of(idle) == []


def test_a_change_in_one_settings_file_is_not_hidden_by_another(idle: Demo) -> None:
    second = with_second_file(idle)
    assert idle.yl("survey", "--save", "monday").code == 0
    second.write_text(SECOND.replace("port = 9", "port = 10"))
    set_first(idle, "[ui]", "; a comment\n\n[ui]")
    changes = idle.json("survey", "--against", "monday")["changes"]
    assert changes["settings"] == [["etc/winter.ini", "server.port", "9", "10"]]
    shown = idle.yl("survey", "--against", "monday").out
    assert "etc/winter.ini" in shown
    shutil.copy(idle.root / "etc" / "quaybook.ini", second)
    changes = idle.json("survey", "--against", "monday")["changes"]["settings"]
    assert {file for file, *_ in changes} == {"etc/winter.ini"}


def test_unreadable_databases_of_one_name_are_both_kept_when_going_back(idle: Demo) -> None:
    for place in ("data/north", "data/south"):
        (idle.root / place).mkdir()
        connection = sqlite3.connect(idle.root / place / "log.sqlite")
        connection.executescript(f"CREATE TABLE entries (text); INSERT INTO entries VALUES ('{place}');")
        connection.close()
    names = "".join(
        f'[[databases]]\nname = "{place}"\nurl = "sqlite:///quaybook/data/{place}/log.sqlite"\n\n'
        for place in ("north", "south")
    )
    idle.edit("[keep]\n", f"{names}[keep]\n")
    assert idle.yl("climb", "--yes").code == 0
    for place in ("north", "south"):
        (idle.root / "data" / place / "log.sqlite").write_bytes(f"no database any more: {place}".encode())
    assert idle.yl("descend", "--yes").code == 0
    kept = [path.read_bytes() for path in idle.folder.glob(".ladder/climbs/*/written-since/**/log.sqlite")]
    assert sorted(kept) == [f"no database any more: {place}".encode() for place in ("north", "south")]


SHEET = ReleaseSheet.model_validate(
    {"format": 1, "release": {"product": "quaybook", "version": "3.0", "schema": "30", "parts": {"kit": "1.4"}}}
)


@pytest.mark.parametrize(
    ("of", "part", "says", "wanted", "is_right"),
    [
        ("disk", "", "3.0.0", "3.0", True),
        ("served", "", "2.6", "3.0", False),
        ("schema", "", "30", "30", True),
        ("schema", "", "26", "30", False),
        ("disk", "kit", "1.4", "1.4", True),
        ("served", "kit", "1.3", "1.4", False),
        ("disk", "rope", "7", "", True),
        ("schema", "kit", "41", "", True),
        ("served", "", "", "3.0", False),
    ],
)
def test_what_a_probe_should_say(of: str, part: str, says: str, wanted: str, is_right: bool) -> None:
    answer = ProbeAnswer(of, "somewhere", says, "" if says else "no answer", part)
    (verdict,) = judge_versions([answer], "3.0", SHEET)
    assert (verdict.wanted, verdict.is_right, verdict.is_silent) == (wanted, is_right, not says)
    assert bool(verdict.fault) is not is_right
    (unknown,) = judge_versions([answer], "")
    assert unknown.is_right


def test_a_schema_probe_of_a_part_is_judged_alike_by_survey_check_and_proof(idle: Demo) -> None:
    for version in ("2.4", "2.6"):
        raw = sheet_in(idle.folder / "releases" / f"quaybook-{version}.tar.zst")
        assert raw is not None
        text = raw.decode().replace("[reach]", 'parts = { kit = "1.4" }\n\n[reach]', 1)
        (idle.folder / "releases" / f"quaybook-{version}.release.toml").write_text(text)
    idle.edit('digests = "required"', 'digests = "wanted"')
    probe = '[[versions]]\nof = "schema"\npart = "kit"\nquery = "SELECT 41"\n\n'
    idle.edit("[[databases]]", f"{probe}[[databases]]")
    found = idle.json("check", "--to", "2.6")["findings"]
    assert [
        one for one in found if "kit" in one["saw"] or (one["check"] == "versions" and one["level"] == "stop")
    ] == []
    assert not [one for one in idle.json("survey")["findings"] if "kit" in one]
    assert idle.yl("climb", "--to", "2.6", "--yes").code == 0
    assert idle.yl("descend", "--yes").code == 0


@pytest.mark.parametrize("against", ["monday", "the climb"])
def test_a_settings_file_that_a_release_moved_is_held_against_itself(idle: Demo, against: str) -> None:
    assert idle.yl("survey", "--save", "monday").code == 0
    assert idle.yl("climb", "--to", "3.0", "--yes").code == 0
    name = idle.json("history")[0]["climb"] if against == "the climb" else against
    changes = idle.json("survey", "--against", name)["changes"]["settings"]
    assert {(file, key) for file, key, _, _ in changes} == {
        ("config/quaybook.ini", key)
        for key in ("booking.hold_hours", "harbour.language", "harbour.name", "harbour.title", "ui.legacy_theme")
    }
