"""How it is known that a service is ready: an object that knows its question, and the waiting for its answer."""

from __future__ import annotations

import base64
import http.client
import os
import re
import socket
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol
from urllib.parse import unquote, urlsplit

from yellow_ladder import nolinks
from yellow_ladder.errors import AnswerNo, LadderError
from yellow_ladder.masking import masked_line, masked_url
from yellow_ladder.services.port import OnWait, Waiting, nobody_waits, not_ready
from yellow_ladder.site.service_records import ServiceRecord
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import run_started, started
from yellow_ladder.words import uncoloured

_PAUSE_S = 0.02
_LONGEST_PAUSE_S = 0.5
_ONE_ANSWER_WITHIN_S = 5.0
_LOG_BYTES = 1024**2
_TAIL_BYTES, _LAST_LINES, _LONGEST_LINE = 8_192, 4, 160


class Readiness(Protocol):
    """One way to know that a service is ready."""

    @property
    def question(self) -> str:
        """What is asked, for people: an address, a port, a command."""

    @property
    def wanted(self) -> str:
        """The answer that says that it is ready."""

    def ask(self) -> str:
        """Ask once; the answer, or why there was none. Takes a few seconds at most."""


@dataclass(frozen=True, slots=True)
class PageReadiness:
    """A page that answers with a status over HTTP."""

    url: str
    status: int

    @property
    def question(self) -> str:
        """The page's address."""
        return masked_url(self.url)

    @property
    def wanted(self) -> str:
        """The status."""
        return str(self.status)

    def ask(self) -> str:
        """The HTTP status as text, or why there was none."""
        return answer_of(self.url, _ONE_ANSWER_WITHIN_S)


@dataclass(frozen=True, slots=True)
class PortReadiness:
    """A port of this machine where somebody answers."""

    port: int
    wanted: str = "a connection"

    @property
    def question(self) -> str:
        """The port."""
        return f"port {self.port}"

    def ask(self) -> str:
        """Whether a connection is taken, or why not."""
        try:
            with socket.create_connection(("127.0.0.1", self.port), timeout=_ONE_ANSWER_WITHIN_S):
                return self.wanted
        except OSError as fault:
            return f"no answer ({fault.strerror or fault})"


@dataclass(frozen=True, slots=True)
class LogReadiness:
    """A line in the log, written from a place on; in a log that has begun anew, anywhere."""

    log: Path
    pattern: str
    since: int
    wanted: str = "such a line"

    @property
    def question(self) -> str:
        """The pattern and the log."""
        return f"{self.pattern!r} in {self.log}"

    def ask(self) -> str:
        """Whether there is such a line."""
        try:
            with os.fdopen(nolinks.open_regular(nolinks.trusted(self.log)), "rb") as stream:
                size = os.fstat(stream.fileno()).st_size
                stream.seek(max(self.since if self.since <= size else 0, size - _LOG_BYTES))
                text = stream.read(_LOG_BYTES).decode(errors="replace")
        except OSError as fault:
            return f"nothing ({fault.strerror})"
        return self.wanted if re.search(self.pattern, text, re.MULTILINE) else "no such line"


@dataclass(frozen=True, slots=True)
class CommandReadiness:
    """A command that ends with 0."""

    site: Site
    command: tuple[str, ...]
    as_user: str
    wanted: str = "status 0"

    @property
    def question(self) -> str:
        """The command."""
        return " ".join(self.command)

    def ask(self) -> str:
        """Its exit status, or why there was none."""
        argv, folder = [self.site.filled(word) for word in self.command], self.site.file.parent
        try:
            how = started(self.site, self.as_user, argv, folder)
            done = run_started(how, argv, folder, _ONE_ANSWER_WITHIN_S)
        except AnswerNo as fault:
            return fault.problems[0].message
        return f"status {done.status}"


@dataclass(frozen=True, slots=True)
class QueryReadiness:
    """A query of one of the site's databases with the answer wanted."""

    site: Site
    database: str
    query: str
    wanted: str

    @property
    def question(self) -> str:
        """The query."""
        return f"`{self.query}`"

    def ask(self) -> str:
        """Its first value as text, or why there was none."""
        try:
            return str(self.site.databases()[self.database].scalar(self.query))
        except LadderError as fault:
            return fault.problems[0].message


