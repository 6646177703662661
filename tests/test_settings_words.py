"""What sheets and site files say of settings that a comparison of files cannot know: parted, joined, converted, new."""

from __future__ import annotations

import json
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Demo, MakeDemo
from tests.laws import examples
from tests.test_settings import asks_nobody, foreseen, step
from tests.test_settings_command import own
from tests.test_shapes import Look, change_sheet, look
from yellow_ladder.errors import AnswerNo
from yellow_ladder.release.settings import SettingsChanges
from yellow_ladder.settings.converting import take_over
from yellow_ladder.settings.forecast import Forecast, OnTheWay, OwnFile, Prepared, Shipped, foresee
from yellow_ladder.settings.formats.kinds import FORMATS
from yellow_ladder.settings.merging.outcomes import WHOLE_FILE, Fate
from yellow_ladder.settings.reading import read_settings
from yellow_ladder.site.moves import moved_text

INI = "[server]\n# Where the quay office listens.\naddress = quay.example:8080\nname = North\n"
PARTED = {"key": "server.address", "into": ["server.host", "server.port"], "pattern": r"(.+):(\d+)"}
JOINED = {"keys": ["db.host", "db.port"], "to": "db.address", "written": "{1}:{2}"}


@pytest.mark.parametrize(
    ("file", "text", "after"),
    [
        ("a.ini", INI, INI.replace("address = quay.example:8080\nname = North\n",
                                   "host = quay.example\nname = North\nport = 8080\n")),
        ("a.yaml", "server:\n  # Ours.\n  address: 'quay.example:8080'\n",
         "server:\n  # Ours.\n  host: 'quay.example'\n  port: 8080\n"),
        ("a.json", '{"server": {"address": "quay.example:8080"}}\n',
         '{"server": {"host": "quay.example", "port": 8080}}\n'),
        ("a.toml", '[server]\naddress = "quay.example:8080" # ours\n',
         '[server]\nhost = "quay.example" # ours\nport = 8080\n'),
    ],
)  # fmt: skip
def test_one_value_is_parted_into_several_keys(file: str, text: str, after: str) -> None:
    forecast = foreseen({file: text}, [step("3.0", settings=[{"file": file, "split": [PARTED]}])])
    assert forecast.of(file).after["3.0"].decode() == after
    assert [(one.outcome.fate, one.outcome.old_key) for one in forecast.told] == [(Fate.RENAMED, "server.address")] * 2


def test_parted_defaults_follow_the_release_and_own_parts_stay() -> None:
    new = INI.replace("address = quay.example:8080", "host = ::1\nport = 9090")
    way = [step("3.0", {"a.ini": new}, settings=[{"file": "a.ini", "split": [PARTED]}])]
    assert foreseen({"a.ini": INI}, way, {"a.ini": INI}).of("a.ini").after["3.0"].decode() == new
    own = INI.replace("quay.example", "pier.example")
    forecast = foreseen({"a.ini": own}, way, {"a.ini": INI})
    assert [one.outcome.key for one in forecast.open] == ["server.host"], "changed here and by the release"
    assert "port = 9090" in forecast.of("a.ini").after["3.0"].decode(), "nobody changed it here"


def test_a_value_of_another_form_is_named_and_not_guessed_about() -> None:
    way = [step("3.0", settings=[{"file": "a.ini", "split": [PARTED]}])]
    with pytest.raises(AnswerNo, match=r"server\.address is parted into server\.host, server\.port"):
        foreseen({"a.ini": INI.replace(":8080", "")}, way)
    both = INI + "port = 1\n"
    after = foreseen({"a.ini": both}, way).of("a.ini").after["3.0"].decode()
    assert "# address = quay.example:8080 (retired: the value of server.port" in after


