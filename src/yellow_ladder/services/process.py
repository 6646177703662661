"""A service that is one supervised process with a pid file."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import signal
import stat
import subprocess
import time
from pathlib import Path
from typing import IO

import psutil

from yellow_ladder import nolinks, whose
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.processes import limited
from yellow_ladder.services.looking import about_process, works_for_another
from yellow_ladder.services.mentions import with_mark
from yellow_ladder.services.port import MARK, About, OnWait, ServiceState, nobody_waits, not_ready, not_stopped
from yellow_ladder.services.readiness import Watch, alarm_of, last_words, readiness_of, wait_until_ready
from yellow_ladder.services.variables import left_out
from yellow_ladder.site.service_records import ProcessRecord
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import Started, started

# The pid stands in its file before the program runs: a kill of this tool at any instant leaves either no process
# or one that the file names. The file comes opened, as standard input: its folder may be another account's, and a name
# in it a link by then.
_LAUNCH = 'umask 022; echo $$ >&0 || exit; exec </dev/null; exec "$@"'
# Start times are counted in ticks since boot and file times by another clock; they differ by a moment.
_CLOCK_SLACK_S = 2.0
# After a kill only the kernel is asked, which is quick unless a disk hangs.
_HARD_STOP_S = 5.0
# The shell writes the file before it becomes the program: on a busy machine that takes a while.
_PID_WITHIN_S = 5.0
_PID_BYTES = 64


class ProcessService:
    """Starts the program in a session of its own, so that it outlives this tool."""

    def __init__(self, site: Site, spec: ProcessRecord) -> None:
        """Take paths from the site; nothing is started."""
        self._site, self._spec = site, spec
        self._pid_file = site.resolve(site.filled(spec.pid_file))
        self._log = site.resolve(site.filled(spec.log)) if spec.log else None

    @property
    def name(self) -> str:
        return self._spec.name

    def process(self) -> psutil.Process | None:
        """The running process that the pid file names; a pid that was given to another program since is not it, nor the
        process of a site that this one is a copy of.

        Raises AnswerNo where the file is there and cannot be read, which is no sign that the service has stopped; and
        where it names a process that is not the service's: whoever may write the file could have any process killed.
        """
        try:
            written_at = nolinks.status_of(nolinks.trusted(self._pid_file)).st_mtime
            process = psutil.Process(int(read_regular(self._pid_file, _PID_BYTES).decode().strip()))
            is_ours = process.create_time() <= written_at + _CLOCK_SLACK_S
            if not is_ours or process.status() == psutil.STATUS_ZOMBIE or works_for_another(process, self._site):
                return None
            self._refuse_another(process)
            return process
        except (FileNotFoundError, ValueError, psutil.NoSuchProcess):
            return None
        except OSError as fault:
            text = f"the pid file {self._pid_file} of `{self.name}` cannot be read: {fault.strerror}"
            remedy = "see who put it there, stop the service by hand, and remove it"
            raise AnswerNo(Problem("pid-file-unreadable", text, remedy, str(self._pid_file))) from fault

    def _refuse_another(self, process: psutil.Process) -> None:
        """Raise AnswerNo for a process that the service cannot be, unless only root could have written its number."""
        if whose.is_ours_alone(self._pid_file):
            return
        run = [self._site.filled(word) for word in self._spec.run]
        account = self._started(run).account
        wanted = account.uid if account else os.geteuid()
        with contextlib.suppress(psutil.NoSuchProcess):
            words = process.cmdline()
            # An interpreter stands before a script, and before both the shell while it starts them.
            last = words[-len(run) :]
            is_its_program = last[1:] == run[1:] and bool(last) and Path(last[0]).name == Path(run[0]).name
            if is_its_program or process.uids().real == wanted != 0:
                return
            named = f"process {process.pid} ({' '.join(words)[:80]})"
            text = f"the pid file {self._pid_file} of `{self.name}` names {named}, which is not the service"
            remedy = "see who wrote that file, stop the service by hand, and remove it"
            raise AnswerNo(Problem("pid-file-lies", text, remedy, str(self._pid_file)))

    def state(self) -> ServiceState:
        return ServiceState.RUNNING if self.process() else ServiceState.STOPPED

    def start(self, look_on: OnWait = nobody_waits) -> None:
        was_running = self.process() is not None
        readiness = readiness_of(self._site, self._spec, was_running=was_running)
        alarm = alarm_of(self._site, self._spec, was_running=was_running)
        child = None if was_running else self._launch()
        end = time.monotonic() + _PID_WITHIN_S
        while child is not None and child.poll() is None and not self.process() and time.monotonic() < end:
            time.sleep(0.005)

        def is_alive() -> bool:
            if child is not None:
                child.poll()
            return self.process() is not None or (child is not None and child.returncode is None)

        within_s = self._spec.ready.within_s if self._spec.ready else 0.0
        wait_until_ready(self.name, readiness, within_s, is_alive, Watch(str(self._log or ""), alarm, look_on))
        if not is_alive():
            words = last_words(str(self._log or ""))
            remedy = f"read its log {self._log}" if self._log else "start it by hand and see what it says"
            raise not_ready(self.name, f"its process ended{words}", remedy)

    def _launch(self) -> subprocess.Popen[bytes]:
        run = [self._site.filled(word) for word in self._spec.run]
        how = self._started(run)
        account = how.account
        with contextlib.ExitStack() as stack:
            try:
                output = stack.enter_context(self._opened_log())
                pid = stack.enter_context(self._opened_pid_file())
                limiting = stack.enter_context(limited(self._spec.limits.of_kernel()))
                return _Launched(
                    ["/bin/sh", "-c", _LAUNCH, "sh", *limiting, *run],
                    # Before the shell runs: what the environment has loaded may be the account's own.
                    user=account.uid if account else None,
                    group=account.gid if account else None,
                    extra_groups=account.groups() if account else None,
                    cwd=self._folder(),
                    stdin=pid,
                    stdout=output,
                    stderr=output,
                    env=how.environment,
                    start_new_session=True,
                )
            except OSError as fault:
                where = fault.filename or run[0]
                raise not_ready(self.name, f"{where}: {fault.strerror}", "correct what the site file says") from fault

    @property
    def _mark(self) -> str:
        return f"{self.name}@{self._site.root}"

    def _strays(self) -> list[psutil.Process]:
        """What was started by the service and left its family: a daemon, a child whose parent has ended."""
        return with_mark(self._mark)

    def _opened_log(self) -> IO[bytes]:
        if self._log is None:
            return Path(os.devnull).open("ab")
        descriptor = nolinks.open_file(nolinks.trusted(self._log), os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise OSError(errno.EINVAL, "it is not a regular file", str(self._log))
        return os.fdopen(descriptor, "ab")

    def _opened_pid_file(self) -> IO[bytes]:
        """A fresh one: what stood there may belong to another account, which could write to it later."""
        place = nolinks.trusted(self._pid_file)
        nolinks.make_folder(place.parent, 0o755, exist_ok=True)  # below /run it is gone after each start of the machine
        nolinks.remove_file(place, missing_ok=True)
        return os.fdopen(nolinks.open_file(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644), "wb", buffering=0)

    def _folder(self) -> Path:
        return self._site.resolve(self._site.filled(self._spec.folder)) if self._spec.folder else self._site.root

    def _started(self, run: list[str]) -> Started:
        more = {MARK: self._mark, **{name: self._site.filled(text) for name, text in self._spec.environment.items()}}
        spec, folder = self._spec, self._folder()
        return started(self._site, spec.as_user, run, folder, folder_counts=True, more=more).in_groups(spec.groups)

    def stop(self) -> None:
        """Children are stopped with their parent: stopped means that nothing of it is left."""
        process = self.process()
        family = self._strays()
        if process is not None:
            with contextlib.suppress(psutil.NoSuchProcess):
                family += [one for one in (process, *process.children(recursive=True)) if one not in family]
        if family:
            _, left = _signal_and_wait(family, signal.SIGTERM, self._spec.stop_within_s)
            _, left = _signal_and_wait(left, signal.SIGKILL, _HARD_STOP_S) if left else ([], [])
            if left:
                raise not_stopped(self.name, f"process {left[0].pid} is still there")
        nolinks.remove_file(self._pid_file, missing_ok=True)

    def about(self) -> About:
        process = self.process()
        return about_process(process) if process else About(ServiceState.STOPPED)

    def started_with(self) -> tuple[Path, list[str]]:
        return self._folder(), [self._site.filled(word) for word in self._spec.run]

    def left_out(self) -> dict[str, str]:
        """Variables that its process has now and would not have once it is started from here, with their values."""
        return left_out(self.process(), self._started([self._site.filled(word) for word in self._spec.run]).environment)

    def trouble(self) -> str:
        run = [self._site.filled(word) for word in self._spec.run]
        folder = self._folder()
        if not shutil.which(run[0] if "/" not in run[0] else str(folder / run[0])):
            return f"its program {run[0]} is missing or not executable"
        if not folder.is_dir():
            return f"its folder {folder} is not there"
        to_be_made = self._pid_file if not self._pid_file.parent.exists() else None
        for file in filter(None, (to_be_made.parent if to_be_made else self._pid_file, self._log)):
            if not file.parent.is_dir():
                return f"there is no folder {file.parent} for {file.name}"
            if not os.access(file.parent, os.W_OK):
                return f"{file.parent} cannot be written"
        try:
            self._started(run)
            with limited(self._spec.limits.of_kernel()):
                pass
        except LadderError as unknown:
            return unknown.problems[0].message
        process = self.process()
        if process is not None and os.geteuid() not in (0, process.uids().real):
            return f"its process {process.pid} belongs to another account"
        return ""


class _Launched(subprocess.Popen[bytes]):
    """A child that is meant to outlive this program: leaving it behind is no mistake to warn of."""

    def __del__(self) -> None:
        """Say nothing."""
        self.returncode = self.returncode if self.returncode is not None else 0
        super().__del__()


def _signal_and_wait(
    family: list[psutil.Process], how: signal.Signals, within_s: float
) -> tuple[list[psutil.Process], list[psutil.Process]]:
    for process in family:
        with contextlib.suppress(psutil.NoSuchProcess):
            process.send_signal(how)
    end = time.monotonic() + within_s
    gone: list[psutil.Process] = []
    left = family
    while left and time.monotonic() < end:
        just_gone, left = psutil.wait_procs(left, timeout=0.05)
        gone += just_gone
        left = [process for process in left if _is_there(process)]
    return gone, left


def _is_there(process: psutil.Process) -> bool:
    try:
        return bool(process.is_running() and process.status() != psutil.STATUS_ZOMBIE)
    except psutil.NoSuchProcess:
        return False
