"""A service that is one supervised process with a pid file."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import signal
import subprocess
import time
from pathlib import Path

import psutil

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.services.looking import about_process
from yellow_ladder.services.port import About, ServiceState, not_ready, not_stopped
from yellow_ladder.services.readiness import readiness_of, wait_until_ready
from yellow_ladder.site.service_records import ProcessRecord
from yellow_ladder.site.site import Site

# The pid stands in its file before the program runs: a kill of this tool at any instant leaves either no process
# or one that the file names.
_LAUNCH = 'umask 022; echo $$ > "$1.new" && mv "$1.new" "$1" && shift && exec "$@"'
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
        """The running process that the pid file names; a pid that was given to another program since is not it.

        Raises AnswerNo where the file is there and cannot be read: that is no sign that the service has stopped.
        """
        try:
            written_at = self._pid_file.stat().st_mtime
            process = psutil.Process(int(read_regular(self._pid_file, _PID_BYTES).decode().strip()))
            is_ours = process.create_time() <= written_at + _CLOCK_SLACK_S
            return process if is_ours and process.status() != psutil.STATUS_ZOMBIE else None
        except (FileNotFoundError, ValueError, psutil.NoSuchProcess):
            return None
        except OSError as fault:
            text = f"the pid file {self._pid_file} of `{self.name}` cannot be read: {fault.strerror}"
            remedy = "see who put it there, stop the service by hand, and remove it"
            raise AnswerNo(Problem("pid-file-unreadable", text, remedy, str(self._pid_file))) from fault

    def state(self) -> ServiceState:
        return ServiceState.RUNNING if self.process() else ServiceState.STOPPED

    def start(self) -> None:
        child = None if self.process() else self._launch()
        end = time.monotonic() + _PID_WITHIN_S
        while child is not None and child.poll() is None and not self.process() and time.monotonic() < end:
            time.sleep(0.005)

        def is_alive() -> bool:
            if child is not None:
                child.poll()
            return self.process() is not None or (child is not None and child.returncode is None)

        wait_until_ready(self.name, readiness_of(self._spec.ready), is_alive, str(self._log or ""))
        if not is_alive():
            raise not_ready(self.name, "its process ended", f"read its log {self._log or ''}")

    def _launch(self) -> subprocess.Popen[bytes]:
        run = [self._site.filled(word) for word in self._spec.run]
        argv = ["/bin/sh", "-c", _LAUNCH, "sh", str(self._pid_file), *self._as_user(), *run]
        environment = {**os.environ, **{k: self._site.filled(v) for k, v in self._spec.environment.items()}}
        with contextlib.ExitStack() as stack:
            output = stack.enter_context((self._log or Path(os.devnull)).open("ab"))
            try:
                return _Launched(
                    argv,
                    cwd=self._folder(),
                    stdin=subprocess.DEVNULL,
                    stdout=output,
                    stderr=output,
                    env=environment,
                    start_new_session=True,
                )
            except OSError as fault:
                raise not_ready(self.name, f"{run[0]}: {fault.strerror}", "correct `run` or `folder`") from fault

    def _folder(self) -> Path:
        return self._site.resolve(self._site.filled(self._spec.folder)) if self._spec.folder else self._site.root

    def _as_user(self) -> list[str]:
        if not self._spec.as_user or os.geteuid() != 0:
            return []
        account = pwd.getpwnam(self._spec.as_user)
        return ["setpriv", f"--reuid={account.pw_uid}", f"--regid={account.pw_gid}", "--init-groups", "--"]

    def stop(self) -> None:
        """Children are stopped with their parent: stopped means that nothing of it is left."""
        process = self.process()
        if process is not None:
            family = [process]
            with contextlib.suppress(psutil.NoSuchProcess):
                family += process.children(recursive=True)
            _, left = _signal_and_wait(family, signal.SIGTERM, self._spec.stop_within_s)
            _, left = _signal_and_wait(left, signal.SIGKILL, _HARD_STOP_S) if left else ([], [])
            if left:
                raise not_stopped(self.name, f"process {left[0].pid} is still there")
        self._pid_file.unlink(missing_ok=True)

    def about(self) -> About:
        process = self.process()
        return about_process(process) if process else About(ServiceState.STOPPED)

    def trouble(self) -> str:
        run = [self._site.filled(word) for word in self._spec.run]
        folder = self._folder()
        if not shutil.which(run[0] if "/" not in run[0] else str(folder / run[0])):
            return f"its program {run[0]} is missing or not executable"
        if not folder.is_dir():
            return f"its folder {folder} is not there"
        for file in filter(None, (self._pid_file, self._log)):
            if not os.access(file.parent, os.W_OK):
                return f"{file.parent} cannot be written"
        if self._spec.as_user and os.geteuid() == 0:
            try:
                pwd.getpwnam(self._spec.as_user)
            except KeyError:
                return f"its account {self._spec.as_user} is not known here"
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
