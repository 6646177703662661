"""A site that a settings key closes: set while the climb is on, given back to the byte, and no difference meanwhile."""

from __future__ import annotations

import contextlib
import os
import random
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.crash_driver import is_killed_after
from tests.test_shapes import Look, look
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import LadderError
from yellow_ladder.events import silent
from yellow_ladder.release.versions import Version
from yellow_ladder.settings.closing import closed, is_the_same, opened
from yellow_ladder.site.keep_records import SettingsFile
from yellow_ladder.site.maintenance_records import ClosingKey

SHAPES = ("plain", "shared", "environment")
IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
SEED = os.environ.get("YELLOW_LADDER_SEED", "")
SEEN = """
[[commands]]
name = "look {at}"
at = "{at}"
twice = true
run = ["/bin/sh", "-c", "cat $0/*/quaybook.ini >>$1/seen-{at}", "{{root}}", "{{site}}"]
"""
POINTS = ("before-close", "closed", "placed", "before-start", "started", "opened")


def with_key(demo: Demo, *, is_set: bool = True) -> Demo:
    """Let a key of the settings close a site, and let commands look at it at each point."""
    path = demo.root / "etc" / "quaybook.ini"
    path.write_text(
        path.read_text() + "\n[door]\n# Ask the harbour master first.\n" + ("shut = no\n" if is_set else "")
    )
    text = demo.prepared.file.read_text()
    begins = text.index("[maintenance]")
    ends = text.find("\n[", begins + 1)
    setting = '[maintenance]\nsetting = { file = "etc/quaybook.ini", key = "door.shut", closed = "yes", open = "no" }\n'
    seen = "".join(SEEN.format(at=at) for at in POINTS)
    demo.prepared.file.write_text(text[:begins] + setting + seen + (text[ends:] if ends > 0 else ""))
    return demo


def own(demo: Demo, seen: Look | None = None) -> Look:
    """The settings as they are."""
    return {path: one for path, one in (seen or look(demo.root)).items() if path.split("/")[0] in ("etc", "config")}


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("is_set", [True, False])
def test_the_key_is_set_from_closing_to_opening_and_the_file_comes_back_to_the_byte(
    make_demo: MakeDemo, shape: str, is_set: bool
) -> None:
    demo = with_key(make_demo(shape=shape), is_set=is_set)
    before = own(demo)
    shown = demo.folder / "shown"
    assert demo.yl("settings", "--to", "3.0", "--into", str(shown)).code == 0
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert "door.shut = yes" in answer.out + answer.err
    assert "no difference in what was compared" in answer.out
    for at in POINTS:
        is_closed = "shut = yes" in (demo.folder / f"seen-{at}").read_text()
        assert is_closed == (at not in ("before-close", "opened")), at
        (demo.folder / f"seen-{at}").unlink()
    place = demo.root / ("etc" if shape == "environment" else "config") / "quaybook.ini"
    assert place.read_bytes() == (shown / "etc" / "quaybook.ini").read_bytes()
    assert demo.yl("verify").code == 0
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0, answer
    assert own(demo) == before
    assert demo.json("history")[0]["state"] == "descended"


@pytest.mark.parametrize("shape", SHAPES)
def test_killed_anywhere_it_goes_on_or_goes_back_with_the_file_as_it_was(make_demo: MakeDemo, shape: str) -> None:
    demo = with_key(make_demo(shape=shape, start=False))
    before = own(demo)

    numbers = list(range(2, 60, 1 if IS_WHOLE else 2))
    if not IS_WHOLE:  # other ones each time; a sweep takes all
        numbers = random.Random(f"{shape}{SEED}").sample(numbers, 2)
    for number in numbers:
        if is_killed_after(demo.site(), "3.0", number) and number % 3:
            answer = demo.yl("climb", "--continue")
            assert answer.code == 0, (number, answer)
        answer = demo.yl("descend", "--yes")
        assert answer.code == 0, (number, answer)
        assert own(demo) == before, number


def test_a_climb_that_fails_opens_the_site_again_as_it_was(make_demo: MakeDemo) -> None:
    demo = with_key(make_demo(broken=True))
    before = own(demo)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 1
    assert own(demo) == before


def test_settings_that_were_lost_are_still_a_difference(demo: Demo) -> None:
    """What the key may explain is the key alone: neither another value, nor the old file in the new one's place."""
    with_key(demo)
    old = (demo.root / "etc" / "quaybook.ini").read_bytes()
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    place = demo.root / "config" / "quaybook.ini"
    right = place.read_bytes()
    for wrong in (old, right.replace(b"port = ", b"port = 1"), right.replace(b"shut = no", b"shut = yes\nmore = 1")):
        assert wrong != right
        place.write_bytes(wrong)
        assert demo.yl("verify").code == 1
    place.write_bytes(right)
    assert demo.yl("verify").code == 0


