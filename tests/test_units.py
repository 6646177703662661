"""Units of a real systemd, which is process 1 of a namespace of the test's own."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import signal
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo, need, run_program
from tests.intruder import hand_over
from yellow_ladder.demo.prepare import Place
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.demo.shapes import SECRET
from yellow_ladder.demo.units import UnitPlace, remove_unit
from yellow_ladder.discovery import units
from yellow_ladder.discovery.look import discover
from yellow_ladder.discovery.writing.site_file import site_file_text
from yellow_ladder.services import ServiceState, services_of
from yellow_ladder.services.timetables import AccountUnits


@dataclass
class Manager:
    """A private systemd with one site's unit."""

    process: subprocess.Popen[str]
    pid: str
    unit: str = "quaybook.service"

    @property
    def inside(self) -> list[str]:
        return ["nsenter", "-t", self.pid, "-m", "-p", "-u", "-i"]

    def run(self, *words: str) -> str:
        done = subprocess.run(
            [*self.inside, *words], capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=60, check=False
        )
        return done.stdout + done.stderr

    def says(self, name: str) -> str:
        return self.run("systemctl", "show", self.unit, f"--property={name}", "--value").strip()


OWN_MANAGER = """\
[Service]
Type=notify
User=nobody
Environment=XDG_RUNTIME_DIR={runtime} HOME={home}
ExecStart=/lib/systemd/systemd --user
Delegate=yes
"""
# A manager turns away who has no process number in its namespace: from outside it is reached through this.
RELAY = """\
[Unit]
Requires=own-manager.service
After=own-manager.service
[Service]
User=nobody
ExecStart=/lib/systemd/systemd-socket-proxyd {runtime}/systemd/private
"""
RELAY_SOCKET = """\
[Socket]
ListenStream={runtime}/outside/systemd/private
SocketUser=nobody
"""
OWN_UNIT = """\
[Service]
Type=exec
WorkingDirectory={root}
ExecStart={python} -B -c "import sys; sys.path[0:0] = ['.']; import server; server.main()"
StandardOutput=append:{folder}/run/web.log
StandardError=append:{folder}/run/web.log
"""


@contextlib.contextmanager
def private_systemd(units: Path, shared: Path) -> Iterator[Manager]:
    starter = Path(__file__).parent / "private-systemd"
    process = subprocess.Popen(
        [str(starter), str(units), str(shared)], stdout=subprocess.PIPE, text=True, start_new_session=True
    )
    try:
        assert process.stdout is not None
        yield Manager(process, process.stdout.readline().split()[-1])
    finally:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        assert process.stdout is not None
        process.stdout.close()


def need_systemd() -> None:
    missing = [] if Path("/lib/systemd/systemd").exists() and os.geteuid() == 0 else ["systemd, as root"]
    need(missing, "a test of units")


@pytest.fixture
def own_unit_demo(make_demo: MakeDemo) -> Iterator[tuple[Demo, Manager]]:
    """A site of an account, whose own service manager has its unit."""
    need_systemd()
    demo = make_demo(start=False)
    nobody = pwd.getpwnam("nobody").pw_uid
    hand_over(demo.root, nobody)
    hand_over(demo.folder / "run", nobody)
    # A socket's path is short.
    runtime = Path(tempfile.mkdtemp(prefix="yl-", dir="/dev/shm"))
    home, units = demo.folder / "home", demo.folder / "units"
    own = home / ".config" / "systemd" / "user"
    own.mkdir(parents=True)
    units.mkdir()
    python = shutil.which("python3", path=os.defpath)
    (own / "quaybook.service").write_text(OWN_UNIT.format(root=demo.root, folder=demo.folder, python=python))
    for name, unit in (("own-manager.service", OWN_MANAGER), ("relay.service", RELAY), ("relay.socket", RELAY_SOCKET)):
        (units / name).write_text(unit.format(runtime=runtime, home=home))
    for place in (runtime, home):
        hand_over(place, nobody)
    try:
        with private_systemd(units, demo.folder) as manager:
            manager.run("systemctl", "start", "own-manager.service", "relay.socket")
            text = demo.prepared.file.read_text()
            start = text.index("[[services]]")
            service = (
                '[[services]]\nname = "web"\nkind = "unit"\nunit = "quaybook.service"\nuser = "nobody"\n'
                f'systemctl = ["env", "XDG_RUNTIME_DIR={runtime}/outside", "systemctl"]\nlog = "run/web.log"\n'
            )
            demo.prepared.file.write_text(text[:start] + service + text[text.index("ready = ", start) :])
            services_of(demo.site())[0].start()
            yield demo, manager
    finally:
        demo.prepared.file.write_text(_without_services(demo))
        shutil.rmtree(runtime)


