"""Units of a real systemd, which is process 1 of a namespace of the test's own."""

from __future__ import annotations

import os
import signal
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.conftest import Demo, MakeDemo, need
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.demo.shapes import SECRET

UNIT = """\
[Unit]
Description=Quaybook
[Service]
Type=exec
ExecStart={root}/current/env/bin/python -B {root}/current/server.py
Environment=QUAYBOOK_HOME={root} QUAYBOOK_SETTINGS=etc/quaybook.ini QUAYBOOK_KEY=etc/secret.key
EnvironmentFile={folder}/quaybook.env
StandardOutput=append:{folder}/run/web.log
StandardError=append:{folder}/run/web.log
"""


@dataclass
class Manager:
    """A private systemd with one site's unit."""

    process: subprocess.Popen[str]
    pid: str

    @property
    def inside(self) -> list[str]:
        return ["nsenter", "-t", self.pid, "-m", "-p", "-u", "-i"]

    def run(self, *words: str) -> str:
        done = subprocess.run(
            [*self.inside, *words], capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=60, check=False
        )
        return done.stdout + done.stderr

    def says(self, name: str) -> str:
        return self.run("systemctl", "show", "quaybook.service", f"--property={name}", "--value").strip()


@pytest.fixture
def unit_demo(make_demo: MakeDemo) -> Iterator[tuple[Demo, Manager]]:
    missing = [] if Path("/lib/systemd/systemd").exists() and os.geteuid() == 0 else ["systemd, as root"]
    need(missing, "a test of units")
    demo = make_demo(shape="environment", start=False)
    units = demo.folder / "units"
    units.mkdir()
    (units / "quaybook.service").write_text(UNIT.format(root=demo.root, folder=demo.folder))
    starter = Path(__file__).parent / "private-systemd"
    process = subprocess.Popen(
        [str(starter), str(units), str(demo.folder)], stdout=subprocess.PIPE, text=True, start_new_session=True
    )
    try:
        assert process.stdout is not None
        pid = process.stdout.readline().split()[-1]
        manager = Manager(process, pid)
        text = demo.prepared.file.read_text()
        start = text.index("[[services]]")
        end = text.index("ready = ", start)
        words = ", ".join(f'"{word}"' for word in (*manager.inside, "systemctl"))
        port = demo.prepared.port
        service = (
            '[[services]]\nname = "web"\nkind = "unit"\nunit = "quaybook.service"\n'
            f'systemctl = [{words}]\nports = [{port}]\nlog = "run/web.log"\n'
        )
        demo.prepared.file.write_text(text[:start] + service + text[end:])
        manager.run("systemctl", "start", "quaybook.service")
        yield demo, manager
    finally:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        assert process.stdout is not None
        process.stdout.close()
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
    place = "/etc/systemd/system/quaybook.service.d"
    line = f"mkdir -p {place} && printf '[Service]\\nEnvironment=HARBOUR_LIGHT=green\\n' > {place}/light.conf"
    words = ", ".join(f'"{word}"' for word in (*manager.inside, "/bin/sh", "-c"))
    text = f'[[commands]]\nname = "light"\nat = "before-start"\nrun = [{words}, {line!r}]\n\n[maintenance]'
    demo.edit("[maintenance]", text)
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert manager.says("NeedDaemonReload") == "no"
    assert "HARBOUR_LIGHT=green" in manager.says("Environment")


@pytest.mark.parametrize(("unit", "said"), [("nowhere.service", "systemd has no unit nowhere.service (not-found)")])
def test_a_unit_that_is_not_there_stops_the_check(unit_demo: tuple[Demo, Manager], unit: str, said: str) -> None:
    demo, _ = unit_demo
    demo.edit("quaybook.service", unit)
    answer = demo.yl("check")
    assert answer.code == 1
    assert said in " ".join(answer.out.split())


def test_a_manager_that_does_not_answer_is_told_and_nothing_hangs(idle: Demo) -> None:
    text = idle.prepared.file.read_text()
    start = text.index("[[services]]")
    service = '[[services]]\nname = "web"\nkind = "unit"\nunit = "quaybook.service"\nsystemctl = ["/bin/false"]\n\n'
    idle.prepared.file.write_text(text[:start] + service + text[text.index("[maintenance]", start) :])
    answer = idle.yl("check")
    assert answer.code == 1
    assert "systemctl show quaybook.service ended with 1" in " ".join(answer.out.split())
    idle.prepared.file.write_text(_without_services(idle))
