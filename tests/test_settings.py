"""Settings follow the release, and whatever it does not speak of stays to the letter."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellow_ladder.errors import BadInput
from yellow_ladder.release.sheet import ReleaseSheet, SettingsChanges
from yellow_ladder.settings.change import carry_out
from yellow_ladder.settings.decide import Fate, KeyDecision, decide, decide_along, followed
from yellow_ladder.settings.ini import IniSettings
from yellow_ladder.settings.judge import judge_settings

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


def change_settings(text: str, wanted: SettingsChanges, name: str) -> tuple[str, list[KeyDecision]]:
    """Decide, and carry out."""
    settings = IniSettings(text, name)
    decisions = decide(name, "9.0", settings.values().keys(), wanted)
    carry_out(settings, decisions)
    return settings.text(), decisions


def test_a_file_that_nothing_is_said_of_stays_to_the_letter() -> None:
    assert change_settings(FILE, changes(), "app.ini") == (FILE, [])
    assert IniSettings(FILE, "app.ini").text() == FILE
    windows = FILE.replace("\n", "\r\n")
    assert IniSettings(windows, "app.ini").text() == windows


def test_a_rename_keeps_value_place_and_comments() -> None:
    text, done = change_settings(FILE, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert text == FILE.replace("title = ", "name = ")
    assert [(one.fate, one.key, one.detail) for one in done] == [("renamed", "harbour.name", "was harbour.title")]


def test_a_rename_to_another_section_moves_the_value() -> None:
    text, _ = change_settings(FILE, changes(renamed=[{"from": "harbour.motto", "to": "page.motto"}]), "app.ini")
    values = IniSettings(text, "app.ini").values()
    assert values["page.motto"] == "first line\nsecond line"
    assert "harbour.motto" not in values


def test_both_names_set_keeps_the_new_one_and_says_so() -> None:
    both = FILE.replace("[ui]", "name = New\n\n[ui]")
    text, done = change_settings(both, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert IniSettings(text, "app.ini").get("harbour.name") == "New"
    assert (done[0].fate, done[0].key, done[0].superseded_by) == (Fate.RETIRED, "harbour.title", "harbour.name")
    assert "# title = Sandhavn = the best 100% (retired: the value of harbour.name, its new name, counts)" in text


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
    assert [one.fate for one in done] == ["added", "kept"]
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


def release(**given: object) -> ReleaseSheet:
    about = {"product": "quaybook", "version": "9.0"}
    return ReleaseSheet.model_validate({"format": 1, "release": about, **given})


def test_decisions_follow_a_key_through_releases_and_moves_in_its_own_file_only() -> None:
    way = [
        ("3.0", release(
            files={"moved": [{"from": "etc/a.ini", "to": "config/a.ini"}]},
            settings=[{"file": "config/a.ini", "renamed": [{"from": "x.one", "to": "x.two"}]}],
        )),
        ("4.0", release(settings=[{"file": "config/a.ini", "renamed": [{"from": "x.two", "to": "x.three"}],
                                   "added": [{"key": "x.one", "value": "new"}]}])),
        ("5.0", release(settings=[{"file": "config/a.ini", "retired": [{"key": "x.one"}]}])),
    ]  # fmt: skip
    decisions = decide_along({"etc/a.ini": {"x.one"}, "etc/b.ini": {"x.one"}}, way)
    assert [(one.version, one.fate, one.old_key, one.key) for one in decisions] == [
        ("3.0", Fate.RENAMED, "x.one", "x.two"),
        ("4.0", Fate.RENAMED, "x.two", "x.three"),
        ("4.0", Fate.ADDED, "", "x.one"),
        ("5.0", Fate.RETIRED, "", "x.one"),
    ]
    assert followed("etc/a.ini", "x.one", decisions) == "x.three"
    assert followed("etc/b.ini", "x.one", decisions) == "x.one"
    assert [KeyDecision.from_record(one.as_record()) for one in decisions] == list(decisions)
    before = {"etc/a.ini": {"x.one": "mine"}, "etc/b.ini": {"x.one": "other"}}
    now = {"etc/a.ini": {"x.three": "mine"}, "etc/b.ini": {"x.one": "other"}}
    assert judge_settings(before, now, decisions).faults == ()
    assert judge_settings(before, now, decisions).kept == 2
    swapped = {"etc/a.ini": {"x.three": "other"}, "etc/b.ini": {"x.one": "mine"}}
    assert len(judge_settings(before, swapped, decisions).faults) == 2


keys = st.sampled_from(["s.a", "s.b", "s.c"])
sheets = st.lists(
    st.builds(
        lambda file, renamed, added, retired: release(settings=[{
            "file": file,
            "renamed": [{"from": old, "to": new} for old, new in renamed if old != new],
            "added": [{"key": key, "value": "default"} for key in added],
            "retired": [{"key": key} for key in retired],
        }]),
        st.sampled_from(["a.ini", "b.ini"]),
        st.lists(st.tuples(keys, keys), max_size=2), st.lists(keys, max_size=1), st.lists(keys, max_size=1),
    ),
    max_size=4,
)  # fmt: skip


@given(sheets=sheets, there=st.dictionaries(st.sampled_from(["a.ini", "b.ini"]), st.sets(keys, min_size=1), min_size=1))
def test_what_was_decided_and_carried_out_is_what_the_judge_wants_and_any_loss_is_told(
    sheets: list[ReleaseSheet], there: dict[str, set[str]]
) -> None:
    texts = {
        file: "[s]\n" + "".join(f"{key[2:]} = {file} {key}\n" for key in sorted(has)) for file, has in there.items()
    }
    before = {file: IniSettings(text, file).values() for file, text in texts.items()}
    decisions = decide_along(there, [(f"{number}.0", sheet) for number, sheet in enumerate(sheets)])
    now = {}
    for file, text in texts.items():
        settings = IniSettings(text, file)
        carry_out(settings, [one for one in decisions if one.file == file])
        now[file] = settings.values()
    verdict = judge_settings(before, now, decisions)
    assert verdict.faults == ()
    for file, values in now.items():
        for key, value in values.items():
            if value != "default":
                lost = {**now, file: {name: one for name, one in values.items() if name != key}}
                assert len(judge_settings(before, lost, decisions).faults) == 1
                assert judge_settings(before, lost, decisions).kept == verdict.kept - 1