@pytest.fixture
def unit_demo(make_demo: MakeDemo, tmp_path: Path) -> Iterator[tuple[Demo, Manager]]:
    """A demonstration as `yl demo --shape environment --unit` makes it, in a systemd of the test's own."""
    need_systemd()
    units = tmp_path / "units"
    units.mkdir()
    with private_systemd(units, tmp_path) as manager:
        # What is written into the folder from now on is seen there at once.
        manager.run("cp", "-a", "/run/units/.", str(units))
        manager.run("mount", "--bind", str(units), "/etc/systemd/system")
        place = Place(units=UnitPlace(units, (*manager.inside, "systemctl")))
        demo = make_demo(shape="environment", place=place)
        manager.unit = f"quaybook-{demo.prepared.port}.service"
        yield demo, manager
        demo.prepared.file.write_text(_without_services(demo))  # the fixture that made the site stops its services


def _without_services(demo: Demo) -> str:
    text = demo.prepared.file.read_text()
    start = text.index("[[services]]")
    return text[:start] + text[text.index("[maintenance]", start) :]


def test_a_unit_goes_up_and_back_with_its_site(unit_demo: tuple[Demo, Manager]) -> None:
    demo, manager = unit_demo
    before = picture_of(demo.site())
    assert manager.says("ActiveState") == "active"
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer
    assert manager.says("ActiveState") == "active"
    assert "releases/4.0" in os.readlink(demo.root / "current")
    assert "schema is at 40" in (demo.folder / "run" / "web.log").read_text()
    assert SECRET not in answer.out + answer.err
    assert demo.yl("descend", "--yes").code == 0
    assert manager.says("ActiveState") == "active"
    assert picture_of(demo.site()) == before


def test_a_unit_that_does_not_start_takes_the_site_back_and_names_where_to_look(
    unit_demo: tuple[Demo, Manager],
) -> None:
    demo, manager = unit_demo
    before = picture_of(demo.site())
    broken = "rm {release}/quaybook/application.py"
    text = f'[[commands]]\nname = "break it"\nat = "before-start"\nrun = ["/bin/sh", "-c", "{broken}"]\n'
    text += 'writes = ["releases"]\n\n[maintenance]'
    demo.edit("[maintenance]", text)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 1
    assert "web.log" in answer.err
    assert "quaybook.application" in answer.err
    assert manager.says("ActiveState") == "active"
    assert picture_of(demo.site()) == before


def test_unit_files_that_changed_are_read_anew_before_the_start(unit_demo: tuple[Demo, Manager]) -> None:
    demo, manager = unit_demo
    place = f"/etc/systemd/system/{manager.unit}.d"
    line = f"mkdir -p {place} && printf '[Service]\\nEnvironment=HARBOUR_LIGHT=green\\n' > {place}/light.conf"
    words = ", ".join(f'"{word}"' for word in (*manager.inside, "/bin/sh", "-c"))
    text = f'[[commands]]\nname = "light"\nat = "before-start"\nrun = [{words}, {line!r}]\n\n[maintenance]'
    demo.edit("[maintenance]", text)
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert manager.says("NeedDaemonReload") == "no"
    assert "HARBOUR_LIGHT=green" in manager.says("Environment")


