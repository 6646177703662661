"""Settings follow the release, and whatever it does not speak of stays to the letter."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yellow_ladder.errors import BadInput
from yellow_ladder.release.settings import SettingsChanges
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.settings.choices import keep_choices, read_choices
from yellow_ladder.settings.closing import closed, opened
from yellow_ladder.settings.document import Document, merge_documents
from yellow_ladder.settings.forecast import Ask, Forecast, OnTheWay, OwnFile, Shipped, foresee
from yellow_ladder.settings.judge import judge_settings
from yellow_ladder.settings.merging.outcomes import Answer, Fate, Outcome, Sides
from yellow_ladder.settings.notes import notes_of
from yellow_ladder.settings.reading import read_settings
from yellow_ladder.settings.words import say_after, say_before
from yellow_ladder.site.keep_records import SettingsFile
from yellow_ladder.site.maintenance_records import ClosingKey

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


def ini(text: str, name: str = "app.ini") -> Document:
    return read_settings(text.encode(), "ini", name)


def change_settings(text: str, wanted: SettingsChanges, name: str) -> tuple[str, list[Outcome]]:
    """What a sheet says, done to a file that the release does not ship."""
    settings = ini(text, name)
    told, _ = say_before(settings, None, [wanted])
    told += say_after(settings, [wanted])
    return settings.raw.decode(), told


def test_a_file_that_nothing_is_said_of_stays_to_the_letter() -> None:
    assert change_settings(FILE, changes(), "app.ini") == (FILE, [])
    assert ini(FILE).raw.decode() == FILE
    windows = FILE.replace("\n", "\r\n")
    assert ini(windows).raw.decode() == windows


def test_a_rename_keeps_value_place_and_comments() -> None:
    text, done = change_settings(FILE, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert text == FILE.replace("title = ", "name = ")
    assert [(one.fate, one.key, one.why) for one in done] == [("renamed", "harbour.name", "was harbour.title")]


def test_a_rename_to_another_section_moves_the_value() -> None:
    text, _ = change_settings(FILE, changes(renamed=[{"from": "harbour.motto", "to": "page.motto"}]), "app.ini")
    values = ini(text).values()
    assert values["page.motto"] == "first line\nsecond line"
    assert "harbour.motto" not in values


def test_both_names_set_keeps_the_new_one_and_says_so() -> None:
    both = FILE.replace("[ui]", "name = New\n\n[ui]")
    text, done = change_settings(both, changes(renamed=[{"from": "harbour.title", "to": "harbour.name"}]), "app.ini")
    assert ini(text).get("harbour.name") == "New"
    assert (done[0].fate, done[0].key) == (Fate.RETIRED, "harbour.title")
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
    assert [(one.fate, one.key) for one in done] == [("new", "mail.sender")]
    assert ini(text).get("ui.legacy") == "yes"


@pytest.mark.parametrize("broken", ["[a]\n[a]\n", "[a]\nb = 1\nb = 2\n", "[a\nb = 1\n", "[a]\nno sign here\n"])
def test_a_file_that_is_no_ini_is_refused_by_name(broken: str) -> None:
    with pytest.raises(BadInput) as refusal:
        change_settings(broken, changes(added=[{"key": "a.b", "value": "1"}]), "app.ini")
    assert "app.ini" in refusal.value.problems[0].message
    assert "line" in refusal.value.problems[0].message


def test_keys_before_the_first_section_are_keys_of_the_file() -> None:
    settings = ini("title = Quaybook\n\n[server]\nport = 1\n")
    assert settings.values() == {"title": "Quaybook", "server.port": "1"}


words = st.text(st.characters(max_codepoint=127, categories=("L", "N")), min_size=1, max_size=8)
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
    before = ini(text).values()
    changed, _ = change_settings(text, wanted, "x")
    after = ini(changed).values()
    untouched = {one: value for one, value in before.items() if one != name}
    assert {one: value for one, value in after.items() if one in untouched} == untouched
    assert all(f"# {comment} {one}" in changed.splitlines() for one in content)
    again, _ = change_settings(changed, wanted, "x")
    assert ini(again).values() == after


def test_a_key_of_the_file_itself_is_added_above_the_first_section() -> None:
    settings = ini("a = 1\n[s]\nb = 2\n")
    settings.add("title", "Quaybook", "What it is called.")
    assert settings.raw == b"a = 1\n# What it is called.\ntitle = Quaybook\n[s]\nb = 2\n"


XML = """\
<server port="8024">
  <!-- the office's name -->
  <title>Sandhavn</title>
  <old>yes</old>
