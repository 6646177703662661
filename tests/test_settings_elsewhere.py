"""Settings files that lie outside root: merged with what releases ship, put in place, proved, and brought back."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.sites import HEAD, SHEET
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.placing.elsewhere import take_back_elsewhere
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.proving.price import kept_ground
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import AnswerNo
from yellow_ladder.events import silent
from yellow_ladder.site.site import load_site

SITE = (
    HEAD
    + """[keep]
settings = [
    {{ file = "{etc}/harbour.ini", shipped = "etc/harbour.ini" }},
    {{ file = "{etc}/tides.ini", shipped = "etc/tides.ini" }},
]
"""
)
RENAMES = '[[settings]]\nfile = "etc/harbour.ini"\nrenamed = [{ from = "door.port", to = "door.listen" }]\n'
OLD = "[door]\nport = 8080\nwait = 5\n"
NEW = "[door]\nlisten = 8080\nwait = 9\nlamp = on\n"
MINE = "# the north mole\n[door]\nport = 9090\nwait = 5\n"


@pytest.fixture
def outlying(tmp_path: Path) -> Path:
    """A site whose settings lie in a folder of their own; one of them comes with the next release."""
    old = [entry("VERSION", content=b"2.4\n"), entry("etc/harbour.ini", content=OLD.encode())]
    new = [entry("VERSION", content=b"2.6\n"), entry("etc/harbour.ini", content=NEW.encode())]
    new.append(entry("etc/tides.ini", content=b"[tides]\nspring = yes\n"))
    (tmp_path / "releases").mkdir()
    for version, parts, more in (("2.4", old, ""), ("2.6", new, RENAMES)):
        write(
            tmp_path / "releases" / f"quaybook-{version}.tar.zst", *parts, sheet=(SHEET.format(version) + more).encode()
        )
    for folder in ("app/etc", "etc/quaybook"):
        (tmp_path / folder).mkdir(parents=True)
    (tmp_path / "app" / "VERSION").write_text("2.4\n")
    (tmp_path / "app" / "etc" / "harbour.ini").write_text(OLD)
    own = tmp_path / "etc" / "quaybook" / "harbour.ini"
    own.write_text(MINE)
    own.chmod(0o640)
    os.chown(own, 0, 4242)
    os.setxattr(own, "user.of-the-harbour", b"kept")
    (tmp_path / "ladder.toml").write_text(SITE.format(etc=own.parent))
    return tmp_path


def test_they_are_merged_as_any_and_keep_what_is_theirs(outlying: Path) -> None:
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    answer = run_program("climb", "--yes", folder=outlying)
    assert answer.code == 0, answer.out + answer.err
    assert own.read_text() == "# the north mole\n[door]\nlisten = 9090\nwait = 9\nlamp = on\n"
    status = own.stat()
    assert (stat.S_IMODE(status.st_mode), status.st_gid) == (0o640, 4242)
    assert os.getxattr(own, "user.of-the-harbour") == b"kept"
    assert (own.parent / "tides.ini").read_text() == "[tides]\nspring = yes\n"
    assert sorted(path.name for path in own.parent.iterdir()) == ["harbour.ini", "tides.ini"]
    verdict = run_program("verify", "--json", folder=outlying).document["result"]
    assert verdict["faults"] == []
    assert verdict["settings_kept"] == 1
    (patch,) = (outlying / ".ladder" / "climbs").glob("*/settings.patch")
    assert patch.read_text().startswith(f"--- a{own}\n+++ b{own}\n"), "it can be applied at the top of the machine"
    # The release's own copies are its files, and nobody's settings.
    assert (outlying / "app" / "etc" / "harbour.ini").read_text() == NEW


def test_going_back_brings_them_back_as_they_were(outlying: Path) -> None:
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    run_program("climb", "--yes", folder=outlying)
    assert run_program("descend", "--price", "--json", folder=outlying).document["result"]["price"]["files"] == []
    with (own.parent / "tides.ini").open("a") as tides:
        tides.write("neap = no\n")
    assert run_program("descend", "--yes", folder=outlying).code == 0
    assert own.read_text() == MINE
    assert (stat.S_IMODE(own.stat().st_mode), own.stat().st_gid) == (0o640, 4242)
    assert [path.name for path in own.parent.iterdir()] == ["harbour.ini"], "the other came with the release"
    (kept,) = (outlying / ".ladder" / "climbs").glob(f"*/written-since/outside{own.parent}/tides.ini")
    assert kept.read_text().endswith("neap = no\n")


def test_one_that_somebody_edits_after_the_climb_is_a_difference(outlying: Path) -> None:
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    run_program("climb", "--yes", folder=outlying)
    own.write_text(own.read_text().replace("9090", "7070"))
    faults = run_program("verify", "--json", folder=outlying).document["result"]["faults"]
    assert any(str(own) in one and "door.listen" in one for one in faults), faults
    own.unlink()
    faults = run_program("verify", "--json", folder=outlying).document["result"]["faults"]
    assert any(f"{own}: is missing" in one for one in faults), faults


def test_one_that_somebody_edits_after_the_plan_is_not_written_over(outlying: Path) -> None:
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    site = load_site(outlying / "ladder.toml")
    plan = stage_climb(look_ahead(site, None, utc_now()), utc_now(), silent)
    own.write_text(MINE + "bell = loud\n")
    with pytest.raises(AnswerNo, match="changed since the plan"):
        begin(plan, Conditions())
    assert own.read_text() == MINE + "bell = loud\n"


def test_one_that_somebody_else_made_before_any_release_came_stays(outlying: Path) -> None:
    """A climb that ends before it has placed anything has brought none of them."""
    site = load_site(outlying / "ladder.toml")
    plan = stage_climb(look_ahead(site, None, utc_now()), utc_now(), silent)
    tides = outlying / "etc" / "quaybook" / "tides.ini"
    tides.write_text("[tides]\nneap = no\n")
    take_back_elsewhere(plan, kept_ground(plan), were_placed=False)
    assert tides.read_text() == "[tides]\nneap = no\n"
    take_back_elsewhere(plan, kept_ground(plan), were_placed=True)
    assert not tides.exists()
    assert kept_ground(plan).at(str(tides)).read_text() == "[tides]\nneap = no\n"


def test_one_that_is_open_to_others_than_before_is_a_difference(outlying: Path) -> None:
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    run_program("climb", "--yes", folder=outlying)
    own.chmod(0o644)
    faults = run_program("verify", "--json", folder=outlying).document["result"]["faults"]
    assert [one for one in faults if str(own) in one] == [f"file {own}: has another mode: 0640 → 0644"]


def test_a_folder_of_settings_that_is_not_there_stops_a_climb(outlying: Path) -> None:
    text = SITE.format(etc=outlying / "etc" / "quaybook")
    (outlying / "ladder.toml").write_text(text.replace("quaybook/tides", "quaybook/more/tides"))
    answer = run_program("check", "--json", folder=outlying)
    told = [one["saw"] for one in answer.document["result"]["findings"] if one["level"] == "stop"]
    assert any("there is no folder" in one and "more" in one for one in told), told
    assert not (outlying / "etc" / "quaybook" / "more").exists()


def test_nothing_of_them_is_written_before_the_window(outlying: Path) -> None:
    """Making ready writes into the climb's own folders alone, though their paths are whole ones."""
    own = outlying / "etc" / "quaybook" / "harbour.ini"
    site = load_site(outlying / "ladder.toml")
    before = own.stat()
    stage_climb(look_ahead(site, None, utc_now()), utc_now(), silent)
    run_program("settings", "--into", outlying / "merged", folder=outlying)
    after = own.stat()
    assert (after.st_ino, after.st_mtime_ns, after.st_ctime_ns) == (
        before.st_ino,
        before.st_mtime_ns,
        before.st_ctime_ns,
    )
    assert not (own.parent / "tides.ini").exists()
