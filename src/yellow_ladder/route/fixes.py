"""Which fixes a climb brings, and which are still missing after it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version

SEVERITIES = ("critical", "high", "medium", "low", "")


@dataclass(frozen=True, slots=True)
class Fix:
    """What a release mends, and how urgent it was."""

    version: Version
    severity: str
    text: str


def fixes_between(after: Version, up_to: Version | None, releases: Sequence[Release]) -> list[Fix]:
    """Fixes of all releases after one version up to another (None: all), the most urgent first.

    A release is taken to hold the fixes of every older one, also of those that a route passes over.
    """
    found = [
        Fix(one.version, one.sheet.release.severity, text)
        for one in releases
        if after < one.version and (up_to is None or one.version <= up_to) and not one.sheet.release.withdrawn
        for text in one.sheet.notes.fixes
    ]
    return sorted(found, key=lambda fix: SEVERITIES.index(fix.severity))