def test_several_values_become_one_with_defaults_for_those_that_are_not_set() -> None:
    base = "[db]\nhost = localhost\nport = 5432\n"
    way = [step("3.0", settings=[{"file": "a.ini", "joined": [JOINED]}])]
    own = "[db]\n# The old machine.\nhost = cellar\nport = 6000\n"
    after = foreseen({"a.ini": own}, way, {"a.ini": base}).of("a.ini").after["3.0"].decode()
    assert after == "[db]\n# The old machine.\naddress = cellar:6000\n# port = 6000 (retired: now in db.address)\n"
    own = "[db]\nhost = cellar{2}\n"
    after = foreseen({"a.ini": own}, way, {"a.ini": base}).of("a.ini").after["3.0"].decode()
    assert after == "[db]\naddress = cellar{2}:5432\n", "what a value says is put in, and not read again"
    with pytest.raises(AnswerNo, match=r"db\.host and db\.port become db\.address, and db\.port is not set"):
        foreseen({"a.ini": own}, way)
    assert foreseen({"a.ini": "[x]\na = 1\n"}, way).of("a.ini").after["3.0"] == b"[x]\na = 1\n"


@pytest.mark.parametrize(
    ("word", "value", "told"),
    [
        ("split", [{**PARTED, "pattern": "(.+)"}], "one group in parentheses for each key"),
        ("joined", [{**JOINED, "written": "{1}"}], "needs each of {1} to {2}"),
        ("converter", {"run": ["x"], "prints": True, "result": "y"}, "needs one of `result` and `prints`"),
    ],
)
def test_a_sheet_that_makes_no_sense_is_refused(word: str, value: object, told: str) -> None:
    with pytest.raises(ValueError, match=told.replace("{", r"\{").replace("}", r"\}")):
        SettingsChanges.model_validate({"file": "a.ini", word: value})


def coming(way: Sequence[OnTheWay], others: dict[str, str] | None = None, file: str = "new.ini") -> Forecast:
    own = [OwnFile(name, text.encode()) for name, text in (others or {}).items()]
    return foresee([*own, OwnFile(file, b"", is_new=True)], {}, way, asks_nobody)


def test_a_file_that_a_release_brings_comes_as_it_ships_it_and_is_merged_from_then_on() -> None:
    way = [
        step("3.0"),
        step("4.0", {"new.ini": "[x]\na = 1\n"}),
        step("5.0", {"new.ini": "[x]\na = 2\n"}),
    ]
    forecast = coming(way)
    assert dict(forecast.of("new.ini").after) == {"4.0": b"[x]\na = 1\n", "5.0": b"[x]\na = 2\n"}
    assert (forecast.told[0].version, forecast.told[0].outcome.key) == ("4.0", WHOLE_FILE)


def test_keys_may_move_into_a_file_that_is_not_there_yet() -> None:
    moved = {"file": "a.ini", "moved": [{"from": "mail.host", "file": "mail.ini", "to": "smtp.host"}]}
    own = {"a.ini": "[mail]\nhost = relay\n"}
    for shipped, after in (
        ({}, "[smtp]\nhost = relay\n"),
        ({"mail.ini": "[smtp]\n# Ours.\nhost = x\n"}, "# Ours.\nhost = relay"),
    ):
        forecast = coming([step("3.0", shipped, settings=[moved])], own, "mail.ini")
        assert after in forecast.of("mail.ini").after["3.0"].decode()


def test_new_behaviour_is_put_off_in_a_file_of_its_own() -> None:
    off = {
        "file": "new.ini",
        "switched_off": [{"key": "booking.overlap", "value": "no", "why": "One berth each."}],
    }
    forecast = coming([step("3.0", settings=[off])], {"a.ini": "[x]\nk = 1\n"})
    assert forecast.of("new.ini").after["3.0"] == b"[booking]\n# One berth each.\noverlap = no\n"
    assert forecast.of("a.ini").after["3.0"] == b"[x]\nk = 1\n"
    on = foreseen({"new.ini": "[booking]\noverlap = yes\n"}, [step("3.0", settings=[off])])
    assert on.of("new.ini").after["3.0"] == b"[booking]\noverlap = yes\n", "what the site has set stays"


OLD = "[server]\n# Why it is this port.\nport = 8090\nmode = loud\nlegacy = yes ; from 2019\n"