@pytest.mark.parametrize(("unit", "said"), [("nowhere.service", "systemd has no unit nowhere.service (not-found)")])
def test_a_unit_that_is_not_there_stops_the_check(unit_demo: tuple[Demo, Manager], unit: str, said: str) -> None:
    demo, manager = unit_demo
    demo.edit(f'unit = "{manager.unit}"', f'unit = "{unit}"')
    answer = demo.yl("check")
    assert answer.code == 1
    assert said in " ".join(answer.out.split())


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('systemctl = ["/bin/false"]', "systemctl show quaybook.service ended with 1"),
        ('user = "harbour-pilot"', "its account harbour-pilot is not known here"),
    ],
)
def test_a_manager_that_cannot_be_asked_is_told_and_nothing_hangs(idle: Demo, more: str, told: str) -> None:
    text = idle.prepared.file.read_text()
    start = text.index("[[services]]")
    service = f'[[services]]\nname = "web"\nkind = "unit"\nunit = "quaybook.service"\n{more}\n\n'
    idle.prepared.file.write_text(text[:start] + service + text[text.index("[maintenance]", start) :])
    answer = idle.yl("check")
    assert answer.code == 1
    assert told in " ".join(answer.out.split())
    idle.prepared.file.write_text(_without_services(idle))


def test_a_unit_of_an_account_goes_up_and_back_with_its_site(own_unit_demo: tuple[Demo, Manager]) -> None:
    """Its manager answers nobody but the account: root asks it with the account's rights."""
    demo, manager = own_unit_demo
    before = picture_of(demo.site())
    (service,) = services_of(demo.site())
    assert service.state() is ServiceState.RUNNING
    found = [one for one in demo.json("check")["findings"] if one["check"] == "services"]
    assert [(one["level"], one["saw"]) for one in found] == [("ok", "web is running")]
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer
    assert service.state() is ServiceState.RUNNING
    assert "quaybook 4.0 listens" in (demo.folder / "run" / "web.log").read_text()
    assert demo.yl("descend", "--yes").code == 0
    assert service.state() is ServiceState.RUNNING
    assert picture_of(demo.site()) == before
    manager.run("systemctl", "stop", "relay.socket", "relay.service", "own-manager.service")
    answer = demo.yl("check")
    assert answer.code == 1
    assert "loginctl enable-linger nobody" in " ".join(answer.out.split())


def test_units_of_an_account_are_found_with_whose_they_are(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    home = idle.folder.parent
    own = home / ".config" / "systemd" / "user"
    own.mkdir(parents=True)
    (own / "quaybook.service").write_text("[Service]\nExecStart=/usr/bin/python3 %h/harbour/quaybook/server.py\n")
    monkeypatch.setattr(units, "account_units", lambda: [AccountUnits(own, "harbour", str(home))])
    found = discover(idle.root)
    assert [(one.name, one.manager) for one in found.units] == [("quaybook.service", "harbour")]
    assert 'unit = "quaybook.service"\nuser = "harbour"' in site_file_text(found, beside=idle.folder)[0]


def test_what_a_unit_is_started_with_its_manager_tells(unit_demo: tuple[Demo, Manager]) -> None:
    demo, _ = unit_demo
    (service,) = services_of(demo.site())
    _, words = service.started_with()
    assert Path(words[0]).name.startswith("python")
    assert words[-1].endswith("current/server.py")


def test_the_unit_of_a_demonstration_is_backed_up_with_it_and_goes_with_it(unit_demo: tuple[Demo, Manager]) -> None:
    demo, manager = unit_demo
    file = demo.folder.parent / "units" / manager.unit
    assert str(file) in str(demo.json("survey", "--detail")) + demo.prepared.file.read_text()
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    file.write_text(file.read_text().replace("a demonstration", "something else"))
    told = demo.yl("verify", COLUMNS="300")
    assert f"outside root, {file}: has another content" in told.out
    assert demo.yl("descend", "--yes").code == 0
    assert "Description=Quaybook, a demonstration" in file.read_text()
    manager.run("systemctl", "stop", manager.unit)
    remove_unit(demo.folder)
    assert not file.exists()
    assert "not-found" in manager.says("LoadState")


def test_where_systemd_does_not_run_a_demonstration_with_a_unit_is_refused(tmp_path: Path) -> None:
    if Path("/run/systemd/system").exists():
        pytest.skip("systemd runs this machine")
    answer = run_program("demo", tmp_path / "demo", "--shape", "environment", "--unit", folder=tmp_path)
    assert answer.code == 2
    assert "a unit needs a machine that systemd runs" in answer.err
    assert not (tmp_path / "demo").exists()
    assert "--unit goes with --shape" in run_program("demo", tmp_path / "demo", "--unit", folder=tmp_path).err
