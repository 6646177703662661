"""Data folders made anew: exported by the release before, imported by the new one, the old folder untouched aside."""

from __future__ import annotations

import os
import random
import shutil
import signal
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.crash_driver import die_at_rename, in_child
from tests.test_shapes import change_sheet, look
from yellow_ladder.climb.conduct import Conditions, begin, descend
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.climb.record.journal import Instant, JournalRecord
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.events import silent
from yellow_ladder.release.versions import Version

REMADE = """
[[remade]]
folder = "log-book"
export_by = { run = ["/bin/sh", "-c", "cp $0/*.v1 $1", "{folder}", "{exported}"] }
import_by = { run = ["/bin/sh", "-c", "cd $1; for f in *; do tr '|' ';' <$f >$0/$f.v2;done", "{folder}", "{exported}"] }

[[remade.same]]
name = "entries"
before = ["/bin/sh", "-c", "cat $0/*.v1 | wc -l", "{folder}"]
after = ["/bin/sh", "-c", "cat $0/*.v2 | wc -l", "{folder}"]
"""
DAYS = ("monday", "tuesday", "wednesday")
SHAPES = ("plain", "shared", "environment")
IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
SEED = os.environ.get("YELLOW_LADDER_SEED", "")


def with_log_book(demo: Demo, text: str = REMADE) -> Demo:
    """A site with a log book of the first format, which 3.0 makes anew."""
    book = demo.root / "log-book"
    book.mkdir(mode=0o750)
    for number, day in enumerate(DAYS):
        (book / f"{day}.v1").write_text(f"{number}|{day}|all well\n" * (number + 1))
    demo.edit('data = ["data", "uploads"', 'data = ["log-book", "data", "uploads"')
    change_sheet(demo, "3.0", "\n[[contract]]", f"{text}\n[[contract]]")
    return demo


COPIED = """
[[remade]]
folder = "log-book"
copied = true
"""


@pytest.mark.parametrize("shape", SHAPES)
def test_a_release_may_go_on_with_a_copy_and_the_old_folder_comes_back(make_demo: MakeDemo, shape: str) -> None:
    """What the new release does to the folder, the release before need not be able to read."""
    demo = with_log_book(make_demo(shape=shape), COPIED)
    book = demo.root / "log-book"
    before, inode = look(book), book.stat().st_ino
    answer = demo.yl("climb", "--yes", "--to", "3.0")
    assert answer.code == 0, answer.err
    assert "log-book (made anew" not in answer.out, "it is compared file by file"
    assert look(book) == before
    assert book.stat().st_ino != inode
    (book / "monday.v1").write_text("only 3.0 reads this")
    assert demo.yl("descend", "--yes").code == 0
    assert (look(book), book.stat().st_ino) == (before, inode)


def test_a_folder_that_lies_in_reach_of_the_import_may_be_exchanged_and_is_not_believed(make_demo: MakeDemo) -> None:
    """The site's account puts another folder where the old one waits: nothing is thrown away for it."""
    text = """
[[remade]]
folder = "log-book"
import_by = { run = ["/bin/sh", "-c", "cp $0/*.v1 $1; mv $0 $0.x; mkdir $0", "{before}", "{folder}"] }
"""
    demo = with_log_book(make_demo(shape="environment"), text)
    before = look(demo.root / "log-book")
    answer = demo.yl("climb", "--yes", "--to", "3.0")
    assert answer.code == 3, answer.out + answer.err
    assert "is not the folder that was set aside: somebody has exchanged it" in " ".join(answer.err.split())
    (moved,) = demo.root.glob(".before-*.x")
    assert look(moved) == before
    moved.with_suffix("").rmdir()
    moved.rename(moved.with_suffix(""))
    assert demo.yl("descend", "--yes").code == 0
    assert look(demo.root / "log-book") == before


