"""A service that is lines of a crontab: stopped while they are held back."""

from __future__ import annotations

import os
import re
import stat
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.durable import write_whole
from yellow_ladder.errors import LadderError
from yellow_ladder.files.reading import read_regular
from yellow_ladder.services.port import About, OnWait, ServiceState, nobody_waits, not_ready, not_stopped
from yellow_ladder.services.timetables import HELD_BACK, Line, job_lines, naming
from yellow_ladder.site.service_records import CronRecord
from yellow_ladder.site.site import Site
from yellow_ladder.whose import is_ours_alone
from yellow_ladder.words import some_of


class CronService:
    """Running is when a line is in force. What a line has started already is not ended: the climb waits for it.

    Whether it is held back stands in the table itself, so that a kill at any instant leaves one or the other. Other
    lines of the table are never touched, nor is one that was added meanwhile and does not fit.
    """

    def __init__(self, site: Site, spec: CronRecord) -> None:
        """Take names from the site; nothing is read."""
        self._site, self._spec = site, spec

    @property
    def name(self) -> str:
        return self._spec.name

    @property
    def _table(self) -> Path:
        return self._site.resolve(self._site.filled(self._spec.crontab))

    def _text(self) -> str:
        return read_regular(self._table).decode(errors="surrogateescape")

    def _lines(self, text: str) -> list[Line]:
        return job_lines(text, pattern_of(self._site, self._spec))

    def state(self) -> ServiceState:
        return self.about().state

    def start(self, look_on: OnWait = nobody_waits) -> None:  # noqa: ARG002  a timetable is never waited for
        try:
            self._rewrite(held=False)
        except OSError as fault:
            raise not_ready(self.name, str(fault), f"take `{HELD_BACK.strip()}` off its lines by hand") from fault

    def stop(self) -> None:
        try:
            self._rewrite(held=True)
        except OSError as fault:
            raise not_stopped(self.name, str(fault)) from fault
        trouble = self._nothing_there()
        if trouble:
            raise not_stopped(self.name, trouble)

    def _rewrite(self, *, held: bool) -> None:
        path, text = self._table, self._text()
        changed = [one for one in self._lines(text) if one.is_held != held]
        if not changed:
            return
        lines = text.split("\n")
        for one in changed:
            lines[one.number - 1] = f"{HELD_BACK if held else ''}{one.text}"
        now = nolinks.status_of(path)
        content = "\n".join(lines).encode(errors="surrogateescape")
        write_whole(path, content, mode=stat.S_IMODE(now.st_mode), owner=(now.st_uid, now.st_gid))

    def _nothing_there(self) -> str:
        try:
            found = self._lines(self._text())
        except OSError as fault:
            return f"{self._spec.crontab} cannot be read: {fault.strerror or fault}"
        except LadderError as fault:  # a link that another account could turn
            return fault.problems[0].message
        wanted = f"`{self._spec.lines}`" if self._spec.lines else str(self._site.root)
        return "" if found else f"no line of {self._table} has {wanted}"

    def about(self) -> About:
        trouble = self._nothing_there()
        if trouble:
            return About(ServiceState.UNKNOWN, command_line=trouble)
        lines = self._lines(self._text())
        in_force = [one.text.strip() for one in lines if not one.is_held]
        state = ServiceState.RUNNING if in_force else ServiceState.STOPPED
        return About(state, command_line=some_of(in_force or [one.text.strip() for one in lines], 3))

    def started_with(self) -> tuple[Path, list[str]]:
        return self._site.root, []

    def trouble(self) -> str:
        try:
            table = self._table
            kept = [self._site.resolve(one) for one in self._site.record.keep.outside]
        except LadderError as fault:
            return fault.problems[0].message
        if not is_ours_alone(table.parent):
            return f"another account may put a file in the place of {table}"
        if not os.access(table.parent, os.W_OK | os.X_OK):
            return f"this account may not write to {table.parent}"
        if any(table.is_relative_to(one) for one in kept):
            return f"{table} is kept under keep.outside too, and would have to be as before while lines are held back"
        return self._nothing_there()


def pattern_of(site: Site, spec: CronRecord) -> re.Pattern[str]:
    """What finds the lines of a service in its crontab: the site file's own pattern, or the application's folder."""
    return re.compile(spec.lines) if spec.lines else naming(folders_of(site))


def folders_of(site: Site) -> set[Path]:
    """The application's folder by the names that the machine's own files may use for it."""
    return {site.root, Path(os.path.normpath(site.file.parent / site.filled(site.record.root)))}