def test_what_a_converter_made_is_taken_over_key_by_key_and_comments_stay() -> None:
    made = b"[server]\nlisten = 8090\nmode = verbose\nworkers = 4\n"
    own = read_settings(OLD.encode(), "", "a.ini")
    changed, told = take_over(own, None, made, "a.ini")
    assert changed.values() == read_settings(made, "", "a.ini").values()
    assert "# Why it is this port.\nlisten = 8090\nmode = verbose\n" in changed.raw.decode()
    assert "# legacy = yes" in changed.raw.decode(), "no own value vanishes"
    assert {(one.fate, one.key) for one in told} == {
        (Fate.RENAMED, "server.listen"), (Fate.KEPT, "server.mode"),
        (Fate.RETIRED, "server.legacy"), (Fate.NEW, "server.workers"),
    }  # fmt: skip


def test_a_converter_that_writes_another_format_is_taken_at_its_word_and_that_is_told() -> None:
    changed, told = take_over(read_settings(OLD.encode(), "", "a.ini"), None, b"<s><port>8090</port></s>\n", "a.xml")
    assert changed.form.name == "xml"
    assert [one.key for one in told] == [WHOLE_FILE]
    assert "comments" in told[0].why


words = st.dictionaries(
    st.sampled_from(["s.a", "s.b", "t.a", "t.c", "t.d"]), st.sampled_from(["1", "2", "north", "south pier"]), max_size=5
)


def as_ini(values: dict[str, str]) -> bytes:
    text = ""
    for section in ("s", "t"):
        keys = [f"# of {key}\n{key[2:]} = {value}\n" for key, value in values.items() if key[0] == section]
        text += f"[{section}]\n{''.join(keys)}" if keys else ""
    return text.encode()


@settings(max_examples=examples(120), deadline=None)
@given(words, words)
def test_after_a_converter_the_file_says_what_the_converter_said(mine: dict[str, str], made: dict[str, str]) -> None:
    form = FORMATS["ini"].name
    changed, _ = take_over(read_settings(as_ini(mine), form, "a.ini"), None, as_ini(made), "a.ini")
    assert changed.values() == read_settings(as_ini(made), form, "a.ini").values()


def test_converted_values_are_merged_against_converted_defaults() -> None:
    def convert(on_the_way: OnTheWay, changes: SettingsChanges, raw: bytes) -> bytes:
        return raw.replace(b" = 2", b" = 120").replace(b" = 3", b" = 180")

    base, own, new = ("[hold]\n# Ours.\nhours = 2\nlevel = a\n", "[hold]\n# Ours.\nhours = 3\nlevel = a\n",
                      "[hold]\n# Ours.\nhours = 120\nlevel = b\n")  # fmt: skip
    way = [step("3.0", {"a.ini": new}, settings=[{"file": "a.ini", "converter": {"run": ["x"]}}])]
    forecast = foresee([OwnFile("a.ini", own.encode())], {"a.ini": Shipped(base.encode())}, way, asks_nobody, convert)
    assert forecast.open == ()
    assert forecast.of("a.ini").after["3.0"].decode() == new.replace("120", "180")


def test_what_was_prepared_takes_a_files_place_once_and_is_merged_by_lines_after() -> None:
    prepared = Prepared(b"three\nmine\n", "prepared/x", ">=3.0")
    hook = OwnFile("x.py", b"two\n", "lines", prepared=prepared)
    way = [step("2.5"), step("3.0", {"x.py": "three\n"}), step("4.0", {"x.py": "four\nthree\n"})]
    forecast = foresee([hook], {}, way, asks_nobody)
    assert dict(forecast.of("x.py").after) == {
        "2.5": b"two\n", "3.0": b"three\nmine\n", "4.0": b"four\nthree\nmine\n",
    }  # fmt: skip
    assert [one.version for one in forecast.told if "prepared" in one.outcome.why] == ["3.0"]


CONVERTER = """#!{python}
import pathlib, sys
path = pathlib.Path(sys.argv[1])
lines = [line for line in path.read_text().splitlines() if not line.startswith("#")]
path.write_text("\\n".join(lines).replace("= north", "= north pier") + "\\n")
"""
SHAPES = ("plain", "shared", "environment")


