"""A service that is started, stopped and asked by commands of the site."""

from __future__ import annotations

import re
import shutil
import time
from collections.abc import Callable
from pathlib import Path

import psutil

from yellow_ladder import nolinks
from yellow_ladder.files.reading import read_regular
from yellow_ladder.processes import Completed
from yellow_ladder.services.looking import about_process, holders_below
from yellow_ladder.services.port import About, OnWait, ServiceState, nobody_waits, not_ready, not_stopped
from yellow_ladder.services.readiness import Watch, alarm_of, last_words, readiness_of, wait_until_ready
from yellow_ladder.site.service_records import CommandsRecord
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import run_started, started
from yellow_ladder.words import time_in_words

_START_WITHIN_S = 120.0
_STATUS_WITHIN_S = 15.0
UP_WITHIN_S = 15.0
"""How long what a start command leaves behind may take until status says that it runs."""
_PID_BYTES = 64
_WRITTEN_WITHIN_S = 2.0  # clocks of files and of processes are not the same


class CommandService:
    """While the service runs, `status` prints what fits `running`, or ends with 0 where nothing of that is said.

    Without `status`, it runs while the process is there that its pid file names.
    """

    def __init__(self, site: Site, spec: CommandsRecord) -> None:
        """Take commands from the site; nothing is run."""
        self._site, self._spec = site, spec

    @property
    def name(self) -> str:
        return self._spec.name

    def _run(self, argv: list[str], deadline_s: float) -> Completed:
        site = self._site
        folder = self._folder()
        more = {name: site.filled(value) for name, value in self._spec.environment.items()}
        filled = [site.filled(word) for word in argv]
        how = started(site, self._spec.as_user, filled, folder, folder_counts=bool(self._spec.folder), more=more)
        return run_started(how.in_groups(self._spec.groups), filled, folder, deadline_s, self._spec.limits.of_kernel())

    def state(self) -> ServiceState:
        if not self._spec.status:
            return ServiceState.RUNNING if self._is_named_one_there() else ServiceState.STOPPED
        done = self._run(self._spec.status, _STATUS_WITHIN_S)
        says = re.search(self._spec.running, done.output) is not None if self._spec.running else done.status == 0
        return ServiceState.RUNNING if says else ServiceState.STOPPED

    def start(self, look_on: OnWait = nobody_waits) -> None:
        was_running = self.state() is ServiceState.RUNNING
        readiness = readiness_of(self._site, self._spec, was_running=was_running)
        alarm = alarm_of(self._site, self._spec, was_running=was_running)
        if not was_running:
            done = self._run(self._spec.start, _START_WITHIN_S)
            if done.status != 0:
                raise not_ready(self.name, f"start ended with {done.status}: {_last_line(done)}", "run it by hand")
        within_s = self._spec.ready.within_s if self._spec.ready else 0.0
        log = str(self._site.resolve(self._site.filled(self._spec.log))) if self._spec.log else ""
        is_alive = self._comes_up()
        wait_until_ready(self.name, readiness, within_s, is_alive, Watch(log, alarm, look_on))
        while self.state() is not ServiceState.RUNNING:
            if not is_alive():
                who = "status does not say" if self._spec.status else "its pid file does not tell"
                why = f"start ended with 0, and {UP_WITHIN_S:g} s later {who} that it runs"
                raise not_ready(self.name, why + last_words(log), "start it by hand and see what it says")
            time.sleep(0.1)

    def _comes_up(self) -> Callable[[], bool]:
        """Whether it lives. A command may come back before what it leaves behind has written its pid file: until status
        has said once that it runs, it is given time.
        """
        end, was_up = time.monotonic() + UP_WITHIN_S, False

        def is_alive() -> bool:
            nonlocal was_up
            is_up = self.state() is ServiceState.RUNNING
            was_up = was_up or is_up
            return is_up or (not was_up and time.monotonic() < end)

        return is_alive

    def stop(self) -> None:
        """The stop command's word is not enough: status is asked until it says no."""
        if self.state() is ServiceState.STOPPED:
            return
        done = self._run(self._spec.stop, self._spec.stop_within_s + _STATUS_WITHIN_S)
        end = time.monotonic() + self._spec.stop_within_s
        while self.state() is ServiceState.RUNNING:
            if time.monotonic() > end:
                who = "status still says" if self._spec.status else "its pid file still tells"
                waited = time_in_words(self._spec.stop_within_s)
                raise not_stopped(self.name, f"stop ended with {done.status}, and after {waited} {who} that it runs")
            time.sleep(0.1)

    def about(self) -> About:
        """Only a pid file that the site file names leads to the process."""
        state = self.state()
        process = self._process() if state is ServiceState.RUNNING else None
        return About(state) if process is None else about_process(process)

    def _process(self) -> psutil.Process | None:
        """The process that its pid file names, where there is one."""
        if not self._spec.pid_file:
            return None
        try:
            text = read_regular(self._site.resolve(self._site.filled(self._spec.pid_file)), _PID_BYTES)
            return psutil.Process(int(text.decode().strip()))
        except (OSError, ValueError, psutil.NoSuchProcess):
            return None

    def _is_named_one_there(self) -> bool:
        """Whether the process of the pid file is there and is the service's: no later one with the same number."""
        process = self._process()
        if process is None:
            return False
        path = self._site.resolve(self._site.filled(self._spec.pid_file))
        try:
            is_older = process.create_time() <= nolinks.status_of(path).st_mtime + _WRITTEN_WITHIN_S
            is_its = not self._spec.as_user or process.username() == self._spec.as_user
            return is_older and is_its and process.status() != psutil.STATUS_ZOMBIE
        except (OSError, psutil.Error):
            return False

    def denied(self) -> str:
        """What speaks against a status command that says that the service is stopped; nothing where nothing does."""
        process = self._process() if self._spec.status else None
        if process is None or process.pid not in {one.pid for one in holders_below(self._site.root, set())}:
            return ""
        done = self._run(self._spec.status, _STATUS_WITHIN_S)
        said = f"its status command ended with {done.status} ({_last_line(done)})"
        return f"{said}, and process {process.pid} of its pid file is at work"

    def started_with(self) -> tuple[Path, list[str]]:
        words = [*self._spec.start, *self._spec.stop, *self._spec.status]
        return self._folder(), [self._site.filled(word) for word in words]

    def _folder(self) -> Path:
        return self._site.resolve(self._site.filled(self._spec.folder)) if self._spec.folder else self._site.file.parent

    def trouble(self) -> str:
        for argv in filter(None, (self._spec.start, self._spec.stop, self._spec.status)):
            program = self._site.filled(argv[0])
            if shutil.which(program) is None:
                return f"its program {program} is missing or not executable"
        return ""


def _last_line(done: Completed) -> str:
    lines = done.output.strip().splitlines()
    return lines[-1] if lines else "no output"