def readiness_of(site: Site, spec: ServiceRecord, *, was_running: bool = False) -> list[Readiness]:
    """What the site file names, to be made before the service is started; nothing where it names nothing, and a service
    counts as ready when it runs. What `was_running` wrote its line at an earlier start.
    """
    record, found = spec.ready, list[Readiness]()
    if record is None:
        return found
    if record.port:
        found.append(PortReadiness(record.port))
    if record.log_line:
        found.append(_in_log(site, spec, record.log_line, was_running=was_running))
    if record.command:
        found.append(CommandReadiness(site, tuple(record.command), record.as_user))
    if record.url:
        found.append(PageReadiness(site.filled(record.url), record.status))
    if record.query:
        found.append(QueryReadiness(site, record.database, record.query, record.wanted))
    return found


def alarm_of(site: Site, spec: ServiceRecord, *, was_running: bool = False) -> Readiness | None:
    """The line in the log that tells that it will not become ready, to be made before the service is started."""
    if spec.ready is None or not spec.ready.failed:
        return None
    return _in_log(site, spec, spec.ready.failed, was_running=was_running)


def _in_log(site: Site, spec: ServiceRecord, pattern: str, *, was_running: bool) -> LogReadiness:
    log = site.resolve(site.filled(spec.log))
    status = None if was_running else nolinks.status_or_none(nolinks.trusted(log))
    return LogReadiness(log, pattern, status.st_size if status else 0)


@dataclass(frozen=True, slots=True)
class Watch:
    """What is looked at while a service is waited for: its log, the sign that it has failed, and who looks on."""

    log: str
    alarm: Readiness | None = None
    look_on: OnWait = nobody_waits


def wait_until_ready(
    name: str, readiness: Sequence[Readiness], within_s: float, is_alive: Callable[[], bool], watch: Watch
) -> None:
    """Ask one after the other until each has the answer wanted; raises AnswerNo past the limit, when the service died,
    or when the alarm has its answer.
    """
    began, log, alarm = time.monotonic(), watch.log, watch.alarm
    remedy = f"read its log {log}" if log else "start it by hand and see what it says; name its log with `log`"
    for one in readiness:
        pause = _PAUSE_S
        while (seen := one.ask()) != one.wanted:
            if alarm is not None and alarm.ask() == alarm.wanted:
                raise not_ready(name, f"its log has {alarm.question}{last_words(log)}", remedy)
            if not is_alive():
                raise not_ready(name, f"its process ended{last_words(log)}", remedy)
            waited_s = time.monotonic() - began
            if waited_s > within_s:
                why = f"{one.question} gave {seen} for {within_s:g} s, {one.wanted} is wanted"
                raise not_ready(name, why + last_words(log), f"{remedy}; where it needs longer: ready.within_s")
            watch.look_on(Waiting(name, one.question, seen, one.wanted, waited_s, within_s))
            time.sleep(pause)
            pause = min(pause * 1.3, _LONGEST_PAUSE_S)


def last_words(log: str) -> str:
    """The end of a log, for a message: by the time that it is read, the file may lie elsewhere. Secrets are masked."""
    try:
        with os.fdopen(nolinks.open_regular(nolinks.trusted(log)), "rb") as stream:
            stream.seek(max(0, os.fstat(stream.fileno()).st_size - _TAIL_BYTES))
            text = uncoloured(stream.read(_TAIL_BYTES).decode(errors="replace"))
    except (OSError, ValueError):
        return ""
    lines = [masked_line(line.strip())[:_LONGEST_LINE] for line in text.splitlines() if line.strip()][-_LAST_LINES:]
    return f"; its log ends: {' / '.join(lines)}" if lines else ""


def answer_of(url: str, timeout_s: float) -> str:
    """The HTTP status as text, or why there was none."""
    # urllib and not the full client: this is asked in a tight loop while the site is down, and loads in no time.
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    try:
        with opener.open(_request(url), timeout=timeout_s) as response:
            return str(response.status)
    except urllib.error.HTTPError as answer:
        with answer:
            return str(answer.code)
    except (OSError, ValueError, http.client.HTTPException) as fault:
        said = str(getattr(fault, "reason", fault)) or type(fault).__name__
        return f"no answer ({said})"


def _request(url: str) -> urllib.request.Request:
    """A question to a page; an account in its address is told as every client tells it (RFC 7617)."""
    account, at, _ = urlsplit(url).netloc.rpartition("@")
    if not at:
        return urllib.request.Request(url)  # noqa: S310  http or https, as the site file's keys allow
    told = base64.b64encode(unquote(account).encode()).decode()
    return urllib.request.Request(url.replace(f"{account}@", "", 1), headers={"Authorization": f"Basic {told}"})  # noqa: S310