@pytest.mark.parametrize("shape", SHAPES)
def test_a_data_folder_is_made_anew_and_the_old_one_comes_back_as_it_was(make_demo: MakeDemo, shape: str) -> None:
    demo = with_log_book(make_demo(shape=shape))
    book = demo.root / "log-book"
    before = look(book)
    inodes = {path.name: path.stat().st_ino for path in book.iterdir()}
    told = demo.yl("climb", "--to", "3.0", "--yes")
    assert told.code == 0, told
    assert told.out.index("export log-book") < told.out.index("import log-book"), "told before it happens"
    assert "made anew by 3.0; the same before and after: entries" in " ".join(told.out.split())
    assert "nothing was lost" not in told.out, "it says no more than was compared"
    assert "the same entries" in told.out + told.err
    assert "written by `import log-book`" in told.out + told.err, "what was given up is told"
    assert sorted(path.name for path in book.iterdir()) == [f"{day}.v1.v2" for day in sorted(DAYS)]
    assert (book / "monday.v1.v2").read_text() == "0;monday;all well\n"
    assert book.stat().st_mode & 0o777 == 0o750
    assert demo.yl("verify").code == 0
    assert not list(demo.folder.rglob(".*exported-*")), "what was exported is gone"
    assert demo.yl("descend", "--yes").code == 0
    assert look(book) == before
    assert {path.name: path.stat().st_ino for path in book.iterdir()} == inodes, "set aside, and not copied"
    assert not list(demo.folder.rglob(".*exported-*"))


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("cp $0/*.v1 $1", "exit 3", "ended with 3"),
        ("cp $0/*.v1 $1", "true", "exported nothing"),
        ("tr '|' ';'", "head -n 1", "line 1 was '6', and is '3'"),
        ("cd $1;", "exit 0;", "imported nothing"),
    ],
)
def test_what_does_not_come_through_takes_the_climb_back(idle: Demo, old: str, new: str, told: str) -> None:
    demo = with_log_book(idle, REMADE.replace(old, new))
    before = look(demo.root / "log-book")
    answer = demo.yl("climb", "--to", "3.0", "--yes", "--json")
    assert answer.code == 1
    assert any(told in one["message"] for one in answer.problems), answer.problems
    assert look(demo.root / "log-book") == before
    assert demo.json("history")[0]["state"] == "descended"


NOISY = REMADE.replace("cat $0/*.v1 |", "echo at $$ >&2; cat $0/*.v1 |").replace(
    "cat $0/*.v2 |", "date +%N >&2; cat $0/*.v2 |"
)
HIDDEN = REMADE.replace('"cat $0/*.v1 | wc -l"', '"echo password=low-water; cat $0/*.v1 | wc -l"').replace(
    '"cat $0/*.v2 | wc -l"', '"echo password=high-water; cat $0/*.v2 | wc -l"'
)


def test_an_answer_is_what_is_printed_and_no_log_and_a_secret_in_it_is_compared_and_not_shown(
    make_demo: MakeDemo,
) -> None:
    demo = with_log_book(make_demo(start=False), NOISY)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer.err
    (kept,) = demo.folder.glob(".ladder/climbs/*/output/2-2-1-entries.errors.txt")
    assert kept.read_text().strip().isdigit(), "what it said of itself is kept all the same"
    assert demo.yl("descend", "--yes").code == 0
    change_sheet(demo, "3.0", NOISY, HIDDEN)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 1
    assert "entries: it differs in what is not shown: in a secret" in " ".join(answer.err.split())
    files = [one for one in demo.folder.glob(".ladder/climbs/*/**/*") if one.is_file() and one.name != "plan.json"]
    assert {"journal.jsonl", "2-2-1-entries.txt"} <= {one.name for one in files}
    assert not [one for one in files if b"-water" in one.read_bytes()], "the plan has it in the command's own words"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        (
            REMADE.replace('"{folder}", "{exported}"] }\nimport', '"{folder}"] }\nimport'),
            "needs {exported} in `export_by`",
        ),
        (REMADE + REMADE, "makes a folder anew twice"),
        (REMADE + REMADE.replace('"log-book"', '"log-book/inner"'), "lies in another one"),
        (REMADE.replace("export_by = { ", 'export_by = { writes = ["docs"], '), "has `writes` in `export_by`"),
        ('[[commands]]\nname = "a"\nat = "export"\nrun = ["true"]', "no point for commands"),
    ],
)
def test_a_sheet_that_makes_no_sense_of_it_is_refused(idle: Demo, text: str, told: str) -> None:
    with_log_book(idle, text)
    assert told in idle.yl("check", "--to", "3.0").out


