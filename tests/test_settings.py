"""Settings follow the release, and whatever it does not speak of stays to the letter."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellow_ladder.errors import BadInput
from yellow_ladder.release.sheet import SettingsChanges
from yellow_ladder.settings.change import change_settings
from yellow_ladder.settings.ini import IniSettings

FILE = """\
; The harbour office's settings.
# Do not ask about the port.

[server]
Port=8024        ; behind the proxy
host : 127.0.0.1

[harbour]
# The name that stands on every page.
title = Sandhavn = the best 100%
motto = first line
    second line

[ui]
# A matter of taste.
legacy = yes
"""


def changes(**given: object) -> SettingsChanges:
    return SettingsChanges.model_validate({"file": "app.ini", **given})


def test_a_file_that_nothing_is_said_of_stays_to_the_letter() -> None:
    assert change_settings(FILE, changes(), "app.ini") == (FILE, [])
    assert IniSettings(FILE, "app.ini").text() == FILE
    windows = FILE.replace("\n", "\r\n")
    assert IniSettings(windows, "app.ini").text() == windows


def test_a_rename_keeps_value_place_and_comments() -> None:
    text, done = change_settings(FILE, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert text == FILE.replace("title = ", "name = ")
    assert [(one.what, one.key, one.detail) for one in done] == [("renamed", "harbour.name", "was harbour.title")]


def test_a_rename_to_another_section_moves_the_value() -> None:
    text, _ = change_settings(FILE, changes(renamed=[{"from": "harbour.motto", "to": "page.motto"}]), "app.ini")
    values = IniSettings(text, "app.ini").values()
    assert values["page.motto"] == "first line\nsecond line"
    assert "harbour.motto" not in values


def test_both_names_set_keeps_the_new_one_and_says_so() -> None:
    both = FILE.replace("[ui]", "name = New\n\n[ui]")
    text, done = change_settings(both, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert IniSettings(text, "app.ini").get("harbour.name") == "New"
    assert done[0].what == "kept"
    assert "harbour.title" in done[0].detail


def test_a_retired_key_stays_readable_as_a_comment() -> None:
    retired = changes(retired=[{"key": "ui.legacy", "why": "gone"}])
    text, _ = change_settings(FILE, retired, "app.ini")
    assert text == FILE.replace("legacy = yes", "# legacy = yes (retired: gone)")
    assert change_settings(text, retired, "app.ini") == (text, [])


def test_an_added_key_comes_with_its_default_and_comment_but_never_over_the_sites_own() -> None:
    wanted = changes(added=[
        {"key": "mail.sender", "value": "harbour@quaybook.example", "comment": "Required since 4.0."},
        {"key": "ui.legacy", "value": "no"},
    ])  # fmt: skip
    text, done = change_settings(FILE, wanted, "app.ini")
    assert text.startswith(FILE)
    assert text.endswith("[mail]\n# Required since 4.0.\nsender = harbour@quaybook.example\n")
    assert [one.what for one in done] == ["added", "kept"]
    assert IniSettings(text, "app.ini").get("ui.legacy") == "yes"


@pytest.mark.parametrize("broken", ["no section = 1\n", "[a]\n[a]\n", "[a]\nb = 1\nb = 2\n", "[a\nb = 1\n"])
def test_a_file_that_is_no_ini_is_refused_by_name(broken: str) -> None:
    with pytest.raises(BadInput) as refusal:
        change_settings(broken, changes(added=[{"key": "a.b", "value": "1"}]), "app.ini")
    assert "app.ini" in refusal.value.problems[0].message


words = st.text(st.characters(codec="ascii", categories=("L", "N")), min_size=1, max_size=8)
files = st.dictionaries(
    words, st.dictionaries(words.map(str.lower), words, min_size=1, max_size=4), min_size=1, max_size=4
)


@given(content=files, comment=words, data=st.data())
def test_any_change_leaves_every_other_value_and_comment_alone(
    content: dict[str, dict[str, str]], comment: str, data: st.DataObject
) -> None:
    lines = []
    for section, options in content.items():
        lines += [f"[{section}]", f"# {comment} {section}"]
        lines += [f"{key} = {value}" for key, value in options.items()]
    text = "\n".join(lines) + "\n"
    section = data.draw(st.sampled_from(sorted(content)))
    key = data.draw(st.sampled_from(sorted(content[section])))
    name = f"{section}.{key}"
    kind = data.draw(st.sampled_from(["rename", "retire", "add"]))
    wanted = {
        "rename": changes(renamed=[{"from": name, "to": f"{section}.new_name"}]),
        "retire": changes(retired=[{"key": name}]),
        "add": changes(added=[{"key": f"{section}.new_name", "value": "1"}]),
    }[kind]
    before = IniSettings(text, "x").values()
    changed, _ = change_settings(text, wanted, "x")
    after = IniSettings(changed, "x").values()
    untouched = {one: value for one, value in before.items() if one != name}
    assert {one: value for one, value in after.items() if one in untouched} == untouched
    assert all(f"# {comment} {one}" in changed.splitlines() for one in content)
    again, _ = change_settings(changed, wanted, "x")
    assert IniSettings(again, "x").values() == after
