"""What takes long tells how far it is, in a terminal and in a log, and can be ended."""

from __future__ import annotations

import io
import os
from pathlib import Path

import pytest
from rich.console import Console
from rich.text import Text

from tests.conftest import Demo
from tests.crash_driver import climb_with, in_child
from yellow_ladder.backup.make import check_backup, make_backup
from yellow_ladder.backup.restore import restore_aside
from yellow_ladder.cli.narrator import Narrator, Pace, progress_in_words
from yellow_ladder.climb.conduct import Conditions, descend
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.errors import StoppedPartWay
from yellow_ladder.events import Event, Progress, StepStarted, Unit


def test_long_work_tells_how_far_it_is_how_fast_and_how_long_still() -> None:
    pace = Pace("files", 0, 0.0)
    moved = Progress("files", 34 << 30, 200 << 30, Unit.BYTES)
    assert progress_in_words(moved, pace, 1.0) == "34 GiB of 200 GiB (17 %)"
    assert progress_in_words(moved, pace, 120.0) == "34 GiB of 200 GiB (17 %), 290 MiB/s, about 9 min 46 s left"
    rows = Progress("rows of main", 3_000_000, None, Unit.ROWS)
    assert progress_in_words(rows, Pace("rows of main", 1_000_000, 10.0), 20.0) == "3,000,000 rows, 200,000 rows/s"
    assert progress_in_words(Progress("files", 7, 7, Unit.BYTES), pace, 9.0).startswith("7 B of 7 B (100 %)")
    assert progress_in_words(Progress("command 2", 2, 2, Unit.COMMANDS), pace, 90.0) == "2 of 2 commands"


def test_a_log_gets_a_line_a_minute_of_work_that_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    out, clock = io.StringIO(), iter(range(0, 10_000, 25))
    monkeypatch.setattr("yellow_ladder.cli.narrator.time.monotonic", lambda: next(clock))
    narrator = Narrator(Console(file=out, width=100), live=False)
    narrator(StepStarted("backup", "back up the files", 6, 26))
    for done in range(12):
        narrator(Progress("files", done << 30, 100 << 30, Unit.BYTES))
    lines = out.getvalue().splitlines()
    assert len(lines) == 4  # of 300 seconds
    assert all("· back up the files … files:" in line and "left" in line for line in lines)


@pytest.mark.parametrize("width", [80, 120])
def test_the_live_line_fits_its_terminal_and_keeps_how_far_the_work_is(
    width: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen, clock = list[Text](), iter(range(0, 10_000, 25))
    monkeypatch.setattr("yellow_ladder.cli.narrator.time.monotonic", lambda: next(clock))
    monkeypatch.setattr("rich.status.Status.update", lambda _, line: seen.append(line))
    narrator = Narrator(Console(file=io.StringIO(), width=width, force_terminal=True), live=True)
    narrator(StepStarted("backup", "back up the files of this site's twenty-one data folders", 6, 26))
    for done in (1, 2, 3):
        narrator(Progress("reading the archive", done << 30, 198 << 30, Unit.BYTES))
    assert len(seen) == 4
    assert all(line.cell_len + 2 <= width and line.plain.startswith("  6/26 ") for line in seen), "beside the spinner"
    assert all(line.plain.endswith(" left") for line in seen[2:])
    assert ("back up the files of" in seen[3].plain) == (width == 120), "its title, where there is room for both"


def test_reading_back_and_putting_back_tell_how_far_they_are_and_can_be_ended(idle: Demo, tmp_path: Path) -> None:
    (idle.root / "uploads" / "chart.bin").write_bytes(os.urandom(9 << 20))
    told: list[Progress] = []

    def listen(event: Event) -> None:
        if isinstance(event, Progress):
            told.append(event)

    def leave(event: Event) -> None:
        if isinstance(event, Progress):
            raise KeyboardInterrupt

    backup = make_backup(idle.site(), "2.4", utc_now(), listen)
    check_backup(backup.path, listen)
    restore_aside(backup, tmp_path / "aside", listen)
    for what in ("files", "read files.tar.zst back", "unpack files.tar.zst"):
        last = [one for one in told if one.what == what][-1]
        assert last.done > 9 << 19, what
        assert last.total is None or last.done <= last.total, what
    with pytest.raises(KeyboardInterrupt):
        check_backup(backup.path, leave)


def test_asked_to_stop_while_it_reads_the_backup_through_a_descent_has_not_begun(idle: Demo) -> None:
    (idle.root / "uploads" / "chart.bin").write_bytes(os.urandom(9 << 20))
    in_child(lambda: climb_with(idle.site(), "record", -1))
    climb = find_climb(idle.site(), None)
    with pytest.raises(StoppedPartWay) as told:
        descend(climb.plan, Conditions(is_interrupted=lambda: 1))
    assert "nothing of the site has changed" in told.value.problems[0].message
    assert find_climb(idle.site(), None).standing.state is ClimbState.CLIMBED
    assert idle.yl("descend", "--yes").code == 0
