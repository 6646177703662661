"""`yl settings` shows what a climb will write, asks what has to be decided, and remembers it."""

from __future__ import annotations

import hashlib
import json
import tempfile
import tomllib
from pathlib import Path

import pytest

from tests.conftest import Demo
from yellow_ladder.files.archives.read import AS_FOUND
from yellow_ladder.files.archives.unpack import Limits, read_files
from yellow_ladder.release.source import sheet_in


def ship(demo: Demo, version: str, *edits: tuple[str, str]) -> None:
    """Let a release ship other settings than it does, from a file beside its archive."""
    archive = demo.folder / "releases" / f"quaybook-{version}.tar.zst"
    raw = sheet_in(archive)
    assert raw is not None
    text = read_files(archive, Limits(1 << 30), AS_FOUND, ["config/quaybook.ini"], 1 << 20)[
        "config/quaybook.ini"
    ].decode()
    for old, new in edits:
        assert old in text
        text = text.replace(old, new)
    (archive.parent / f"settings-{version}.ini").write_text(text)
    sheet = raw.decode().replace(
        'file = "config/quaybook.ini"', f'file = "config/quaybook.ini"\nshipped = "settings-{version}.ini"', 1
    )
    (archive.parent / f"quaybook-{version}.release.toml").write_text(sheet)
    if 'digests = "required"' in demo.prepared.file.read_text():
        demo.edit('digests = "required"', 'digests = "wanted"')


def own(demo: Demo, old: str, new: str) -> None:
    path = demo.root / "etc" / "quaybook.ini"
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


@pytest.fixture
def torn(idle: Demo) -> Demo:
    """A site that changed two values which a release changes too."""
    own(idle, "language = en", "language = da")
    own(idle, "host = 127.0.0.1", "host = localhost")
    ship(idle, "3.0", ("language = en", "language = de"), ("host = 127.0.0.1", "host = ::1"))
    return idle


def test_it_shows_key_by_key_what_will_happen_and_touches_nothing(idle: Demo) -> None:
    before = (idle.root / "etc" / "quaybook.ini").read_bytes()
    answer = idle.yl("settings", "--to", "3.0", "--json")
    assert answer.code == 0
    (file,) = json.loads(answer.out)["result"]["files"]
    fates = {(one["key"], one["fate"]) for one in file["keys"]}
    assert {
        ("ui.legacy_theme", "retired"), ("harbour.name", "renamed"), ("booking.hold_hours", "new"),
        ("server.port", "kept"), ("booking.longest_stay_days", "kept"),
    } <= fates  # fmt: skip
    assert file["compared_with"] == "etc/quaybook.ini in quaybook-2.4.tar.zst"
    assert (idle.root / "etc" / "quaybook.ini").read_bytes() == before
    assert not (idle.folder / "choices.toml").exists()


def test_a_conflict_stops_check_and_climb_until_it_is_decided_and_what_was_shown_is_written(torn: Demo) -> None:
    assert torn.yl("settings", "--to", "3.0").code == 1
    stops = [one for one in torn.json("check", "--to", "3.0", code=1)["findings"] if one["level"] == "stop"]
    assert {one["check"] for one in stops} == {"settings conflict"}
    assert len(stops) == 2
    assert torn.yl("climb", "--to", "3.0", "--yes").code == 1
    assert (torn.root / "VERSION").read_text() == "2.4\n"
    answer = torn.yl(
        "settings", "--to", "3.0", "--decide", "harbour.language=mine", "--decide", "server.host=0.0.0.0",
        "--into", str(torn.folder / "look"),
    )  # fmt: skip
    assert answer.code == 0, answer
    shown = (torn.folder / "look" / "etc" / "quaybook.ini").read_bytes()
    assert torn.yl("climb", "--to", "3.0", "--yes").code == 0
    written = (torn.root / "config" / "quaybook.ini").read_bytes()
    assert written == shown
    assert b"language = da\n" in written
    assert b"host = 0.0.0.0\n" in written
    climb = next((torn.folder / ".ladder" / "climbs").iterdir())
    assert "+host = 0.0.0.0" in (climb / "settings.patch").read_text()
    assert {one["fate"] for one in json.loads((climb / "settings.json").read_text())["keys"]} >= {"kept", "renamed"}
    assert torn.yl("descend", "--yes").code == 0
    assert b"host = localhost\n" in (torn.root / "etc" / "quaybook.ini").read_bytes()


