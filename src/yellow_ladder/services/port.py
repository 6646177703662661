"""What every kind of service can do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Protocol

from yellow_ladder.errors import AnswerNo, Problem

MARK = "YELLOW_LADDER_SERVICE"
"""A variable in the environment of every process started from here, which what it starts has too: `name@root`."""


class ServiceState(StrEnum):
    """Whether a service runs."""

    RUNNING = "running"
    STOPPED = "stopped"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class About:
    """What runs: process ids (the children's too), since when (UTC, ISO 8601), as whom, on which TCP ports.

    Empty where it does not run or this account may not look.
    """

    state: ServiceState
    pids: tuple[int, ...] = ()
    since: str = ""
    account: str = ""
    ports: tuple[int, ...] = ()
    command_line: str = ""


@dataclass(frozen=True, slots=True)
class Waiting:
    """What a service that was started has not said yet: the question, the last answer, the one that is wanted."""

    service: str
    question: str
    seen: str
    wanted: str
    since_s: float
    within_s: float


OnWait = Callable[[Waiting], None]


def nobody_waits(waiting: Waiting) -> None:
    """Nobody wants to know."""


class Service(Protocol):
    """One service; start and stop may be repeated."""

    @property
    def name(self) -> str:
        """Its name in the site file."""

    def state(self) -> ServiceState:
        """Whether it runs now."""

    def start(self, look_on: OnWait = nobody_waits) -> None:
        """Start it unless it runs, and return when it is ready; raises AnswerNo when it does not get there.

        `look_on` is told again and again what is waited for, and may end the waiting by raising.
        """

    def stop(self) -> None:
        """Stop it unless it is stopped, and return when it is gone, children included; raises AnswerNo."""

    def about(self) -> About:
        """What runs, as far as it can be seen from here."""

    def started_with(self) -> tuple[Path, list[str]]:
        """The folder of the commands that it is started, stopped and asked with, and their words; those of a unit as
        its manager tells them. None where there are none, or nobody tells.
        """

    def trouble(self) -> str:
        """Why it could not be controlled from here, or nothing. Starts and stops nothing."""


def not_ready(name: str, why: str, remedy: str) -> AnswerNo:
    """The error of a service that did not become ready."""
    return AnswerNo(Problem("service-not-ready", f"the service `{name}` is not ready: {why}", remedy, name))


def not_stopped(name: str, why: str) -> AnswerNo:
    """The error of a service that did not stop."""
    text = f"the service `{name}` did not stop: {why}"
    return AnswerNo(
        Problem("service-not-stopped", text, "stop it by hand, then go on; where it needs longer: stop_within_s", name)
    )
