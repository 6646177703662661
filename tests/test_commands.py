"""Whatever a command does, it ends with a reason, leaves nothing at work, and the site is whole."""

from __future__ import annotations

import io
import os
import select
import time
from pathlib import Path
from typing import Any

import psutil
import pytest
from rich.console import Console

from tests.conftest import Demo, MakeDemo
from tests.crash_driver import in_child
from yellow_ladder.cli.narrator import Narrator
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.journal import Instant, JournalRecord, What
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.climb.works import patience
from yellow_ladder.commands.watched import Call, run_watched
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.errors import AnswerNo, LadderError
from yellow_ladder.events import Note, silent
from yellow_ladder.release.commands import CommandKeys
from yellow_ladder.services.port import MARK
from yellow_ladder.site.surroundings import Started, Surroundings

SECRET = "sluice-gate-4711"
# What it does, what is said of it, and what the sheet says of it besides.
BAD: dict[str, tuple[str | None, str, dict[str, Any]]] = {
    "ends with 3": ("echo off we go; exit 3", "ended with 3; its last words: off we go", {}),
    "ends with where it came through": (
        "echo 'PHP Fatal error:  no such tide in berths.php:6'; echo 'Stack trace:'; echo '#0 {main}'; "
        "echo '  thrown in berths.php on line 6'; exit 3",
        "its last words: PHP Fatal error:  no such tide in berths.php:6",
        {},
    ),
    "ends with the places of a virtual machine": (
        "echo 'Caused by: NoSuchTide: spring'; echo '    at quay.Berths.moor(Berths.java:6)'; "
        "echo '    ... 12 more'; exit 3",
        "its last words: Caused by: NoSuchTide: spring",
        {},
    ),
    "ends with where more is written": (
        "echo 'error: no such tide'; echo 'error A complete log of this run can be found in: /tide.log'; exit 3",
        "its last words: error: no such tide",
        {},
    ),
    "ends below its words": ("echo bad tide:; echo '  ^'; exit 3", "ended with 3; its last words: bad tide:", {}),
    "hangs": ("echo begun; sleep 600", "did not end within", {"within_s": 0.6}),
    "says nothing": ("sleep 600", "said nothing for", {"silent_s": 0.4}),
    "asks": ("printf 'Drop it all? '; read answer", "may be asking: Drop it all?", {"silent_s": 0.4, "terminal": True}),
    "floods": ("head -c 80000000 /dev/zero | tr '\\0' x | fold -w 60000; sleep 600", "printed more than 64", {}),
    "forks away": ("setsid sleep 600 >/dev/null 2>&1 & echo done", "left 1 process", {}),
    "dies by a signal": ("echo begun; kill -9 $$", "was ended by SIGKILL", {}),
    "says an error and ends with 0": ("echo 'ERROR: no such tide'", "said: ERROR: no such tide", {"failed": "ERROR"}),
    "never says that it is done": ("echo almost", "never said 'all done'", {"done": "all done"}),
    "is not there": (None, "cannot run", {}),
}
GOOD: dict[str, tuple[str, dict[str, Any]]] = {
    "ends with 0": ("echo one; echo two", {}),
    "ends as it may": ("exit 4", {"exit_codes": [0, 4]}),
    "says that it is done": ("echo migrated 7 rows", {"done": r"migrated \d+"}),
    "is answered": (
        'printf "Go on? [yes/no] "; read a; [ "$a" = yes ] && echo agreed',
        {"answers": [{"asked": r"Go on\?", "say": "yes"}], "done": "agreed"},
    ),
    "asks for a password at the terminal": (
        'printf "Password: " >/dev/tty; read a </dev/tty; [ "$a" = ' + SECRET + " ] && echo let in",
        {"answers": [{"asked": "Password:", "say_variable": "PIN"}], "done": "let in"},
    ),
}


def call(folder: Path, script: str | None, **keys: Any) -> Call:
    around = Surroundings({"PIN": SECRET}, (), (), (SECRET,))
    how = Started(None, {**os.environ, "PIN": SECRET}, around)
    argv = ("/bin/sh", "-c", script) if script is not None else (str(folder / "nowhere"),)
    wanted = CommandKeys.model_validate({"run": list(argv), **keys})
    return Call(
        "tidy", argv, folder, how, wanted, folder / "output.txt", f"{folder}@test"
    )  # two workers have folders of one name


