"""The site file's records of services: one for each kind, so that a key of another kind is refused by name."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from yellow_ladder.documents import Record
from yellow_ladder.site.values import NAME_PATTERN, Argv, Seconds


class PageReady(Record):
    """`[services.ready]`: a page that answers tells that a service is ready."""

    designed = {
        "log_line": "a line in its log",
        "port": "a port that answers",
        "command": "a command that succeeds",
    }
    url: str
    status: int = 200
    within_s: Seconds = 30.0


class ServiceRecord(Record):
    """`[[services]]`: what every kind of service has, in the order of starting."""

    designed = {
        "unit": "a systemd unit",
        "dependants": "who must be told or restarted",
    }
    designed_values = {"kind": {"unit": "a systemd unit"}}
    name: str = Field(pattern=NAME_PATTERN)
    folder: str = ""
    environment: dict[str, str] = {}
    pid_file: str = ""
    log: str = ""
    ready: PageReady | None = None
    ports: list[Annotated[int, Field(ge=1, le=65535)]] = []
    stop_within_s: Seconds = 20.0
    as_user: str = ""
    holds: str = ""

    @property
    def wanted_account(self) -> str:
        """The account that it should run as; empty where the site file leaves that to the service."""
        return ""


class ProcessRecord(ServiceRecord):
    """A process that is started and watched from here."""

    kind: Literal["process"]
    run: Argv
    pid_file: str = Field(min_length=1)

    @property
    def wanted_account(self) -> str:
        """The account named for it."""
        return self.as_user


class CommandsRecord(ServiceRecord):
    """A service that commands start, stop and ask."""

    kind: Literal["commands"]
    start: Argv
    stop: Argv
    status: Argv


AnyService = Annotated[ProcessRecord | CommandsRecord, Field(discriminator="kind")]
