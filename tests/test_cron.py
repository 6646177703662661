"""What cron and timers start of a site: told before a climb, held back while it is closed, given back to the byte."""

from __future__ import annotations

import os
import pwd
import random
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo
from tests.crash_driver import is_killed_after
from yellow_ladder.services.timetables import HELD_BACK, jobs_of

IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
SEED = os.environ.get("YELLOW_LADDER_SEED", "")
SERVICE = """
[[services]]
name = "jobs"
kind = "cron"
crontab = "{table}"
{more}
"""
SEEN = """
[[commands]]
name = "look {at}"
at = "{at}"
twice = true
run = ["/bin/sh", "-c", "cat {table} >{site}/seen-{at}"]
"""
POINTS = ("before-close", "closed", "placed", "before-start", "opened")


def with_jobs(demo: Demo, more: str = "") -> Path:
    """Give a demonstration a crontab of its own, beside lines that are none of it."""
    table = demo.folder / "crontab"
    lines = [
        "# Jobs of the harbour office.", "MAILTO=office@quay.example", "",
        f"*/5 * * * * cd {demo.root} && ./remind >/dev/null", f"0 3 * * * {demo.root}-elsewhere/report",
        f"@daily {demo.root}/tidy --token=of-the-harbour", f"# 0 4 * * * {demo.root}/old", "0 5 * * * /usr/bin/true",
    ]  # fmt: skip
    table.write_text("\n".join(lines) + "\n")
    table.chmod(0o640)
    demo.prepared.file.write_text(demo.prepared.file.read_text() + SERVICE.format(table=table, more=more))
    return table


def state_of(table: Path) -> tuple[bytes, int, int, int]:
    now = table.stat()
    return table.read_bytes(), now.st_mode, now.st_uid, now.st_gid


def test_the_lines_of_a_site_are_held_back_from_closing_to_opening(demo: Demo) -> None:
    table = with_jobs(demo)
    looks = "".join(SEEN.format(at=at, table=table, site=demo.folder) for at in POINTS)
    demo.prepared.file.write_text(demo.prepared.file.read_text() + looks)
    before = state_of(table)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert "web, jobs" in answer.out + answer.err
    assert state_of(table) == before
    for at in POINTS:
        lines = (demo.folder / f"seen-{at}").read_text().splitlines()
        held = [line for line in lines if line.startswith(HELD_BACK)]
        assert len(held) == (0 if at in ("before-close", "opened") else 2), at
        assert [line.removeprefix(HELD_BACK) for line in lines] == before[0].decode().splitlines()
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0, answer
    assert state_of(table) == before