def teach(demo: Demo) -> Demo:
    """Let 3.0 have a converter and new behaviour that is put off in a file of its own; let the site have a file that it
    does not take any more, and one prepared in its place.
    """
    own(demo, "\n[server]", "\n[office]\nquay = north\n\n[server]")
    releases = demo.folder / "releases"
    (releases / "convert.py").write_text(CONVERTER.replace("{python}", sys.executable))
    (demo.root / "etc" / "hook.py").write_text("print 'tides'\n")
    (demo.folder / "prepared").mkdir()
    (demo.folder / "prepared" / "new.py").write_text("print('tides')\n")
    where = "etc" if demo.root.joinpath("current").is_symlink() else "config"
    demo.edit(
        'settings = [{ file = "etc/quaybook.ini" }]',
        f'settings = [{{ file = "etc/quaybook.ini" }}, {{ file = "{where}/off.ini" }}]\n'
        'replaced = [{ file = "etc/hook.py", by = "prepared/new.py", for = ">=3.0" }]',
    )
    demo.edit("[keep]\n", f'[runtime]\ncommand = ["{sys.executable}", "--version"]\n\n[keep]\n')
    change_sheet(demo, "3.0", f'file = "{where}/quaybook.ini"\n', f"""file = "{where}/quaybook.ini"
converter = {{ run = ["{{folder}}/convert.py", "{where}/quaybook.ini"], files = ["convert.py"] }}
""")  # fmt: skip
    change_sheet(
        demo,
        "3.0",
        "\n[[contract]]",
        f"""
[[settings]]
file = "{where}/off.ini"
switched_off = [{{ key = "booking.overlap", value = "no" }}]

[[settings]]
file = "{where}/off.ini"
runtime = "<3"
added = [{{ key = "only.old", value = "yes" }}]

[[settings]]
file = "{where}/off.ini"
runtime = ">=3"
added = [{{ key = "only.new", value = "yes" }}]

[[contract]]""",
    )
    return demo


def settings_in(demo: Demo, seen: Look) -> Look:
    return {path: one for path, one in seen.items() if path.split("/")[0] in ("etc", "config")}


@pytest.mark.parametrize("shape", SHAPES)
def test_a_climb_writes_what_it_showed_of_all_this_and_the_way_back_undoes_it(make_demo: MakeDemo, shape: str) -> None:
    demo = teach(make_demo(shape=shape))
    before = look(demo.root)
    place = demo.root / ("etc" if shape == "environment" else "config")
    shown = demo.folder / "shown"
    answer = demo.yl("settings", "--to", "3.0", "--all", "--into", str(shown))
    assert answer.code == 0, answer
    assert "prepared/new.py, which you prepared, takes its place" in " ".join(answer.out.split())
    assert "north pier; written otherwise by the release's converter" in " ".join(answer.out.split())
    assert (shown / place.name / "off.ini").read_text() == "[booking]\noverlap = no\n\n[only]\nnew = yes\n"
    assert (shown / "etc" / "hook.py").read_text() == "print('tides')\n"
    told = demo.yl("climb", "--to", "3.0", "--yes")
    assert told.code == 0, told
    assert "converter of" in told.out, "told before it is run"
    assert (place / "off.ini").read_bytes() == (shown / place.name / "off.ini").read_bytes()
    assert (place / "quaybook.ini").read_bytes() == (shown / "etc" / "quaybook.ini").read_bytes()
    assert (demo.root / "etc" / "hook.py").read_bytes() == (shown / "etc" / "hook.py").read_bytes()
    assert "quay = north pier\n" in (place / "quaybook.ini").read_text()
    text = (place / "quaybook.ini").read_text()
    assert text.count("# Quaybook settings.") == 1, "the converter dropped comments, and they are there, once"
    assert (place / "off.ini").stat().st_mode == (place / "quaybook.ini").stat().st_mode
    assert (place / "off.ini").stat().st_uid == (place / "quaybook.ini").stat().st_uid
    assert "+++ b/" in (next((demo.folder / ".ladder" / "climbs").glob("*/settings.patch"))).read_text()
    assert demo.yl("verify").code == 0
    assert demo.yl("descend", "--yes").code == 0
    assert settings_in(demo, look(demo.root)) == settings_in(demo, before)
    assert not list(Path(tempfile.gettempdir()).glob("yl-made-*"))


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("path.write_text", "sys.exit('no such key'); path.write_text", "no such key"),
        ("path.write_text", "path.unlink(); (lambda _: 0)", "left no config/quaybook.ini"),
        ("path.write_text", "path.unlink(); path.symlink_to('/etc/passwd'); (lambda _: 0)", "left no config/"),
        ("path.write_text", "import time; time.sleep(60); path.write_text", "did not end within"),
        ('"= north pier"', '"\\n[broken"', "as its converter made it"),
    ],
)  # fmt: skip
def test_a_converter_that_fails_stops_the_check_and_its_words_are_told(
    idle: Demo, old: str, new: str, told: str
) -> None:
    teach(idle)
    script = idle.folder / "releases" / "convert.py"
    assert old in script.read_text()
    script.write_text(script.read_text().replace(old, new))
    change_sheet(idle, "3.0", 'files = ["convert.py"]', 'files = ["convert.py"], within_s = 2')
    found = idle.json("check", "--to", "3.0", code=1)["findings"]
    stops = [one["saw"] for one in found if one["level"] == "stop"]
    assert any(told in one and "quaybook.ini" in one for one in stops), stops


