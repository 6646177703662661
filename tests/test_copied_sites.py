"""A copy of a site is a site of its own: what its state folder holds of the one that was copied is not carried out."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import psutil
import pytest

from tests.conftest import Demo, MakeDemo, run_program
from tests.warm import Answer
from yellow_ladder.demo.prepare import free_port
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.services import ServiceState, services_of
from yellow_ladder.site.site import load_site


def copied(demo: Demo) -> Path:
    """A copy of the whole folder, state and all, as `cp -a` makes it."""
    target = demo.folder.with_name("copy")
    shutil.copytree(demo.folder, target, symlinks=True, ignore=shutil.ignore_patterns("lock", "*.sock"))
    return target


def in_copy(folder: Path, *words: object) -> Answer:
    return run_program(*words, folder=folder)


@pytest.mark.parametrize(
    "command", ["descend --yes", "settle --yes", "climb --continue --yes", "verify", "adjust --yes"]
)
def test_no_command_in_a_copy_does_anything_to_what_was_copied(idle: Demo, command: str) -> None:
    idle.json("climb", "--to", "2.6", "--yes")
    copy = copied(idle)
    before, listed = picture_of(idle.site()), sorted(idle.folder.rglob("*"))
    answer = in_copy(copy, *command.split())
    assert answer.code in (1, 2), answer.out + answer.err
    assert picture_of(idle.site()) == before
    assert sorted(idle.folder.rglob("*")) == listed
    assert (copy / "quaybook" / "VERSION").read_text().strip() == "2.6"
    if command.startswith(("descend", "settle", "verify")):
        assert f"is of {idle.root}, and this site is {copy / 'quaybook'}" in " ".join(answer.err.split())
        assert f"--site {idle.prepared.file}" in " ".join(answer.err.split())


def test_a_site_that_was_moved_is_told_where_its_climbs_can_be_carried_out(idle: Demo) -> None:
    idle.json("climb", "--to", "2.6", "--yes")
    moved = idle.folder.with_name("moved")
    idle.folder.rename(moved)
    answer = in_copy(moved, "descend", "--yes")
    assert answer.code == 2
    assert "move the folder back" in answer.err
    moved.rename(idle.folder)
    assert idle.yl("descend", "--yes").code == 0


def test_a_copy_climbs_and_goes_back_by_itself(idle: Demo) -> None:
    idle.json("climb", "--to", "2.6", "--yes")
    copy = copied(idle)
    before = picture_of(idle.site())
    answer = in_copy(copy, "climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer.err
    told = in_copy(copy, "history").out
    assert "2.6-to-4.0" in told
    assert "2.4-to-2.6" not in told
    assert f"{idle.prepared.file}: its climbs lie here too (1)" in " ".join(told.split())
    assert in_copy(copy, "descend", "--yes").code == 0
    assert (copy / "quaybook" / "VERSION").read_text().strip() == "2.6"
    assert picture_of(idle.site()) == before
    assert idle.yl("descend", "--yes").code == 0, "and the first one is its own"


def test_a_copy_made_in_the_middle_of_a_climb_is_told_of(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    demo.edit('root = "quaybook"\n', 'root = "quaybook"\non_failure = "stop"\n')
    demo.edit("[maintenance]", '[[commands]]\nname = "no"\nat = "before-start"\nrun = ["false"]\n\n[maintenance]')
    assert demo.yl("climb", "--to", "2.6", "--yes").code == 3
    copy = copied(demo)
    found = run_program("check", "--json", folder=copy).document["result"]["findings"]
    (told,) = [one for one in found if one["check"] == "climbs of others"]
    assert told["level"] == "warn"
    assert f"of {demo.root} was under way when this was copied from there" in told["saw"]


def test_two_sites_may_not_share_a_state_folder(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    demo.json("climb", "--to", "2.6", "--yes")
    other = demo.folder / "office.toml"
    shutil.copytree(demo.root, demo.folder / "office")
    text = demo.prepared.file.read_text().replace("quaybook/", "office/").replace('name = "harbour"', 'name = "office"')
    other.write_text(text.replace('root = "quaybook"', 'root = "office"'))
    answer = demo.yl("check", "--site", other, "--json")
    (told,) = [one for one in answer.document["result"]["findings"] if one["check"] == "climbs of others"]
    assert told["level"] == "stop"
    assert f"is also that of {demo.root}" in told["saw"]
    assert 'state = ".ladder-office"' in told["remedy"]
    assert demo.yl("descend", "--site", other, "--yes").code == 2
    (backup,) = (demo.folder / ".ladder" / "backups").iterdir()
    other.write_text(other.read_text() + "\n[backup]\nkeep_count = 1\n")
    assert demo.yl("backup", "make", "--site", other).code == 0
    assert demo.yl("backup", "drop", "--due", "--yes", "--site", other).code == 0
    assert backup.is_dir(), "the other site's is not counted"
    other.write_text(other.read_text().replace('root = "office"', 'root = "office"\nstate = ".ladder-office"'))
    found = demo.yl("check", "--site", other, "--json").document["result"]["findings"]
    assert [one["level"] for one in found if one["check"] == "climbs of others"] == ["ok"]


def test_the_service_of_what_was_copied_is_not_the_copys(make_demo: MakeDemo) -> None:
    """The pid file was copied too, and names a process that serves people."""
    demo = make_demo()
    copy = copied(demo)
    pid = (copy / "run" / "web.pid").read_text()
    findings = run_program("check", "--json", folder=copy).document["result"]["findings"]
    (told,) = [one for one in findings if one["check"] == "ports"]
    assert told["level"] == "stop"
    assert "`web` is stopped and its port" in told["saw"]
    assert run_program("climb", "--yes", folder=copy).code == 1
    place = copy / "ladder.toml"
    place.write_text(place.read_text().replace(str(demo.prepared.port), str(free_port())))
    answer = run_program("climb", "--to", "2.6", "--yes", folder=copy)
    assert answer.code == 0, answer.err
    assert psutil.Process(int(pid)).is_running()
    assert demo.json("survey")["services"]["web"]["state"] == "running"
    assert run_program("descend", "--yes", folder=copy).code == 0
    assert psutil.Process(int(pid)).is_running()
    for service in services_of(load_site(place)):
        service.stop()
    assert psutil.Process(int(pid)).is_running()


def test_a_process_that_was_taken_over_by_hand_is_known_by_where_it_works(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    with subprocess.Popen(["/bin/sleep", "60"], cwd=demo.root) as running:
        try:
            (demo.folder / "run").mkdir(exist_ok=True)
            (demo.folder / "run" / "web.pid").write_text(f"{running.pid}\n")
            copy = copied(demo)
            (ours,) = services_of(demo.site())
            (theirs,) = services_of(load_site(copy / "ladder.toml"))
            assert (ours.state(), theirs.state()) == (ServiceState.RUNNING, ServiceState.STOPPED)
            moved = demo.folder.with_name("moved")
            demo.folder.rename(moved)  # it goes along, and is still its own
            (ours,) = services_of(load_site(moved / "ladder.toml"))
            assert ours.state() is ServiceState.RUNNING
            moved.rename(demo.folder)
        finally:
            running.kill()


def test_commands_that_name_the_service_of_what_was_copied_stop_the_check(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    with subprocess.Popen(["/bin/sleep", "60"], cwd=demo.root) as running:
        try:
            (demo.folder / "crane.pid").write_text(f"{running.pid}\n")
            lines = [
                "[[services]]", 'name = "crane"', 'kind = "commands"', 'pid_file = "crane.pid"', 'start = ["true"]',
                'stop = ["true"]', 'status = ["true"]',
            ]  # fmt: skip
            demo.edit("[[services]]", "\n".join(lines) + "\n\n[[services]]")
            copy = copied(demo)
            findings = run_program("check", "--json", folder=copy).document["result"]["findings"]
            demo.edit("\n".join(lines) + "\n\n", "")
        finally:
            running.kill()
    (told,) = [one for one in findings if one["check"] == "services" and "crane" in one["saw"]]
    assert told["level"] == "stop"
    assert f"runs for {demo.root}, and this site is {copy / 'quaybook'}" in told["saw"]
