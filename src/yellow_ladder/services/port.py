"""What every kind of service can do."""

from __future__ import annotations

from enum import StrEnum
from typing import Protocol

from yellow_ladder.errors import AnswerNo, Problem


class State(StrEnum):
    """Whether a service runs."""

    RUNNING = "running"
    STOPPED = "stopped"
    UNKNOWN = "unknown"


class Service(Protocol):
    """One service; start and stop may be repeated."""

    @property
    def name(self) -> str:
        """Its name in the site file."""

    def state(self) -> State:
        """Whether it runs now."""

    def start(self) -> None:
        """Start it unless it runs, and return when it is ready; raises AnswerNo when it does not get there."""

    def stop(self) -> None:
        """Stop it unless it is stopped, and return when it is gone, children included; raises AnswerNo."""

    def trouble(self) -> str:
        """Why it could not be controlled from here, or nothing. Starts and stops nothing."""


def not_ready(name: str, why: str, remedy: str) -> AnswerNo:
    """The error of a service that did not become ready."""
    return AnswerNo(Problem("service-not-ready", f"the service `{name}` is not ready: {why}", remedy, name))


def not_stopped(name: str, why: str) -> AnswerNo:
    """The error of a service that did not stop."""
    text = f"the service `{name}` did not stop: {why}"
    return AnswerNo(Problem("service-not-stopped", text, "stop it by hand, then go on", name))
