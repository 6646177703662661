"""The site file's records of services: one for each kind, so that a key of another kind is refused by name."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.site.values import NAME_PATTERN, Seconds


class Ready(Record):
    """`[services.ready]`: how to know that a service is ready."""

    designed = {
        "log_line": "a line in its log",
        "port": "a port that answers",
        "command": "a command that succeeds",
    }
    url: str
    status: int = 200
    within_s: Seconds = 30.0


class ServiceSpec(Record):
    """`[[services]]`: one service, in the order of starting."""

    designed = {
        "unit": "a systemd unit",
        "dependants": "who must be told or restarted",
    }
    name: str = Field(pattern=NAME_PATTERN)
    kind: Literal["process", "commands"]
    run: list[str] = []
    folder: str = ""
    environment: dict[str, str] = {}
    as_user: str = ""
    pid_file: str = ""
    log: str = ""
    start: list[str] = []
    stop: list[str] = []
    status: list[str] = []
    ready: Ready | None = None
    ports: list[Annotated[int, Field(ge=1, le=65535)]] = []
    stop_within_s: Seconds = 20.0

    @model_validator(mode="after")
    def _complete(self) -> ServiceSpec:
        needed = ("run", "pid_file") if self.kind == "process" else ("start", "stop", "status")
        missing = [key for key in needed if not getattr(self, key)]
        if missing:
            raise ValueError(f'with kind = "{self.kind}" needs the key `{missing[0]}`')
        return self
