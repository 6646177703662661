"""A service that is a unit of systemd, the machine's or an account's, asked and told through its own program."""

from __future__ import annotations

import os
import re
import shutil
import time
from pathlib import Path

import psutil

from yellow_ladder.accounts import Account, named_account
from yellow_ladder.errors import AnswerNo, BadInput
from yellow_ladder.masking import masked_line
from yellow_ladder.processes import Completed, Streams, run_command
from yellow_ladder.services.looking import about_process, name_of
from yellow_ladder.services.port import About, OnWait, ServiceState, nobody_waits, not_ready, not_stopped
from yellow_ladder.services.readiness import Watch, alarm_of, readiness_of, wait_until_ready
from yellow_ladder.site.service_records import UnitRecord
from yellow_ladder.site.site import Site
from yellow_ladder.words import some_of

_ASK_WITHIN_S = 15.0
_PAUSE_S = 0.1
# { path=/srv/quaybook/bin/serve ; argv[]=/srv/quaybook/bin/serve --port 8091 ; ignore_errors=no ; … }
_ARGUMENTS = re.compile(r".*?argv\[\]=(.*?) ;[^}]*\}")
_ASKED = (
    "ExecStart",
    "WorkingDirectory",
    "LoadState",
    "ActiveState",
    "SubState",
    "MainPID",
    "ControlGroup",
    "NeedDaemonReload",
    "Result",
    "FragmentPath",
)
# A unit that is being started, stopped or restarted is at work as well.
_AT_WORK = ("active", "activating", "reloading", "deactivating", "refreshing")
_CGROUPS = Path("/sys/fs/cgroup")