def test_what_cannot_be_made_anew_stops_the_check(idle: Demo) -> None:
    with_log_book(idle, REMADE.replace('"log-book"', '"data"') + REMADE.replace('"log-book"', '"docs"'))
    told = {one["saw"]: one["level"] for one in idle.json("check", "--to", "3.0", code=1)["findings"]}
    assert told["the database main lies in data, which 3.0 makes anew: its rows are not compared"] == "stop"
    assert told["3.0 makes docs anew, which is none of the data folders of the site file"] == "stop"


def climb_and_die(demo: Demo, dies: Callable[[Instant, JournalRecord], bool]) -> bool:
    """Climb, and be killed at a journal record; whether it came to that."""

    def watch(when: Instant, record: JournalRecord) -> None:
        if dies(when, record):
            os.kill(os.getpid(), signal.SIGKILL)

    def climb() -> int:
        plan = stage_climb(look_ahead(demo.site(), Version("3.0"), utc_now()), utc_now(), silent)
        begin(plan, Conditions(on_append=watch))
        return 0

    return in_child(climb)[1] == signal.SIGKILL


@pytest.mark.parametrize("shape", SHAPES)
def test_killed_at_any_record_of_it_a_climb_goes_on_and_goes_back(make_demo: MakeDemo, shape: str) -> None:
    demo = with_log_book(make_demo(shape=shape, start=False))
    before = look(demo.root / "log-book")
    steps = [f"rung-{step}:2/1" for step in ("export", "import")]
    instants = [(step, what, when) for step in steps for what in ("begin", "done") for when in Instant]
    if not IS_WHOLE:  # other ones each time; a sweep takes all
        instants = random.Random(f"{shape}{SEED}").sample(instants, 2)
    for number, (step, what, when) in enumerate(instants):
        assert climb_and_die(demo, lambda at, one: (at, one.what, one.step) == (when, what, step)), (step, what, when)  # noqa: B023
        if number % 2:
            assert demo.yl("climb", "--continue").code == 0, (step, what, when)
            assert (demo.root / "log-book" / "tuesday.v1.v2").read_text() == "1;tuesday;all well\n" * 2
        answer = demo.yl("descend", "--yes")
        assert answer.code == 0, (step, what, when, answer)
        assert look(demo.root / "log-book") == before, (step, what, when)
        assert not list(demo.folder.rglob(".*exported-*"))


def test_killed_between_any_two_renames_the_old_folder_is_found(idle: Demo) -> None:
    demo = with_log_book(idle)
    before = look(demo.root / "log-book")

    def is_meant(names: list[str]) -> bool:
        return bool({"1", "2-1", "2-1-newer"}.intersection(names))

    def climb(number: int) -> int:
        die_at_rename(number, is_meant)
        begin(stage_climb(look_ahead(demo.site(), Version("3.0"), utc_now()), utc_now(), silent), Conditions())
        return 0

    def go_back(number: int) -> int:
        die_at_rename(number, is_meant)
        descend(find_climb(demo.site(), None).plan, Conditions())
        return 0

    assert in_child(lambda: climb(1))[1] == signal.SIGKILL
    assert demo.yl("climb", "--continue").code == 0
    for number in (1, 2):
        assert in_child(lambda: go_back(number))[1] == signal.SIGKILL, number  # noqa: B023
        assert demo.yl("descend", "--yes").code == 0
        assert look(demo.root / "log-book") == before
        assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    shutil.rmtree(Path(demo.root / "log-book"))
    assert demo.yl("descend", "--yes").code == 0, "the backup has it as well"
    assert look(demo.root / "log-book") == before