def at_work(mark: str) -> list[str]:
    found = []
    for one in psutil.process_iter():
        try:
            if one.environ().get(MARK) == mark and one.status() != psutil.STATUS_ZOMBIE:
                found.append(one.name())
        except (psutil.Error, OSError):
            continue
    return found


@pytest.mark.parametrize("what", BAD)
def test_a_command_that_goes_wrong_says_why_and_leaves_nothing_at_work(what: str, tmp_path: Path) -> None:
    script, said, keys = BAD[what]
    one = call(tmp_path, script, **keys)
    began = time.monotonic()
    with pytest.raises(AnswerNo) as caught:
        run_watched(one, lambda _line: None, lambda: None)
    problem = caught.value.problems[0]
    assert said in problem.message
    assert problem.code == ("command-missing" if script is None else "command-failed")
    assert script is None or str(one.output) in problem.remedy
    assert at_work(one.mark) == []
    assert time.monotonic() - began < 60


@pytest.mark.parametrize("what", GOOD)
def test_a_command_that_does_as_it_should_is_told_with_its_last_words(what: str, tmp_path: Path) -> None:
    script, keys = GOOD[what]
    heard: list[str] = []
    one = call(tmp_path, script, **keys)
    ended = run_watched(one, heard.append, lambda: None)
    assert ended.last == (heard[-1] if heard else "")
    assert at_work(one.mark) == []
    assert SECRET not in one.output.read_text() + "".join(heard)