class UnitService:
    """Stopped is when the manager says so and no process is left in the unit's control group.

    Unit files that have changed on disk are read anew before the unit is started.
    """

    def __init__(self, site: Site, spec: UnitRecord) -> None:
        """Take names from the site; nothing is run."""
        self._site, self._spec = site, spec

    @property
    def name(self) -> str:
        return self._spec.name

    def _systemctl(self, *words: str, within_s: float = _ASK_WITHIN_S) -> Completed:
        argv = [self._site.filled(word) for word in self._spec.systemctl]
        streams, environment = Streams(), dict[str, str]()
        if self._spec.user:
            account = self._account(self._spec.user)
            # It answers the account alone, root too is refused, at a socket in the account's own folder.
            streams = Streams(account=account if os.geteuid() == 0 else None)
            environment = {"XDG_RUNTIME_DIR": f"/run/user/{account.uid}"}
            argv += ["--user"]
        argv += ["--no-pager", "--no-ask-password", *words]
        return run_command(argv, folder=Path("/"), deadline_s=within_s, environment=environment, streams=streams)

    def _account(self, name: str) -> Account:
        try:
            return named_account(name)
        except BadInput as unknown:
            raise not_ready(self.name, unknown.problems[0].message, "correct `user`") from unknown

    def _facts(self) -> dict[str, str]:
        """What the manager knows of the unit; raises AnswerNo where it does not answer."""
        done = self._systemctl("show", self._spec.unit, f"--property={','.join(_ASKED)}")
        facts = dict(line.partition("=")[::2] for line in done.output.splitlines() if "=" in line)
        if done.status != 0 or "ActiveState" not in facts:
            said = masked_line((done.output.strip().splitlines() or ["it printed nothing"])[-1])[:200]
            user = self._spec.user
            remedy = "see that systemd runs here, and whether this account may ask it"
            if user:
                remedy = f"see that {user} has a service manager that outlives a session: loginctl enable-linger {user}"
            raise not_ready(self.name, f"systemctl show {self._spec.unit} ended with {done.status}: {said}", remedy)
        return facts

    def state(self) -> ServiceState:
        facts = self._facts()
        running = facts["ActiveState"] in _AT_WORK or self._left(facts)
        return ServiceState.RUNNING if running else ServiceState.STOPPED

    def _left(self, facts: dict[str, str]) -> list[int]:
        """Processes in the unit's control group, as far as it can be seen from here."""
        group = facts.get("ControlGroup", "").strip("/")
        if not group:
            return []
        found: list[int] = []
        for place in (_CGROUPS / group, _CGROUPS / "systemd" / group):
            for file in place.rglob("cgroup.procs") if place.is_dir() else ():
                try:
                    found += [int(line) for line in file.read_text().split()]
                except (OSError, ValueError):
                    continue
        return sorted(set(found))

    def start(self, look_on: OnWait = nobody_waits) -> None:
        facts = self._facts()
        if facts.get("NeedDaemonReload") == "yes":
            self._systemctl("daemon-reload", within_s=self._spec.start_within_s)
        was_running = facts["ActiveState"] == "active"
        readiness = readiness_of(self._site, self._spec, was_running=was_running)
        alarm = alarm_of(self._site, self._spec, was_running=was_running)
        if not was_running:
            # One that failed too often before is not started again until that is forgotten.
            self._systemctl("reset-failed", self._spec.unit)
            done = self._systemctl("start", self._spec.unit, within_s=self._spec.start_within_s)
            if done.status != 0:
                raise not_ready(self.name, f"systemctl start ended with {done.status}{self._why()}", self._remedy())
        within_s = self._spec.ready.within_s if self._spec.ready else 0.0
        log = str(self._site.resolve(self._site.filled(self._spec.log))) if self._spec.log else ""
        wait_until_ready(self.name, readiness, within_s, self._is_alive, Watch(log, alarm, look_on))
        if not self._is_alive():
            raise not_ready(self.name, f"it ended{self._why()}", self._remedy())

    def _is_alive(self) -> bool:
        return self._facts()["ActiveState"] in ("active", "activating", "reloading", "refreshing")

    def _why(self) -> str:
        facts = self._facts()
        return f": it is {facts['ActiveState']} ({facts.get('SubState', '')}, {facts.get('Result', '')})"

    def _remedy(self) -> str:
        unit, user = self._spec.unit, self._spec.user
        if user:
            return f"see, as {user}: systemctl --user status {unit}; journalctl --user -u {unit}"
        return f"see: systemctl status {unit}; journalctl -u {unit}"

    def stop(self) -> None:
        if self.state() is ServiceState.STOPPED:
            return
        try:
            done = self._systemctl("stop", self._spec.unit, within_s=self._spec.stop_within_s + _ASK_WITHIN_S)
            how = f"systemctl stop ended with {done.status}"
        except AnswerNo as late:
            how = late.problems[0].message
        end = time.monotonic() + self._spec.stop_within_s
        while self.state() is ServiceState.RUNNING:
            if time.monotonic() > end:
                left = some_of(map(name_of, self._left(self._facts())), 3)
                raise not_stopped(self.name, f"{how}{self._why()}{f'; left in its group: {left}' if left else ''}")
            time.sleep(_PAUSE_S)

    def started_with(self) -> tuple[Path, list[str]]:
        try:
            facts = self._facts()
        except AnswerNo:  # told by the checks
            return self._site.root, []
        return Path(facts.get("WorkingDirectory") or "/"), _ARGUMENTS.sub(r"\1", facts.get("ExecStart", "")).split()

    def about(self) -> About:
        facts = self._facts()
        pid = int(facts.get("MainPID") or 0)
        state = self.state()
        if state is not ServiceState.RUNNING or not pid:
            return About(state)
        try:
            # The manager may live in a namespace of its own, where the number is another process's.
            is_its_own = facts.get("ControlGroup", "") in Path(f"/proc/{pid}/cgroup").read_text()
            return about_process(psutil.Process(pid)) if is_its_own else About(state)
        except (psutil.NoSuchProcess, OSError):
            return About(state)

    def trouble(self) -> str:
        program = self._site.filled(self._spec.systemctl[0])
        if shutil.which(program) is None:
            return f"its program {program} is missing or not executable"
        try:
            loaded = self._facts().get("LoadState", "")
        except AnswerNo as fault:
            return f"{fault.problems[0].message}; {fault.problems[0].remedy}"
        if loaded != "loaded":
            return f"systemd has no unit {self._spec.unit} ({loaded})"
        return ""