def test_killed_at_any_record_the_table_comes_back_to_the_byte(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    table = with_jobs(demo)
    before = state_of(table)

    numbers = list(range(2, 60))
    if not IS_WHOLE:  # other ones each time; a sweep takes all
        numbers = random.Random(SEED).sample(numbers, 4)
    for number in numbers:
        if is_killed_after(demo.site(), "3.0", number) and number % 3:
            answer = demo.yl("climb", "--continue")
            assert answer.code == 0, (number, answer)
            assert state_of(table) == before, number
        answer = demo.yl("descend", "--yes")
        assert answer.code == 0, (number, answer)
        assert state_of(table) == before, number


def test_a_climb_that_fails_gives_the_lines_back(make_demo: MakeDemo) -> None:
    demo = make_demo(broken=True)
    table = with_jobs(demo)
    before = state_of(table)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 1
    assert state_of(table) == before


def test_a_job_at_work_is_waited_for(demo: Demo) -> None:
    """What a line has started before the site closed comes to its own end, within the time that the site file says."""
    with_jobs(demo, "stop_within_s = 60")
    job = demo.root / "addons" / "slow"
    job.write_text("#!/bin/sh\nsleep 11\n")
    job.chmod(0o755)
    with subprocess.Popen([str(job)], start_new_session=True) as running:
        answer = demo.yl("climb", "--to", "2.6", "--yes")
        assert answer.code == 0, answer
        assert running.poll() == 0, "it was waited for, and not ended"


@pytest.mark.parametrize(
    ("how", "told"),
    [
        ("gone", "No such file"),
        ("other lines", "no line of"),
        ("a link of another account", "belongs to another account"),
        ("in a folder of another account", "another account may put a file in the place of"),
        ("kept outside", "keep.outside"),
    ],
)
def test_a_table_that_cannot_be_held_back_stops_the_check(idle: Demo, how: str, told: str) -> None:
    before = idle.prepared.file.read_text()
    table = with_jobs(idle)
    if how == "gone":
        table.unlink()
    elif how == "other lines":
        table.write_text("0 5 * * * /usr/bin/true\n")
    elif how == "a link of another account":
        table.rename(table.with_name("real"))
        table.symlink_to("real")
        os.lchown(table, 65_534, -1)
    elif how == "in a folder of another account":
        (idle.folder / "theirs").mkdir()
        table.rename(idle.folder / "theirs" / "crontab")
        os.chown(idle.folder / "theirs", 65_534, -1)
        idle.edit(str(table), str(idle.folder / "theirs" / "crontab"))
    else:
        idle.edit("[keep]", f'[keep]\noutside = ["{table}"]')
    answer = idle.yl("check", "--to", "3.0", "--json")
    said = [one["saw"] for one in answer.document["result"]["findings"] if one["level"] == "stop"]
    idle.prepared.file.write_text(before)
    assert {one["code"] for one in answer.problems} == {"check-stops"}, "every other check is answered too"
    assert told in str(said)


@pytest.mark.parametrize("key", ["ready = { port = 80 }", 'log = "a.log"', 'run = ["x"]'])
def test_a_key_of_another_kind_is_refused_by_name(idle: Demo, key: str) -> None:
    with_jobs(idle, key)
    answer = idle.yl("check", "--json")
    assert answer.code == 2
    assert f"`{key.split()[0]}`" in str(answer.problems) or f".{key.split()[0]}" in str(answer.problems)


# An account of every machine, with a home that no other has.
MAIL = pwd.getpwnam("mail")
OWN_UNITS = f"{MAIL.pw_dir.lstrip('/')}/.config/systemd/user"


@pytest.fixture
def machine(tmp_path: Path) -> Path:
    """The top of a machine with timetables of every kind."""
    root, top = "/srv/quay", tmp_path / "machine"
    texts = {
        "var/spool/cron/crontabs/harbour": f"*/5 * * * * cd {root} && ./remind\n# 1 1 * * * {root}/old\nX={root}\n",
        "etc/crontab": f"7 * * * * harbour {root}/hourly\n7 * * * * other /srv/quays/hourly\n",
        "etc/cron.d/quay": f"{HELD_BACK}@reboot harbour {root}/first\n",
        "etc/cron.d/.hidden": f"* * * * * harbour {root}/never\n",
        "etc/cron.weekly/quay": f"#!/bin/sh\n# {root}\n{root}/week\n",
        "etc/systemd/system/tides.timer": "[Timer]\nOnCalendar=daily\nUnit=tide-table.service\n",
        "etc/systemd/system/tide-table.service": f"[Service]\nExecStart={root}/tides --now\n",
        "etc/systemd/system/idle.timer": "[Timer]\nOnCalendar=daily\n",
        "etc/systemd/system/idle.service": f"[Service]\nExecStart={root}/idle\n",
        f"var/lib/systemd/linger/{MAIL.pw_name}": "",
        f"{OWN_UNITS}/logbook.timer": "[Timer]\nOnCalendar=daily\n",
        f"{OWN_UNITS}/logbook.service": "[Service]\nExecStart=%h/logbook --root /srv/quay\n",
    }
    for name, text in texts.items():
        (top / name).parent.mkdir(parents=True, exist_ok=True)
        (top / name).write_text(text)
    for folder, timer in (("etc/systemd/system", "tides.timer"), (OWN_UNITS, "logbook.timer")):
        wants = top / folder / "timers.target.wants"
        wants.mkdir()
        (wants / timer).symlink_to(f"../{timer}")
    return top


def test_jobs_are_found_wherever_machines_keep_them(machine: Path) -> None:
    found = {
        (str(one.file.relative_to(machine)), one.line, one.says, one.account)
        for one in jobs_of([Path("/srv/quay")], machine)
    }
    assert found == {
        ("var/spool/cron/crontabs/harbour", 1, "*/5 * * * * cd /srv/quay && ./remind", "harbour"),
        ("etc/crontab", 1, "7 * * * * harbour /srv/quay/hourly", ""),
        ("etc/cron.d/quay", 1, "@reboot harbour /srv/quay/first", ""),
        ("etc/cron.weekly/quay", 0, "/srv/quay/week", ""),
        ("etc/systemd/system/tides.timer", 0, "/srv/quay/tides --now", ""),
        (f"{OWN_UNITS}/logbook.timer", 0, f"{MAIL.pw_dir}/logbook --root /srv/quay", MAIL.pw_name),
    }


@pytest.mark.skipif(os.geteuid() != 0, reason="only root may write to the machine's own tables")
def test_check_names_a_job_that_nothing_stops_and_init_writes_it_into_the_site_file(idle: Demo) -> None:
    before = idle.prepared.file.read_text()
    table = Path("/etc/cron.d") / f"quaybook-{idle.folder.name}-{os.getpid()}"
    table.parent.mkdir(exist_ok=True)
    table.write_text(f"*/5 * * * * root {idle.root}/remind --password=of-the-harbour\n")
    try:
        (found,) = [one for one in idle.json("check")["findings"] if one["check"] == "timed jobs"]
        assert found["level"] == "warn"
        assert "cron starts" in found["saw"]
        assert f"{table}, line 1" in found["saw"]
        assert "of-the-harbour" not in str(found)
        idle.prepared.file.write_text(idle.prepared.file.read_text() + SERVICE.format(table=table, more=""))
        (found,) = [one for one in idle.json("check")["findings"] if one["check"] == "timed jobs"]
        assert (found["level"], found["saw"]) == ("ok", "1 job of cron and timers, stopped with the site")
        answer = idle.yl("init", idle.root, "--show", "--json")
        text = answer.document["result"]["text"]
        assert f'kind = "cron"\ncrontab = "{table}"' in text
        assert "of-the-harbour" not in text
    finally:
        idle.prepared.file.write_text(before)
        table.unlink()
