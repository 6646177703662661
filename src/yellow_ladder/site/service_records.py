"""The site file's records of services: one for each kind, so that a key of another kind is refused by name."""

from __future__ import annotations

import resource
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import Argv, PageUrl, PatternText, Seconds, TreePath
from yellow_ladder.site.values import NAME_PATTERN


class Ready(Record):
    """`[services.ready]`: what tells that a service is ready; of several things, all must."""

    url: PageUrl = ""
    status: int = 200
    port: Annotated[int, Field(ge=1, le=65535)] | None = None
    log_line: PatternText = ""
    failed: PatternText = ""
    command: list[str] = []
    as_user: str = ""
    query: str = ""
    wanted: str = ""
    database: str = "main"
    within_s: Seconds = 30.0

    @model_validator(mode="after")
    def _asks_something(self) -> Ready:
        if not (self.url or self.port or self.log_line or self.command or self.query):
            raise ValueError("needs `url`, `port`, `log_line`, `command` or `query`, or several of them")
        if bool(self.query) != bool(self.wanted):
            raise ValueError("needs `query` and `wanted` together, or neither")
        return self


def _names(value: object) -> object:
    """One name may stand for a list of one."""
    return [value] if isinstance(value, str) else value


class ServiceRecord(Record):
    """`[[services]]`: what every kind of service has, in the order of starting."""

    name: str = Field(pattern=NAME_PATTERN)
    folder: str = ""
    environment: dict[str, str] = {}
    pid_file: str = ""
    log: str = ""
    ready: Ready | None = None
    ports: list[Annotated[int, Field(ge=1, le=65535)]] = []
    stop_within_s: Seconds = 20.0
    as_user: str = ""
    holds: Annotated[list[str], BeforeValidator(_names)] = []
    data_folder: TreePath | Literal[""] = ""

    @model_validator(mode="after")
    def _has_a_log(self) -> ServiceRecord:
        for key in ("log_line", "failed"):
            if self.ready is not None and getattr(self.ready, key) and not self.log:
                raise ValueError(f"has `ready.{key}`, and no `log` to look into")
        return self

    @model_validator(mode="after")
    def _serves_what_it_takes_along(self) -> ServiceRecord:
        if self.data_folder and not self.holds:
            raise ValueError("has `data_folder`, and `holds` none of [[databases]]: name those that this server has")
        return self

    @property
    def wanted_account(self) -> str:
        """The account that it should run as; empty where the site file leaves that to the service."""
        return ""


class Limits(Record):
    """`[services.limits]`: what the kernel lets its processes have; what is not named is as `yl` has it."""

    open_files: Annotated[int, Field(ge=256)] | None = None
    processes: Annotated[int, Field(ge=1)] | None = None
    locked_memory_mb: Annotated[int, Field(ge=0)] | None = None

    def of_kernel(self) -> dict[int, int]:
        """By the kernel's numbers, in its units."""
        named = {
            resource.RLIMIT_NOFILE: self.open_files,
            resource.RLIMIT_NPROC: self.processes,
            resource.RLIMIT_MEMLOCK: None if self.locked_memory_mb is None else self.locked_memory_mb * 1024**2,
        }
        return {which: most for which, most in named.items() if most is not None}


class StartedRecord(ServiceRecord):
    """A service that is started from here, so that its rights and limits are given to it from here too."""

    groups: list[str] = []
    limits: Limits = Limits()


class ProcessRecord(StartedRecord):
    """A process that is started and watched from here."""

    kind: Literal["process"]
    run: Argv
    pid_file: str = Field(min_length=1)

    @property
    def wanted_account(self) -> str:
        """The account named for it."""
        return self.as_user


class CommandsRecord(StartedRecord):
    """A service that commands start, stop and ask; in place of the last, its pid file may tell whether it runs."""

    kind: Literal["commands"]
    start: Argv
    stop: Argv
    status: list[str] = []
    running: PatternText = ""

    @model_validator(mode="after")
    def _tells_whether_it_runs(self) -> CommandsRecord:
        if not self.status and not self.pid_file:
            raise ValueError("has neither `status` nor `pid_file`: nothing tells whether it runs")
        if self.running and not self.status:
            raise ValueError("has `running`, which is what `status` prints, and no `status`")
        return self


class UnitRecord(ServiceRecord):
    """A unit of systemd; of the account's own service manager where `user` names one."""

    kind: Literal["unit"]
    unit: str = Field(pattern=r"^[A-Za-z0-9:_.\\@-]+\.(service|socket|timer|target|path)$")
    user: str = ""
    systemctl: Argv = ["systemctl"]
    start_within_s: Seconds = 120.0


class CronRecord(ServiceRecord):
    """Lines of a crontab, held back while the site is closed: those that name the root, or fit `lines`.

    `stop_within_s`: how long what they have started may go on running when the site closes.
    """

    kind: Literal["cron"]
    crontab: str = Field(min_length=1)
    lines: PatternText = ""

    @model_validator(mode="after")
    def _is_no_process(self) -> CronRecord:
        plain = {"name", "kind", "crontab", "lines", "stop_within_s"}
        others = sorted(self.model_fields_set - plain)
        if others:
            raise ValueError(f"has `{others[0]}`, which lines of a crontab have not")
        return self


AnyService = Annotated[ProcessRecord | CommandsRecord | UnitRecord | CronRecord, Field(discriminator="kind")]
