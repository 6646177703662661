"""What a check is given and what it finds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass
from enum import StrEnum
from typing import Any

from yellow_ladder.release.source import Releases
from yellow_ladder.route import Route
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Survey


class Level(StrEnum):
    """How a check is answered; `stop` keeps a climb from beginning."""

    STOP = "stop"
    WARN = "warn"
    OK = "ok"


@dataclass(frozen=True, slots=True)
class Finding:
    """One answer: what was seen, and a remedy that can be typed."""

    check: str
    level: Level
    saw: str
    remedy: str = ""

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


@dataclass(frozen=True, slots=True)
class Circumstances:
    """All that checks may look at."""

    site: Site
    survey: Survey
    releases: Releases
    route: Route


Check = Callable[[Circumstances], Iterable[Finding]]


def ok(check: str, saw: str) -> Finding:
    """All is well."""
    return Finding(check, Level.OK, saw)


def warn(check: str, saw: str, remedy: str) -> Finding:
    """It may go on, and the administrator should know."""
    return Finding(check, Level.WARN, saw, remedy)


def stop(check: str, saw: str, remedy: str) -> Finding:
    """It may not go on."""
    return Finding(check, Level.STOP, saw, remedy)