def test_the_programs_own_defaults_are_what_the_sites_file_is_compared_with(idle: Demo) -> None:
    """Where the package of the installed release is gone, its program may still tell what it ships."""
    shipped = idle.folder / "defaults.ini"
    shipped.write_bytes((idle.root / "etc" / "quaybook.ini").read_bytes())
    for one in (idle.folder / "releases").glob("quaybook-2.4.*"):
        one.unlink()
    wanted = 'settings = [{ file = "etc/quaybook.ini", shipped_by = ["/bin/cat", "{site}/defaults.ini"] }]'
    idle.edit('settings = [{ file = "etc/quaybook.ini" }]', wanted)
    idle.edit('digests = "required"', 'digests = "wanted"')
    (file,) = json.loads(idle.yl("settings", "--to", "3.0", "--json").out)["result"]["files"]
    assert file["compared_with"] == "what cat of 2.4 writes as its default"
    shipped.unlink()
    assert idle.yl("settings", "--to", "3.0").code == 0, "it is asked once for a version"
    idle.edit('"{site}/defaults.ini"', '"{site}/other.ini"')
    answer = idle.yl("settings", "--to", "3.0", "--json")
    assert answer.code == 1
    assert "other.ini" in answer.problems[0]["message"]


def test_a_file_that_nothing_brings_is_missing_as_before(idle: Demo) -> None:
    idle.edit('settings = [{ file = "etc/quaybook.ini" }]',
              'settings = [{ file = "etc/quaybook.ini" }, { file = "etc/more.ini" }]')  # fmt: skip
    found = idle.json("check", "--to", "3.0", code=1)["findings"]
    assert any("etc/more.ini is not there" in one["saw"] for one in found if one["level"] == "stop")
    assert idle.yl("settings", "--to", "3.0").code == 1


def test_what_is_prepared_must_be_there(idle: Demo) -> None:
    teach(idle)
    (idle.folder / "prepared" / "new.py").unlink()
    found = idle.json("check", "--to", "3.0", code=1)["findings"]
    assert any("which is to stand in for etc/hook.py" in one["saw"] for one in found if one["level"] == "stop")


def test_every_path_of_the_site_file_follows_a_release_that_moves_it() -> None:
    text = """[keep]
settings = [{ file = "etc/a.ini" }]
templates = ["etc/page.html"]
replaced = [{ file = "etc/hook.py", by = "etc/hook.py", for = ">=3" }]
[maintenance]
setting = { file = "etc/a.ini", key = "x" } # ours
"""
    moves = {f"etc/{name}": f"config/{name}" for name in ("a.ini", "page.html", "hook.py")}
    wanted = text.replace("etc/", "config/").replace('by = "config/', 'by = "etc/')
    assert moved_text(text, moves) == wanted


