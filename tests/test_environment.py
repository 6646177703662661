"""What environment files say reaches what is started, and nobody else; nor does it turn root against itself."""

from __future__ import annotations

import os
from pathlib import Path

import psutil
import pytest

from tests.conftest import Demo
from tests.intruder import ACCOUNT
from yellow_ladder.errors import BadInput
from yellow_ladder.site.surroundings import read_environment

SECRET = "sluice-gate-4711"
GOOD = {
    "plain": ("BERTH=seven\n", {"BERTH": "seven"}),
    "as shells export": ("export BERTH=seven\n", {"BERTH": "seven"}),
    "empty": ("BERTH=\n", {"BERTH": ""}),
    "quoted": ("A='one # two'\nB=\"three\\nfour\"\n", {"A": "one # two", "B": "three\nfour"}),
    "nothing is put in": ("A='$HOME'\nB=${A}x\n", {"A": "$HOME", "B": "${A}x"}),
    "with an equals sign": ("URL=postgresql://h/q?a=b=c\n", {"URL": "postgresql://h/q?a=b=c"}),
    "over two lines": ("KEY='first\nsecond'\nB=2\n", {"KEY": "first\nsecond", "B": "2"}),
    "the last one counts": ("A=1\nA=2\n", {"A": "2"}),
    "with remarks": ("# a remark\n\nA=1 # of A\n", {"A": "1"}),
}
BAD = {"no value": "A=1\nBERTH\n", "no name": "A=1\n=seven\n", "an open quote": "A=1\nB='seven\n"}


@pytest.mark.parametrize("what", GOOD)
def test_environment_files_are_read_as_shells_and_service_managers_read_them(what: str, tmp_path: Path) -> None:
    text, wanted = GOOD[what]
    (tmp_path / "site.env").write_text(text)
    assert read_environment(tmp_path / "site.env") == wanted


@pytest.mark.parametrize("what", BAD)
def test_a_line_that_is_none_is_named(what: str, tmp_path: Path) -> None:
    (tmp_path / "site.env").write_text(BAD[what])
    with pytest.raises(BadInput, match="line 2 is not in the form KEY=value"):
        read_environment(tmp_path / "site.env")


def with_environment(demo: Demo, more: str = "", text: str = f"TIDE_TOKEN={SECRET}\nBERTH=7\n") -> Path:
    file = demo.folder / "site.env"
    file.write_text(text)
    file.chmod(0o600)
    demo.edit(
        "[maintenance]",
        f'[environment]\nfiles = ["site.env"]\nvalues = {{ HARBOUR = "{{root}}" }}\n{more}\n[maintenance]',
    )
    return file


def test_services_and_commands_find_it_around_them_and_nobody_else_does(idle: Demo) -> None:
    with_environment(idle, 'path = ["tools"]')
    (idle.folder / "tools").mkdir()
    program = idle.folder / "tools" / "tide-clock"
    program.write_text('#!/bin/sh\n[ "$TIDE_TOKEN" = ' + SECRET + ' ] && echo "clock 3.1 $HARBOUR"\n')
    program.chmod(0o755)
    tool = '\n[[tools]]\nname = "clock"\ncommand = ["tide-clock"]\npattern = "clock (\\\\S+ .*)"\n'
    idle.prepared.file.write_text(idle.prepared.file.read_text() + tool)
    said = {one["part"]: one["says"] for one in idle.json("survey")["versions"] if one["part"]}
    assert said["clock"] == f"3.1 {idle.root}"
    shown = ""
    assert idle.yl("climb", "--yes").code == 0
    service = psutil.Process(int((idle.folder / "run" / "web.pid").read_text())) if running(idle) else None
    for words in (("survey", "--detail"), ("check", "-v"), ("verify", "--json"), ("history",), ("descend", "--yes")):
        answer = idle.yl(*words)
        shown += answer.out + answer.err
    assert service is None or SECRET not in " ".join(service.cmdline())
    assert SECRET not in shown
    kept = [path for path in (idle.folder / ".ladder").rglob("*") if path.is_file() and SECRET in _text(path)]
    assert kept == []


def running(demo: Demo) -> bool:
    return (demo.folder / "run" / "web.pid").exists()


def _text(path: Path) -> str:
    return path.read_bytes().decode(errors="replace")


def test_a_service_has_it_while_it_runs(demo: Demo) -> None:
    with_environment(demo)
    assert demo.yl("climb", "--yes").code == 0
    process = psutil.Process(int((demo.folder / "run" / "web.pid").read_text()))
    assert (process.environ()["TIDE_TOKEN"], process.environ()["HARBOUR"]) == (SECRET, str(demo.root))
    assert SECRET not in " ".join(process.cmdline())
    assert SECRET not in demo.yl("verify", "--json").out


def test_what_a_command_prints_at_its_end_does_not_tell_it(idle: Demo) -> None:
    with_environment(idle)
    check = '\n[[checks]]\nname = "gate"\ncommand = ["sh", "-c", "echo denied for $TIDE_TOKEN; exit 3"]\n'
    idle.prepared.file.write_text(idle.prepared.file.read_text() + check)
    answer = idle.yl("check", "--json")
    (told,) = [one["saw"] for one in answer.document["result"]["findings"] if one["check"] == "gate"]
    assert "ended with 3: denied for •••" in told
    assert SECRET not in answer.out + answer.err


def test_whoever_may_write_it_says_what_is_loaded_and_has_no_roots_rights(idle: Demo) -> None:
    """A preloaded library, a module's path: the variables of a file of the site's account are that account's code."""
    os.chown(with_environment(idle, text="LD_PRELOAD=/nowhere.so\nBERTH=7\n"), ACCOUNT, ACCOUNT)
    idle.folder.chmod(0o755)
    tools = (
        '\n[[tools]]\nname = "who"\ncommand = ["/usr/bin/id", "-u"]\npattern = "(\\\\d+)"\n'
        '\n[[tools]]\nname = "meant"\ncommand = ["/usr/bin/id", "-u"]\npattern = "(\\\\d+)"\nas_user = "root"\n'
    )
    idle.prepared.file.write_text(idle.prepared.file.read_text() + tools)
    said = {one["part"]: one["says"] for one in idle.json("survey")["versions"] if one["part"]}
    assert (said["who"], said["meant"]) == (str(ACCOUNT), "0")
    findings = [
        one for one in idle.json("check", code=idle.yl("check").code)["findings"] if "tools.meant" in one["saw"]
    ]
    assert [findings[0]["level"], f"{ACCOUNT} can write it" in findings[0]["saw"]] == ["warn", True]


@pytest.mark.parametrize(
    ("harm", "level", "told"),
    [
        ("unlink", "stop", "cannot be read: No such file"),
        ("garble", "stop", "line 1 is not in the form"),
        ("open", "warn", "can be read by every account"),
        ("inside", "stop", "lies inside root and is not kept"),
    ],
)
def test_a_file_that_will_not_do_is_a_finding(harm: str, level: str, told: str, idle: Demo) -> None:
    file = with_environment(idle)
    if harm == "unlink":
        file.unlink()
    elif harm == "garble":
        file.write_text("nonsense\n")
    elif harm == "open":
        file.chmod(0o644)
    else:
        file.rename(idle.root / "etc" / "site.env")
        idle.edit('files = ["site.env"]', 'files = ["{root}/etc/site.env"]')
    answer = idle.yl("check", "--json")
    levels = {one["level"] for one in answer.document["result"]["findings"] if told in one["saw"]}
    assert level in levels, answer.document["result"]["findings"]
    assert (answer.code == 1) == (level == "stop")