def test_a_choice_is_asked_again_only_when_one_of_the_three_values_is_another(torn: Demo) -> None:
    decide = ("--decide", "harbour.language=new", "--decide", "server.host=mine")
    assert torn.yl("settings", "--to", "3.0", *decide).code == 0
    assert torn.yl("settings", "--to", "3.0").code == 0
    own(torn, "language = da", "language = nl")
    answer = json.loads(torn.yl("settings", "--to", "3.0", "--json").out)
    assert answer["result"]["open"] == 1
    assert [one["code"] for one in answer["problems"]] == ["settings-conflict"]
    assert "harbour.language" in answer["problems"][0]["message"]
    own(torn, "language = nl", "language = da")
    assert torn.yl("settings", "--to", "3.0").code == 0


@pytest.mark.parametrize(
    ("text", "told"),
    [("harbour.language", "decides nothing"), ("harbour.tongue=mine", "no conflict about harbour.tongue")],
)
def test_a_decision_about_nothing_is_refused(torn: Demo, text: str, told: str) -> None:
    answer = torn.yl("settings", "--to", "3.0", "--decide", text)
    assert answer.code in (1, 2)
    assert told in answer.err


def test_the_site_file_can_decide_once_and_for_all(torn: Demo) -> None:
    spec = 'on_conflict = "mine", keys = { "server.*" = "new" }'
    torn.edit('{ file = "etc/quaybook.ini" }', f'{{ file = "etc/quaybook.ini", {spec} }}')
    result = json.loads(torn.yl("settings", "--to", "3.0", "--json").out)["result"]
    took = {one["key"]: one["decided"] for one in result["files"][0]["keys"] if one["decided"]}
    assert took == {"harbour.language": "mine", "server.host": "new"}


def test_values_that_sound_like_secrets_are_shown_nowhere(torn: Demo) -> None:
    own(torn, "[ui]", "[mail]\npassword = rope-and-tar-417\n\n[ui]")
    ship(torn, "4.0", ("[mail]\n", "[mail]\npassword = change-me\n"))
    for arguments in (("settings", "--all"), ("settings", "--json"), ("check", "--verbose")):
        answer = torn.yl(*arguments)
        assert "mail.password" in answer.out
        assert "rope-and-tar" not in answer.out + answer.err
        assert "change-me" not in answer.out + answer.err


def test_without_the_old_release_at_hand_whatever_differs_is_asked_and_it_is_said_why(idle: Demo) -> None:
    (idle.folder / "releases" / "quaybook-2.4.tar.zst").unlink()
    idle.edit('digests = "required"', 'digests = "wanted"')
    answer = json.loads(idle.yl("settings", "--to", "3.0", "--json").out)["result"]
    assert answer["files"][0]["compared_with"] == ""
    open_keys = {one["key"] for one in answer["files"][0]["keys"] if one["fate"] == "conflict"}
    assert {"server.port", "harbour.title", "booking.longest_stay_days"} <= open_keys


def test_what_an_earlier_climb_saw_of_a_release_serves_when_its_package_is_gone(idle: Demo) -> None:
    assert idle.yl("climb", "--to", "3.0", "--yes").code == 0
    assert idle.yl("settle", "--yes").code == 0
    (idle.folder / "releases" / "quaybook-3.0.tar.zst").unlink()
    idle.edit('digests = "required"', 'digests = "wanted"')
    result = json.loads(idle.yl("settings", "--to", "4.0", "--json").out)["result"]
    assert result["open"] == 0
    assert result["files"][0]["compared_with"] == "what 3.0 shipped, as an earlier climb saw it"