</server>
"""


def test_what_sheets_say_is_done_to_elements_too() -> None:
    settings = read_settings(XML.encode(), "", "a.xml")
    wanted = changes(
        renamed=[{"from": "server.title", "to": "server.name"}, {"from": "server.@port", "to": "server.@listen"}],
        retired=[{"key": "server.old", "why": "gone"}],
        added=[{"key": "server.mail", "value": "a & b", "comment": "Since 4.0."}],
    )
    say_before(settings, None, [wanted])
    say_after(settings, [wanted])
    assert (
        settings.raw.decode()
        == """\
<server listen="8024">
  <!-- the office's name -->
  <name>Sandhavn</name>
  <!-- <old>yes</old> (retired: gone) -->
  <!-- Since 4.0. -->
  <mail>a &amp; b</mail>
</server>
"""
    )


STRUCTURED = [
    ("a.yaml", "server:\n  port: 80\n  old: 1\n", "server:\n  listen: 80\n  # old: 1 (retired)\n  mail: x\n"),
    ("a.json", '{\n  "server": {\n    "port": 80,\n    "old": 1\n  }\n}\n',
     '{\n  "server": {\n    "listen": 80,\n    "mail": "x"\n  }\n}\n'),
    ("a.toml", "[server]\nport = 80\nold = 1\n", '[server]\nlisten = 80\n# old = 1 (retired)\nmail = "x"\n'),
    ("a.properties", "server.port=80\nserver.old=1\n", "server.listen=80\n# server.old=1 (retired)\nserver.mail=x\n"),
    ("a.php", "<?php\n$server['port'] = 80;\n$server['old'] = 1;\n",
     "<?php\n$server['listen'] = 80;\n// $server['old'] = 1; (retired)\n"),
    ("a.pm", "Set($port, 80);\nSet($old, 1);\n1;\n",
     "Set($listen, 80);\n# Set($old, 1); (retired)\nSet($mail, 'x');\n1;\n"),
]  # fmt: skip


@pytest.mark.parametrize(("file", "text", "after"), STRUCTURED, ids=[one[0] for one in STRUCTURED])
def test_what_sheets_say_is_done_in_every_kind_of_format(file: str, text: str, after: str) -> None:
    settings = read_settings(text.encode(), "", file)
    above = "" if file == "a.pm" else "server."
    added = [] if file == "a.php" else [{"key": f"{above}mail", "value": "x"}]
    wanted = changes(
        renamed=[{"from": f"{above}port", "to": f"{above}listen"}], retired=[{"key": f"{above}old"}], added=added
    )
    say_before(settings, None, [wanted])
    say_after(settings, [wanted])
    assert settings.raw.decode() == after
    assert read_settings(after.encode(), "", file).raw.decode() == after


def release(**given: object) -> ReleaseSheet:
    about = {"product": "quaybook", "version": "9.0"}
    return ReleaseSheet.model_validate({"format": 1, "release": about, **given})


def step(version: str, shipped: dict[str, str] | None = None, **given: object) -> OnTheWay:
    files = {file: Shipped(text.encode(), "the archive") for file, text in (shipped or {}).items()}
    return OnTheWay(version, release(**given), files)


def asks_nobody(file: str, key: str, sides: Sides) -> Answer | None:
    return None


def foreseen(
    files: dict[str, str], way: list[OnTheWay], base: dict[str, str] | None = None, ask: Ask = asks_nobody
) -> Forecast:
    shipped = {file: Shipped(text.encode(), "the archive") for file, text in (base or {}).items()}
    return foresee([OwnFile(file, text.encode()) for file, text in files.items()], shipped, way, ask)


def test_a_key_is_followed_through_releases_and_moves_in_its_own_file_only() -> None:
    way = [
        step("3.0", files={"moved": [{"from": "etc/a.ini", "to": "config/a.ini"}]},
             settings=[{"file": "config/a.ini", "renamed": [{"from": "x.one", "to": "x.two"}]}]),
        step("4.0", settings=[{"file": "config/a.ini", "renamed": [{"from": "x.two", "to": "x.three"}],
                               "added": [{"key": "x.one", "value": "new"}]}]),
        step("5.0", settings=[{"file": "config/a.ini", "retired": [{"key": "x.one"}]}]),
    ]  # fmt: skip
    own = {"etc/a.ini": "[x]\none = mine\n", "etc/b.ini": "[x]\none = other\n"}
    forecast = foreseen(own, way)
    assert [(one.version, one.outcome.fate, one.outcome.old_key, one.outcome.key) for one in forecast.told] == [
        ("3.0", Fate.RENAMED, "x.one", "x.two"),
        ("4.0", Fate.RENAMED, "x.two", "x.three"),
        ("4.0", Fate.NEW, "", "x.one"),
        ("5.0", Fate.RETIRED, "", "x.one"),
    ]
    assert forecast.of("etc/a.ini").after["5.0"] == b"[x]\nthree = mine\n# one = new (retired)\n"
    notes = notes_of(forecast)
    before = {"etc/a.ini": {"x.one": "mine"}, "etc/b.ini": {"x.one": "other"}}
    planned = {"etc/a.ini": {"x.three": "mine"}, "etc/b.ini": {"x.one": "other"}}
    assert judge_settings(before, planned, planned, notes).faults == ()
    assert judge_settings(before, planned, planned, notes).kept == 2
    swapped = {"etc/a.ini": {"x.three": "other"}, "etc/b.ini": {"x.one": "mine"}}
    assert len(judge_settings(before, planned, swapped, notes).faults) == 2


def test_a_key_renamed_twice_with_shipped_files_keeps_the_sites_value_and_the_rest_follows() -> None:
    base = {"a.ini": "[x]\n# What it is called.\none = Harbour\nlevel = info\n"}
    own = {"a.ini": base["a.ini"].replace("Harbour", "Sandhavn")}
    two = "[x]\n# What it is called.\ntwo = Harbour\nlevel = info\nhold = 48\n"
    way = [
        step("3.0", {"a.ini": two}, settings=[{"file": "a.ini", "renamed": [{"from": "x.one", "to": "x.two"}]}]),
        step("4.0", {"a.ini": two.replace("two =", "three =").replace("info", "warning")},
             settings=[{"file": "a.ini", "renamed": [{"from": "x.two", "to": "x.three"}]}]),
    ]  # fmt: skip
    forecast = foreseen(own, way, base)
    after = forecast.of("a.ini").after
    assert after["3.0"].decode() == two.replace("Harbour", "Sandhavn")
    assert after["4.0"].decode() == ("[x]\n# What it is called.\nthree = Sandhavn\nlevel = warning\nhold = 48\n")
    assert forecast.open == ()


def test_a_retired_default_goes_and_a_retired_own_value_stays_readable() -> None:
    base = {"a.ini": "[ui]\nold = no\ntheme = sea\n"}
    way = [step("3.0", {"a.ini": "[ui]\ntheme = sea\n"}, settings=[{"file": "a.ini", "retired": [{"key": "ui.old"}]}])]
    assert foreseen(base, way, base).of("a.ini").after["3.0"] == b"[ui]\ntheme = sea\n"
    own = {"a.ini": base["a.ini"].replace("old = no", "old = yes")}
    assert b"# old = yes (retired)\n" in foreseen(own, way, base).of("a.ini").after["3.0"]


def test_keys_go_into_another_file_are_converted_and_old_defaults_follow() -> None:
    own = {"a.ini": "[mail]\nhost = relay\n[hold]\nhours = 2\nmode = on\nlimit = 10\n", "b.ini": "[x]\nk = 1\n"}
    changes = {
        "file": "a.ini",
        "moved": [{"from": "mail.host", "file": "b.ini", "to": "smtp.host"}],
        "converted": [{"key": "hold.hours", "by": "value * 60"}, {"key": "hold.mode", "values": {"on": "true"}}],
        "defaults_changed": [{"key": "hold.limit", "from": "10", "to": "20"}],
    }
    after = {one.file: one.after["3.0"].decode() for one in foreseen(own, [step("3.0", settings=[changes])]).files}
    assert after["a.ini"] == "[mail]\n[hold]\nhours = 120\nmode = true\nlimit = 20\n"
    assert after["b.ini"] == "[x]\nk = 1\n\n[smtp]\nhost = relay\n"


@pytest.mark.parametrize("text", ["__import__('os')", "value.real", "value ** 99", "(lambda: 1)()", "x + 1", ""])
def test_arithmetic_of_a_sheet_can_be_nothing_else(text: str) -> None:
    wanted = {"file": "a.ini", "converted": [{"key": "a.b", "by": text}]}
    with pytest.raises(ValueError, match="converted"):
        SettingsChanges.model_validate(wanted)


def test_a_file_that_the_release_writes_in_another_format_is_one_conflict() -> None:
    own = {"a.ini": "[x]\nk = 2\n"}
    way = [step("3.0", {"a.ini": "<x k='1'/>\n"})]
    forecast = foreseen(own, way, {"a.ini": "[x]\nk = 1\n"})
    assert [one.outcome.key for one in forecast.open] == ["(the whole file)"]
    assert forecast.of("a.ini").after["3.0"] == b"[x]\nk = 2\n"
    taken = foreseen(own, way, None, lambda *_: Answer("new"))
    assert taken.of("a.ini").after["3.0"] == b"<x k='1'/>\n"


def test_what_was_decided_holds_for_the_same_three_values_only(tmp_path: Path) -> None:
    choices = read_choices(tmp_path)
    sides = Sides("info", "debug", "notice")
    choices = choices.with_choice("a.ini", "log.level", sides, Answer("value", "error"), "today")
    path = keep_choices(tmp_path, choices)
    assert path.stat().st_mode & 0o777 == 0o600
    again = read_choices(tmp_path)
    assert again.answer("a.ini", "log.level", sides) == Answer("value", "error")
    for other in (Sides("x", "debug", "notice"), Sides("info", "x", "notice"), Sides("info", "debug", "x")):
        assert again.answer("a.ini", "log.level", other) is None
    assert again.answer("b.ini", "log.level", sides) is None
    assert "debug" not in path.read_text()


def test_the_site_file_may_decide_by_file_and_by_key() -> None:
    base, own, new = (
        "[log]\nlevel = {}\n[db]\nsize = {}\n".format(*two) for two in (("a", "1"), ("b", "2"), ("c", "3"))
    )
    file = OwnFile("a.ini", own.encode(), on_conflict="new", keys={"db.*": "mine"})
    forecast = foresee([file], {"a.ini": Shipped(base.encode())}, [step("3.0", {"a.ini": new})], asks_nobody)
    assert forecast.open == ()
    assert forecast.of("a.ini").after["3.0"] == b"[log]\nlevel = c\n[db]\nsize = 2\n"


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
def test_what_was_foreseen_is_what_the_judge_wants_and_any_loss_is_told(
    sheets: list[ReleaseSheet], there: dict[str, set[str]]
) -> None:
    texts = {
        file: "[s]\n" + "".join(f"{key[2:]} = {file} {key}\n" for key in sorted(has)) for file, has in there.items()
    }
    before = {file: ini(text, file).values() for file, text in texts.items()}
    forecast = foreseen(texts, [OnTheWay(f"{number}.0", sheet) for number, sheet in enumerate(sheets)])
    notes = notes_of(forecast)
    now = {}
    for one in forecast.files:
        last = list(one.after.values())[-1] if one.after else one.before
        now[one.file] = ini(last.decode(), one.file).values()
        # A value of the site's own is set, or readable as a comment.
        assert all(value in last.decode() for value in before[one.file].values())
    verdict = judge_settings(before, now, now, notes)
    assert verdict.faults == ()
    for file, values in now.items():
        for key in values:
            lost = {**now, file: {name: one for name, one in values.items() if name != key}}
            assert len(judge_settings(before, now, lost, notes).faults) == 1


BROKEN = [
    ("a.json", b'{"a": 1 "b": 2}', "line 1, column"),
    ("a.json", b'{"a": 1, "a": 2}', "a second time"),
    ("a.json", b'{"a": [1, 2}', "line 1"),
    ("a.json", b"[" * 5_000, "too deep"),
    ("a.yaml", b"a: 1\na: 2\n", "line 2, column 1: the key 'a' stands here a second time"),
    ("a.yaml", b"a:\n\t- b\n", "line 2"),
    ("a.yaml", b"a: *nothing\n", "the alias *nothing names nothing above it"),
    ("a.yaml", b"a: !!python/object/apply:os.system ['touch /tmp/x']\n", "would make an object of code"),
    ("a.yaml", b"[" * 5_000, "line 1"),
    ("a.toml", b"a = 1\na = 2\n", "line 2"),
    ("a.xml", b"<a><b></a>", "line 1, column"),
    ("a.xml", b"<a>" * 5_000, "too deep"),
    ("a.xml", b'<!DOCTYPE a [<!ENTITY x "ha"><!ENTITY y "&x;&x;&x;">]><a>&y;</a>', "entities are refused"),
    ("a.properties", b"a=1\na=2\n", "line 2: the key 'a' stands here a second time"),
    ("a.env", b"A=1\nA=2\n", "line 2"),
    ("a.env", b"A='open\n", "a quotation mark is not closed"),
    ("a.ini", b"[a]\nb = 1\n[a]\n", "line 3: the section 'a'"),
    ("a.ini", b"[a]\nb = \xe9\n", "line 2: it is no UTF-8 text"),
    ("a.ini", b"[a]\nb = \0\n", "it is no text"),
    ("a.ini", b"[a]\r\nb = 1\n", "its lines end in different ways"),
    ("a.ini", b"x" * (16 * 1024 * 1024 + 1), "larger than 16 MiB"),
]


@pytest.mark.parametrize(("file", "raw", "told"), BROKEN, ids=lambda value: str(value)[:30])
def test_a_file_that_cannot_be_merged_is_refused_with_its_place_and_a_remedy(file: str, raw: bytes, told: str) -> None:
    with pytest.raises(BadInput) as refusal:
        read_settings(raw, "", file)
    (problem,) = refusal.value.problems
    assert told in problem.message
    assert file in problem.message
    assert "by lines" in problem.remedy


@pytest.mark.parametrize(
    ("form", "text"), [("braces", "a {\n"), ("braces", "a;\n}\n"), ("braces", "a b\n"), ("angles", "<A x>\n")]
)
def test_blocks_that_are_not_closed_are_refused(form: str, text: str) -> None:
    with pytest.raises(BadInput):
        read_settings(text.encode(), form, "x")


@pytest.mark.parametrize("encoding", ["utf-8-sig", "utf-16", "latin-1", "cp1252"])
def test_mark_encoding_and_line_ends_are_kept(encoding: str) -> None:
    text = "; für die Küche\r\n[a]\r\nname = Köge\r\nb = 1\r\n"
    named = encoding if encoding in ("latin-1", "cp1252") else ""
    raw = text.encode(encoding)
    mine, base, new = (
        read_settings(one.encode(encoding), "ini", "a.ini", encoding=named)
        for one in (text.replace("b = 1", "b = 2"), text, text.replace("Köge", "Kjøge"))
    )
    merged = merge_documents(base, mine, new)
    assert read_settings(raw, "ini", "a.ini", encoding=named).raw == raw
    assert merged.raw == text.replace("b = 1", "b = 2").replace("Köge", "Kjøge").encode(encoding)


@pytest.mark.parametrize(
    ("file", "key", "above", "line", "below"),
    [
        ("a.php", "open", "<?php\n$a = 1;\n", "$open = 'no';\n", "# end of the settings\n"),
        ("a.php", "open", "<?php\n$a = 1;\n", "$open = 'no';\n", "?>\n"),
        ("a.php", "q.open", "<?php\n$q->a = 1;\n", "$q->open = 'no';\n", "require 'setup.php';\n"),
        ("a.php", "c.open", "<?php\n$c['m'][\"a\"] = 1;\n", "$c[\"open\"] = 'no';\n", "exit;\n"),
        ("a.php", "c.open", "<?php\n$a = 1;\n", "$c['open'] = 'no';\n", ""),
        ("a.php", "OPEN", "<?php\ndefine('A', 1);\n", "define('OPEN', 'no');\n", "?>\n"),
        ("a.php", "OPEN", "<?php\n$A = 1;\n", "$OPEN = 'no';\n", ""),
        ("a.rb", "quay.open", "quay['a'] = 1\n", "quay['open'] = 'no'\n", "# end\n"),
        ("a.pl", "open", "our $a = 1;\n", "our $open = 'no';\n", "1;\n"),
        ("a.js", "open", "const a = 1;\n", 'const open = "no"\n', "// end\n"),
        ("a.py", "OPEN", "A = 1\n", 'OPEN = "no"\n', "import later\n"),
        ("a.cfg", "c.App.open", "c.App.ip = 'x'\n", "c.App.open = no\n", "# end\n"),
    ],
)
def test_a_key_that_closes_a_site_is_written_as_its_application_reads_it(
    file: str, key: str, above: str, line: str, below: str
) -> None:
    """A file that cannot be read any more would keep the site from everybody, the administrator too."""
    spec, by, text = SettingsFile(file=file), ClosingKey(file=file, key=key, closed="no"), (above + below).encode()
    shut = closed(text, spec, by)
    assert shut.decode() == above + line + below
    assert closed(shut, spec, by) == shut
    assert opened(shut, spec, by, [text]) == text
    php = shutil.which("php")
    if file.endswith(".php") and php:
        done = subprocess.run([php, "-l"], input=shut, capture_output=True, check=False)
        assert done.returncode == 0, done.stdout


@pytest.mark.parametrize(
    ("text", "shut", "wanted"),
    [
        ("site:\n  closed: no\n", "yes", "site:\n  closed: yes\n"),
        ("site:\n  closed: text\n", "yes", "site:\n  closed: yes\n"),
        ("site:\n  closed: 'no'\n", "it is", "site:\n  closed: 'it is'\n"),
    ],
)
def test_a_value_that_is_read_as_another_word_closes_and_opens(text: str, shut: str, wanted: str) -> None:
    spec = SettingsFile(file="a.yaml")
    by = ClosingKey(file="a.yaml", key="site.closed", closed=shut, open="no")
    assert closed(text.encode(), spec, by).decode() == wanted
    assert opened(wanted.encode(), spec, by, [text.encode()]).decode() == text
    again = opened(wanted.encode() + b"more: 1\n", spec, by, [text.encode()]).decode()
    assert read_settings(again.encode(), "", "a.yaml").get("site.closed") in ("no", "false"), "nobody knows the file"


@pytest.mark.parametrize(
    ("file", "text", "key", "told"),
    [
        ("a.php", "<?php\nreturn [\n  'a' => 1,\n];\n", "open", "keys of what it returns are named return.open"),
        ("a.php", "<?php\n$a = 1;\n", "$open", "keys are named without their sign: open"),
        ("a.php", "<?php\nsetup();\n?>\n", "open", "it has no settings that a key could be put beside"),
        ("a.py", "A = 1\n", "B.open", "there is no 'B' in this file"),
        ("a.php", "<?php\n$a['b'] = 1;\n", "a.it's", "is no name that it could have there"),
    ],
)
def test_a_key_that_cannot_be_set_is_told_and_not_written_somewhere(file: str, text: str, key: str, told: str) -> None:
    with pytest.raises(BadInput, match=re.escape(told)):
        closed(text.encode(), SettingsFile(file=file), ClosingKey(file=file, key=key, closed="no"))
