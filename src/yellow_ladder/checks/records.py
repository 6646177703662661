"""What a check is given and what it finds."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, field
from datetime import datetime
from enum import StrEnum
from pathlib import Path
from typing import Any

from yellow_ladder.errors import Problem
from yellow_ladder.events import Listener, silent
from yellow_ladder.release.source import Releases
from yellow_ladder.route import Route, Wishes
from yellow_ladder.settings.forecast import Forecast
from yellow_ladder.site.site import Site
from yellow_ladder.survey import Survey


class Level(StrEnum):
    """How a check is answered; `stop` keeps a climb from beginning."""

    STOP = "stop"
    WARN = "warn"
    OK = "ok"


@dataclass(frozen=True, slots=True)
class Finding:
    """One answer: what was seen, what is needed where that is something else, and a remedy that can be typed."""

    check: str
    level: Level
    saw: str
    remedy: str = ""
    needed: str = ""

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


@dataclass(frozen=True, slots=True)
class OthersClimb:
    """A climb in the state folder that is another site's: its root, its site file, and its own state folder."""

    climb: str
    root: Path
    site_file: str
    state: Path
    is_open: bool


@dataclass(frozen=True, slots=True)
class Past:
    """What earlier runs left: a climb that is not finished, and since when the site is at its version, where known."""

    unfinished: str = ""
    at_version_since: datetime | None = None
    trouble: str = ""
    others: tuple[OthersClimb, ...] = ()


@dataclass(frozen=True, slots=True)
class Circumstances:
    """All that checks may look at. There is no route where there is no way, and `troubles` says why."""

    site: Site
    survey: Survey
    releases: Releases
    route: Route | None
    now: datetime
    past: Past = field(default_factory=Past)
    wishes: Wishes = field(default_factory=Wishes)
    troubles: tuple[Problem, ...] = ()
    tell: Listener = silent
    forecast: Forecast | None = None
    settings_troubles: tuple[Problem, ...] = ()


Check = Callable[[Circumstances], Iterable[Finding]]
RouteCheck = Callable[[Circumstances, Route], Iterable[Finding]]


def ok(check: str, saw: str) -> Finding:
    """All is well."""
    return Finding(check, Level.OK, saw)


def warn(check: str, saw: str, remedy: str, needed: str = "") -> Finding:
    """It may go on, and the administrator should know."""
    return Finding(check, Level.WARN, saw, remedy, needed)


def stop(check: str, saw: str, remedy: str, needed: str = "") -> Finding:
    """It may not go on."""
    return Finding(check, Level.STOP, saw, remedy, needed)