def test_a_settings_file_behind_a_link_is_refused_before_anything_changes(idle: Demo) -> None:
    settings = idle.root / "etc" / "quaybook.ini"
    settings.rename(idle.folder / "elsewhere.ini")
    settings.symlink_to(idle.folder / "elsewhere.ini")
    for words in (("settings",), ("climb", "--yes")):
        answer = idle.yl(*words)
        assert answer.code in (1, 2)
        assert "quaybook.ini" in answer.err
    assert settings.is_symlink()
    assert (idle.root / "VERSION").read_text() == "2.4\n"


def test_templates_that_were_edited_here_are_merged_line_by_line(idle: Demo) -> None:
    page = idle.root / "docs" / "README.txt"
    page.write_text("Sandhavn: ask Ida first.\n" + page.read_text())
    idle.edit('data = ["data", "uploads"]', 'data = ["data", "uploads"]\ntemplates = ["docs/README.txt"]')
    assert idle.yl("climb", "--to", "2.6", "--yes").code == 0
    assert page.read_text().startswith("Sandhavn: ask Ida first.\n")


def test_a_file_that_changes_between_plan_and_window_is_not_written_over(torn: Demo) -> None:
    assert (
        torn.yl("settings", "--to", "3.0", "--decide", "harbour.language=new", "--decide", "server.host=new").code == 0
    )
    own(torn, "longest_stay_days = 42", "longest_stay_days = 43")
    assert torn.yl("climb", "--to", "3.0", "--yes").code == 0
    assert b"longest_stay_days = 43" in (torn.root / "config" / "quaybook.ini").read_bytes()
    assert tomllib.loads((torn.folder / "choices.toml").read_text())["format"] == 1


def with_settings_check(demo: Demo, script: str) -> None:
    words = f'[[commands]]\nname = "own check"\nat = "settings"\nrun = ["/bin/sh", "-c", {script!r}]\ntwice = true\n'
    demo.edit("[maintenance]", words + 'for = ">0"\n\n[maintenance]')


def test_the_applications_own_check_reads_each_rungs_merged_settings_before_anything_changes(demo: Demo) -> None:
    log = demo.folder / "seen.txt"
    script = "cd {settings} && for one in */quaybook.ini; do echo {version} $one $(grep -c hold_hours $one) $(id -u) "
    script += f"$(stat -c %a $one) $(cat {demo.root}/VERSION) >> {log}; done"
    with_settings_check(demo, script)
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert log.read_text().splitlines() == [
        "2.6 etc/quaybook.ini 1 0 600 2.4",
        "3.0 config/quaybook.ini 1 0 600 2.4",
    ]


def test_settings_that_the_application_refuses_never_reach_the_window(demo: Demo) -> None:
    with_settings_check(
        demo, 'grep -q "hold_hours = 48" {settings}/*/quaybook.ini && echo "hold_hours is too long" && exit 1'
    )
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 1
    assert "the command `own check` failed" in answer.err
    assert "hold_hours is too long" in answer.err
    assert (demo.root / "VERSION").read_text() == "2.4\n"
    steps = [
        json.loads(line) for line in next(demo.folder.glob(".ladder/climbs/*/journal.jsonl")).read_text().splitlines()
    ]
    assert not [one for one in steps if one.get("step", "").startswith(("close", "stop"))]


def test_what_a_kill_leaves_of_lent_settings_is_removed_by_what_comes_next(demo: Demo) -> None:
    with_settings_check(demo, "kill -9 $PPID")
    assert demo.yl("climb", "--to", "2.6", "--yes").code != 0
    climb = next((demo.folder / ".ladder" / "climbs").iterdir())
    mark = hashlib.sha256(str(climb).encode()).hexdigest()[:12]
    left = list(Path(tempfile.gettempdir()).glob(f"yl-settings-{mark}-*"))
    assert len(left) == 1
    assert left[0].stat().st_mode & 0o777 == 0o700
    assert demo.yl("descend", "--yes").code == 0
    assert not left[0].exists()
