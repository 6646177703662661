"""Lets a demonstration site's service be a unit of systemd, which is gone with the site, or with the next start."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.processes import run_command

NOTE_NAME = ".quaybook-unit"
_WITHIN_S = 30.0

_UNIT = """\
# Of the demonstration in {folder}; `yl demo --remove` takes it away.
[Unit]
Description=Quaybook, a demonstration
[Service]
Type=exec
ExecStart={root}/current/env/bin/python -B {root}/current/server.py
Environment=QUAYBOOK_HOME={root} QUAYBOOK_SETTINGS=etc/quaybook.ini QUAYBOOK_KEY=etc/secret.key
EnvironmentFile={folder}/quaybook.env
StandardOutput=append:{folder}/run/web.log
StandardError=append:{folder}/run/web.log
"""
_SERVICE = """\
[[services]]
name = "web"
kind = "unit"
unit = "{name}"
{systemctl}ports = [{port}]
log = "run/web.log"
ready = {{ url = "http://127.0.0.1:{port}/about.json", within_s = 20 }}
"""


@dataclass(frozen=True, slots=True)
class UnitPlace:
    """Where unit files go that are forgotten at the next start of the machine, and how systemd is asked."""

    folder: Path = Path("/run/systemd/system")
    systemctl: tuple[str, ...] = ("systemctl",)


def place_of_units() -> UnitPlace:
    """This machine's; raises BadInput where systemd does not run here, or is not ours to tell."""
    if os.geteuid() != 0 or not Path("/run/systemd/system").is_dir():
        text = "a unit needs a machine that systemd runs, and root's rights"
        raise BadInput(Problem("no-systemd", text, "leave --unit away: the service is a process then"))
    return UnitPlace()


def install_unit(folder: Path, port: int, place: UnitPlace) -> tuple[str, Path]:
    """Write the unit of the site in `folder`; returns what the site file says of the service, and the unit's file."""
    file = place.folder / f"quaybook-{port}.service"
    (folder / NOTE_NAME).write_text(json.dumps({"file": str(file), "systemctl": list(place.systemctl)}))
    file.write_text(_UNIT.format(folder=folder, root=folder / "quaybook"))
    _tell(place.systemctl, "daemon-reload")
    words = json.dumps(list(place.systemctl))
    systemctl = f"systemctl = {words}\n" if place != UnitPlace() else ""
    return _SERVICE.format(name=file.name, port=port, systemctl=systemctl), file


def remove_unit(folder: Path) -> None:
    """Take the unit of a demonstration site away, where it has one; it has been stopped."""
    note = folder / NOTE_NAME
    if note.exists():
        noted = json.loads(note.read_text())
        Path(noted["file"]).unlink(missing_ok=True)
        _tell(tuple(noted["systemctl"]), "daemon-reload")


def _tell(systemctl: tuple[str, ...], word: str) -> None:
    done = run_command([*systemctl, word], folder=Path("/"), deadline_s=_WITHIN_S)
    if done.status != 0:
        said = (done.output.strip().splitlines() or ["it printed nothing"])[-1]
        raise AnswerNo(Problem("systemd-refuses", f"systemctl {word} failed: {said}", "see: systemctl status"))
