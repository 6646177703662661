"""The state folder: where everything is kept, and the lock."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from yellow_ladder import whose
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import BadInput, Problem, SiteLocked


@dataclass(frozen=True, slots=True)
class StateFolder:
    """Paths inside the state folder; nothing is made by naming them."""

    path: Path

    @property
    def lock(self) -> Path:
        """Held while anything works on the site."""
        return self.path / "lock"

    @property
    def backups(self) -> Path:
        """Where backups are kept."""
        return self.path / "backups"

    @property
    def climbs(self) -> Path:
        """Where climbs are kept."""
        return self.path / "climbs"

    @property
    def memory(self) -> Path:
        """What was seen of files and packages, so that it need not be read again; may be removed at any time."""
        return self.path / "memory"

    @property
    def surveys(self) -> Path:
        """Where surveys are kept by name."""
        return self.path / "surveys"

    @property
    def downloads(self) -> Path:
        """Where archives from a source on the network are kept."""
        return self.path / "downloads"

    def ensure(self) -> None:
        """Make the folder; raises BadInput when it cannot be written, or where another account could exchange it."""
        if not self._is_safe():
            text = f"another account can write a folder on the way to the state folder {self.path}, and exchange it"
            remedy = "let root own these folders alone, or name a state folder elsewhere with `state` in the site file"
            raise BadInput(Problem("state-exchangeable", text, remedy, str(self.path)))
        try:
            for folder in (self.path, self.backups, self.climbs):
                private_folder(folder)
            if not self._is_safe():  # somebody was quicker to make it
                raise OSError(errno.EPERM, "another account owns it", str(self.path))
            probe = self.path / f".probe.{os.getpid()}"
            probe.touch()
            probe.unlink()
        except OSError as fault:
            text = f"the state folder {self.path} cannot be written: {fault.strerror}"
            remedy = "give this account the right to write there, or name another with `state` in the site file"
            raise BadInput(Problem("state-not-writable", text, remedy, str(self.path))) from fault

    def _is_safe(self) -> bool:
        return os.geteuid() != 0 or whose.is_ours_alone(self.path, to_be_made=True)

    @contextlib.contextmanager
    def locked(self, what: str) -> Iterator[None]:
        """Hold the lock for a block; raises SiteLocked at once when another run has it. A kill releases it."""
        self.ensure()
        descriptor = os.open(self.lock, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        with os.fdopen(descriptor, "r+") as stream:
            try:
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError as busy:
                holder = stream.read().strip() or "another run"
                text = f"{holder} is at work on this site"
                remedy = "wait until it ends; `yl history` shows how far it is"
                raise SiteLocked(Problem("locked", text, remedy, str(self.lock))) from busy
            # What the last holder wrote may still be there: a kill releases the lock and leaves the text.
            stream.truncate(0)
            stream.write(f"yl {what} (process {os.getpid()}, since {datetime.now(UTC):%Y-%m-%d %H:%M:%S} UTC)\n")
            stream.flush()
            yield
            stream.seek(0)
            stream.truncate(0)

    def is_busy(self) -> str:
        """Who holds the lock, or nothing; takes no lock that anyone would feel for longer than the look."""
        try:
            with self.lock.open("r") as stream:
                try:
                    fcntl.flock(stream, fcntl.LOCK_SH | fcntl.LOCK_NB)
                except BlockingIOError:
                    return stream.read().strip() or "another run"
        except FileNotFoundError:
            return ""
        return ""