def test_a_site_that_is_closed_already_stops_the_check(idle: Demo) -> None:
    with_key(idle)
    path = idle.root / "etc" / "quaybook.ini"
    path.write_text(path.read_text().replace("shut = no", "shut = yes"))
    found = idle.json("check", "--to", "3.0", code=1)["findings"]
    assert any("closed already: door.shut = yes" in one["saw"] for one in found if one["level"] == "stop")


def test_the_file_must_be_one_of_the_settings(idle: Demo) -> None:
    with_key(idle)
    idle.edit('setting = { file = "etc/quaybook.ini"', 'setting = { file = "etc/other.ini"')
    answer = idle.yl("check", "--json")
    assert answer.code == 2
    assert "closes the site by a key of etc/other.ini, which keep.settings does not name" in str(answer.problems)


@pytest.mark.parametrize(
    ("file", "text"),
    [
        ("a.ini", "[door]\n# Ours.\nshut = no ; ask\n"), ("a.ini", "[x]\na = 1"),
        ("a.json", '{"door": {"shut": false}}'),
        ("a.yaml", "door:\n  shut: no\n"), ("a.php", "<?php\nreturn ['door' => ['shut' => false]];\n"),
        ("a.toml", "[door]\r\nshut = false # ask\r\n"),
    ],
)  # fmt: skip
def test_closing_and_opening_gives_the_same_bytes_in_every_format(file: str, text: str) -> None:
    key = "return.door.shut" if file == "a.php" else "door.shut"
    spec, by = SettingsFile(file=file), ClosingKey(file=file, key=key, closed="true", open="false")
    raw = text.encode()
    shut = closed(raw, spec, by)
    assert shut != raw
    assert closed(shut, spec, by) == shut
    assert opened(shut, spec, by, [raw]) == raw
    assert is_the_same(shut, raw, spec, by)
    assert not is_the_same(shut + b"\n\n", raw, spec, by)
    again = opened(shut, spec, by, [])
    assert again != shut, "what nobody knows is opened by the key"


def test_a_file_that_the_application_has_rewritten_is_opened_by_its_key(tmp_path: Path) -> None:
    spec, by = SettingsFile(file="a.ini"), ClosingKey(file="a.ini", key="door.shut", closed="yes", open="no")
    assert opened(b"[door]\nshut=yes\nseen=3\n", spec, by, [b"[door]\nshut = no\n"]) == b"[door]\nshut=no\nseen=3\n"
    assert opened(b"[door]\nshut=no\n", spec, by, [b"[door]\nshut = maybe\n"]) == b"[door]\nshut=no\n"


@pytest.mark.parametrize("shape", SHAPES)
def test_a_file_that_cannot_be_read_any_more_blocks_no_way_back(make_demo: MakeDemo, shape: str) -> None:
    demo = with_key(make_demo(shape=shape))
    before = own(demo)
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    place = demo.root / ("etc" if shape == "environment" else "config") / "quaybook.ini"
    place.write_bytes(b"[door\nshut\0")
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0, answer
    assert "left as it is: " in answer.out + answer.err
    assert own(demo) == before


def test_a_site_that_could_not_be_opened_is_not_called_open(
    make_demo: MakeDemo, monkeypatch: pytest.MonkeyPatch
) -> None:
    demo = with_key(make_demo(start=False))
    plan = stage_climb(look_ahead(demo.site(), Version("3.0"), utc_now()), utc_now(), silent)

    def no_room(*_: object) -> None:
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as full:
        full.setattr("yellow_ladder.climb.works.door.open_settings", no_room)
        with contextlib.suppress(LadderError, OSError):
            begin(plan, Conditions())
    assert demo.json("history")[0]["state"] not in ("climbed", "descended")
    assert demo.yl("climb", "--continue").code in (0, 1, 3)
    assert "shut = yes" not in "".join(str(one) for one in own(demo).values())


def test_a_file_that_breaks_before_the_window_ends_the_climb_with_everything_as_it_was(idle: Demo) -> None:
    with_key(idle)
    path = idle.root / "etc" / "quaybook.ini"
    plan = stage_climb(look_ahead(idle.site(), Version("3.0"), utc_now()), utc_now(), silent)
    path.write_bytes(b"[door\nshut\0")
    with pytest.raises(LadderError):
        begin(plan, Conditions())
    assert path.read_bytes() == b"[door\nshut\0"
    assert idle.json("history")[0]["state"] in ("descended", "given up")