def test_what_is_to_be_committed_is_told_and_nothing_of_the_checkout_is_touched(idle: Demo) -> None:
    (idle.folder / ".git").mkdir()
    (idle.folder / ".git" / "HEAD").write_text("ref: refs/heads/main\n")
    before = look(idle.folder / ".git", touched=True)
    answer = idle.yl("climb", "--to", "3.0", "--yes", "--json")
    files = ["quaybook/etc/quaybook.ini", "quaybook/config/quaybook.ini"]
    assert answer.document["result"]["to_commit"] == [{"checkout": str(idle.folder), "files": files}]
    assert look(idle.folder / ".git", touched=True) == before
    told = idle.yl("descend", "--yes")
    assert told.code == 0
    again = idle.yl("climb", "--to", "3.0", "--yes")
    assert "is a checkout; nothing of it was touched but files: commit quaybook/etc/quaybook.ini," in " ".join(
        again.out.split()
    )


def test_a_command_that_closes_by_a_settings_key_is_pointed_to_the_key(demo: Demo) -> None:
    text = demo.prepared.file.read_text()
    begins = text.index("[maintenance]")
    change = '["/bin/sh", "-c", "echo \'# {}\' >>$0/etc/quaybook.ini", "{{root}}"]'
    door = f"[maintenance]\nclose = {change.format('shut')}\nopen = {change.format('open')}\n"
    demo.prepared.file.write_text(text[:begins] + door)
    answer = demo.yl("climb", "--to", "3.0", "--yes", "--json")
    assert answer.code == 1
    assert any("name the key with maintenance.setting" in one["remedy"] for one in answer.problems), answer.problems


@pytest.mark.parametrize(
    ("file", "base", "mine", "new", "as_set"),
    [
        ("a.ini", "[s]\nx = a, b\n", "[s]\nx = a, c\n", "[s]\nx = a, d\n", "[s]\nx = a, c, d\n"),
        ("a.ini", "[s]\nx = 25 26\n", "[s]\nx = 25 587\n", "[s]\nx = 465 25 26\n", "[s]\nx = 25 587 465\n"),
        ("a.toml", '[s]\nx = ["a", "b"]\n', '[s]\nx = ["a", "c"]\n', '[s]\nx = ["a", "d"]\n',
         '[s]\nx = ["a", "c", "d"]\n'),
        ("a.yaml", "s:\n  x:\n  - 1\n  - 2\n", "s:\n  x:\n  - 1\n  - 3\n", "s:\n  x:\n  - 1\n  - 4\n",
         "s:\n  x:\n  - 1\n  - 3\n  - 4\n"),
        ("a.json", '{"s": {"x": [1, 2]}}', '{"s": {"x": [1, 3]}}', '{"s": {"x": [1, 4]}}', '{"s": {"x": [1, 3, 4]}}'),
    ],
)  # fmt: skip
def test_a_sheet_may_say_that_a_list_is_a_set_or_a_sequence(
    file: str, base: str, mine: str, new: str, as_set: str
) -> None:
    def merged(kind: str) -> Forecast:
        lists = {"file": file, "lists": {"s.x": kind}} if kind else {"file": file}
        return foreseen({file: mine}, [step("3.0", {file: new}, settings=[lists])], {file: base})

    assert merged("").open, "as it is found out, both put something in the same place"
    assert merged("set").open == ()
    assert merged("set").of(file).after["3.0"].decode() == as_set
    assert [one.outcome.key for one in merged("sequence").open] == ["s.x"]
    assert merged("sequence").of(file).after["3.0"].decode() == mine


def test_a_sequence_that_both_sides_only_added_to_is_asked_where_the_sheet_says_that_order_counts() -> None:
    base, mine, new = ("s:\n  x:\n  - one\n" + "".join(f"  - {one}\n" for one in more) for more in ((), ("a",), ("b",)))
    way = [step("3.0", {"a.yaml": new}, settings=[{"file": "a.yaml", "lists": {"s.x": "sequence"}}])]
    assert [one.outcome.key for one in foreseen({"a.yaml": mine}, way, {"a.yaml": base}).open] == ["s.x"]
    assert foreseen({"a.yaml": mine}, [step("3.0", {"a.yaml": new})], {"a.yaml": base}).open == ()