def test_its_last_words_are_heard_when_it_ends_just_after_the_last_look(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    looked = select.select

    def nothing_yet(reading: list[Any], writing: list[Any], failing: list[Any], within_s: float) -> Any:
        if within_s:
            time.sleep(within_s)
            return [], [], []
        return looked(reading, writing, failing, 0)

    monkeypatch.setattr("yellow_ladder.commands.watched.select.select", nothing_yet)
    quick = call(tmp_path, "echo all done", done="all done")
    assert run_watched(quick, lambda _line: None, lambda: None).last == "all done"


def test_what_it_says_is_kept_without_secrets_and_warnings_are_counted(tmp_path: Path) -> None:
    script = (
        "echo token is $PIN; printf '\\033[1;33mWARNING: low tide\\033[0m\\n'; echo password=hunter2;"
        " printf '\\033]0;tides\\007a\\rb\\r\\033[33;40mlast\\033[m state\\n'"
    )
    one = call(tmp_path, script, warned="^WARNING")
    ended = run_watched(one, lambda _line: None, lambda: None)
    kept = one.output.read_text()
    assert (ended.warnings, ended.lines, ended.last) == (1, 4, "last state")
    assert kept.splitlines()[1::2] == ["WARNING: low tide", "last state"]
    assert SECRET not in kept
    assert "hunter2" not in kept
    assert "WARNING: low tide" in kept
    assert one.output.stat().st_mode & 0o777 == 0o600


def with_command(demo: Demo, at: str, script: str, more: str = "", name: str = "tidy") -> None:
    text = f'[[commands]]\nname = "{name}"\nat = "{at}"\nrun = ["/bin/sh", "-c", {script!r}]\n{more}\n'
    demo.edit("[maintenance]", text + "\n[maintenance]")


def test_commands_are_run_at_their_points_and_rungs_in_order(demo: Demo) -> None:
    places = ["before-close", "closed", "placed", "before-migrations", "after-migrations", "before-start", "started"]
    log = demo.folder / "told.txt"
    for at in [*places, "opened"]:
        closed = "$([ -e quaybook/data/closed ] && echo closed || echo open)"
        served = "$([ -e run/web.pid ] && echo up || echo down)"
        script = f"echo {at} {{version}} $(cat quaybook/VERSION) {closed} {served} >> {log}"
        with_command(demo, at, script, 'folder = "{site}"', f"tell {at}")
    with_command(demo, "placed", f"echo only {{from_version}} to {{version}} >> {log}", 'for = ">=3,<4"', "at 3.0")
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    told = log.read_text().splitlines()
    assert told[:2] == ["before-close 2.6 2.4 open up", "closed 2.6 2.4 closed down"]
    of_rungs = [f"{at} {v} {v} closed down" for v in ("2.6", "3.0", "4.0") for at in places[2:5]]
    of_rungs.insert(4, "only 2.6 to 3.0")
    assert told[2:12] == of_rungs
    assert told[12:] == ["before-start 4.0 4.0 closed down", "started 4.0 4.0 closed up", "opened 4.0 4.0 open up"]


def test_a_failed_command_takes_the_site_back_and_names_its_output(demo: Demo) -> None:
    before = picture_of(demo.site())
    script = "echo half; rm {root}/static/style.css; echo CREDENTIAL=" + SECRET + "; exit 7"
    with_command(demo, "after-migrations", script, 'for = "3.0"')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "the command `tidy` failed: it ended with 7" in answer.err
    output = next(demo.folder.glob(".ladder/climbs/*/output/2-tidy.txt"))
    assert str(output) in answer.err
    assert "half" in output.read_text()
    assert SECRET not in output.read_text() + answer.err + answer.out
    assert picture_of(demo.site()) == before
    assert (demo.folder / "run" / "web.pid").exists()


def test_what_a_command_writes_where_it_may_not_is_a_difference(demo: Demo) -> None:
    before = picture_of(demo.site())
    with_command(demo, "after-migrations", "echo x > {root}/quaybook/cached.py; touch {root}/lock", 'for = "4.0"')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    said = " ".join(answer.err.split())
    assert "2 files of 4.0 not as placed: lock (added), quaybook/cached.py (added)" in said
    assert 'where tidy is meant to write that, say so there: writes = ["lock", "quaybook/cached.py"]' in said
    assert picture_of(demo.site()) == before


def test_what_a_command_declares_to_write_is_counted_and_nothing_else(demo: Demo) -> None:
    more = 'writes = ["cached", "lock"]'
    with_command(demo, "after-migrations", "mkdir -p {root}/cached; echo x > {root}/cached/a; touch {root}/lock", more)
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer
    assert "written by `tidy`: 3 files" in answer.out


def test_before_there_is_a_backup_no_command_of_a_release_names_the_release(idle: Demo) -> None:
    with_command(idle, "before-close", "{release}/server.py --version")
    answer = idle.yl("check")
    assert answer.code == 2
    assert "before there is a backup" in answer.err


def test_when_going_back_a_command_must_be_one_that_may_be_run_twice(idle: Demo) -> None:
    with_command(idle, "going-back", "true")
    answer = idle.yl("check")
    assert answer.code == 2
    assert "twice = true" in answer.err


def test_a_command_is_run_when_going_back_before_the_services_start(demo: Demo) -> None:
    script = "echo $(cat quaybook/VERSION) $([ -e run/web.pid ] && echo up || echo down) > back.txt"
    with_command(demo, "going-back", script, 'twice = true\nfolder = "{site}"')
    assert demo.yl("climb", "--to", "2.6", "--yes").code == 0
    assert not (demo.folder / "back.txt").exists()
    assert demo.yl("descend", "--yes").code == 0
    assert (demo.folder / "back.txt").read_text() == "2.4 down\n"


def climb_and_die_in_the_command(demo: Demo) -> None:
    """Climb, and be killed when the command has begun and before the journal knows that it ended."""

    def die(when: Instant, record: JournalRecord) -> None:
        if when is Instant.BEFORE and record.what is What.DONE and record.step.startswith("command:"):
            os.kill(os.getpid(), 9)

    def climb() -> int:
        begin(stage_climb(look_ahead(demo.site(), None, utc_now()), utc_now(), silent), Conditions(on_append=die))
        return 0

    assert in_child(climb)[1] == 9


@pytest.mark.parametrize("twice", [False, True])
def test_a_command_under_way_at_a_kill_is_run_again_only_where_it_may(make_demo: MakeDemo, *, twice: bool) -> None:
    demo = make_demo(start=False)
    before = picture_of(demo.site())
    log = demo.folder / "told.txt"
    with_command(demo, "after-migrations", f"echo again >> {log}", f'for = "3.0"\ntwice = {str(twice).lower()}')
    climb_and_die_in_the_command(demo)
    answer = demo.yl("climb", "--continue")
    if twice:
        assert answer.code == 0, answer
        assert log.read_text() == "again\nagain\n"
        return
    assert answer.code == 1
    assert "was begun before and did not end, and may not be run twice" in answer.err
    assert log.read_text() == "again\n"
    assert picture_of(demo.site()) == before


def test_what_a_killed_climb_left_at_work_is_ended_before_anything_else(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    started = demo.folder / "started"
    with_command(demo, "after-migrations", f"touch {started}; sleep 600", 'for = "2.6"\ntwice = true')

    def climb() -> int:
        plan = stage_climb(look_ahead(demo.site(), None, utc_now()), utc_now(), silent)

        def die(_event: object) -> None:
            return None

        pid = os.fork()
        if pid == 0:
            begin(plan, Conditions(die))
        while not started.exists():
            time.sleep(0.02)
        os.kill(pid, 9)
        os.waitpid(pid, 0)
        return 0

    in_child(climb)
    mark = f"command-{next((demo.folder / '.ladder' / 'climbs').iterdir()).name}@{demo.root}"
    end = time.monotonic() + 20
    while "sleep" not in at_work(mark) and time.monotonic() < end:  # its shell has not come to that yet
        time.sleep(0.02)
    assert "sleep" in at_work(mark)
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0
    assert "was still at work, and was ended" in answer.err
    assert at_work(mark) == []


def test_whether_a_command_may_be_run_twice_can_be_said_while_its_climb_is_open(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    demo.edit("[releases]", 'on_failure = "stop"\n\n[releases]')
    with_command(demo, "after-migrations", "test -e {site}/mended", 'for = "3.0"\nfolder = "{site}"')
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 3
    (demo.folder / "mended").touch()
    answer = demo.yl("climb", "--continue")
    assert answer.code == 3
    assert "say twice = true" in answer.err
    demo.edit('for = "3.0"', 'for = "3.0"\ntwice = true')
    assert demo.yl("adjust", "--yes").code == 0
    assert demo.json("history")[0]["state"] == "climbed"


def ended_in(demo: Demo, keys: str, times: int, patience_s: float = 300.0, does: str = "sleep 0.1") -> tuple[str, str]:
    """Climb beside a command that would go on for ever, and ask for its end; what was told, and how the climb ended."""
    started, told = demo.folder / "started", list[str]()
    with_command(demo, "after-migrations", f"touch {started}; while :; do {does}; done", f'for = "2.6"\n{keys}')
    asked = 0

    def ask() -> int:
        nonlocal asked
        if started.exists() and (asked == 0 or told):
            asked = min(times, asked + 1)
        return asked

    def hear(event: object) -> None:
        if isinstance(event, Note):
            told.append(event.text)

    plan = stage_climb(look_ahead(demo.site(), None, utc_now()), utc_now(), silent)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(patience, "SILENT_FOR_S", patience_s)
        with pytest.raises(LadderError) as fault:
            begin(plan, Conditions(hear, is_interrupted=ask))
    return " / ".join(told), fault.value.problems[-1].message


def test_what_may_not_be_run_twice_is_ended_when_it_is_asked_for_twice_and_the_climb_goes_back(idle: Demo) -> None:
    before = picture_of(idle.site())
    told, ended = ended_in(idle, "within_s = 60", times=2)
    assert "may not be run twice: yl stops when it has ended. Press Ctrl-C again to end it" in told
    assert "was ended, since it was asked for twice" in ended
    assert list_climbs(idle.site())[-1].standing.state is ClimbState.DESCENDED
    assert picture_of(idle.site()) == before


def test_asked_for_once_it_is_waited_for(idle: Demo) -> None:
    told, ended = ended_in(idle, "within_s = 4", times=1)
    assert "Press Ctrl-C again" in told
    assert "stopped on request" in ended or "did not end within" in ended


def test_a_command_that_says_nothing_for_long_is_spoken_of_with_what_it_does(idle: Demo) -> None:
    told, _ = ended_in(idle, "within_s = 6", times=0, patience_s=2.0, does=":")
    assert "has said nothing for 2" in told
    assert "used the processor for" in told


def test_a_note_is_told_whole_on_a_narrow_screen() -> None:
    out = io.StringIO()
    text = "`schema` may not be run twice: yl stops when it has ended. Press Ctrl-C again to end it; it then goes back"
    Narrator(Console(file=out, width=60), live=False)(Note(text, is_warning=True))
    lines = out.getvalue().splitlines()
    assert " ".join(line.strip() for line in lines).removeprefix("↓ ") == text
    assert all(len(line) <= 60 and line == line.rstrip() for line in lines)
