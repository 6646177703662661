"""What each probe should say of the version, and whether it does: one judge for survey, checks, rungs and proofs."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.versions import Version
from yellow_ladder.survey.records import ProbeAnswer


@dataclass(frozen=True, slots=True)
class VersionVerdict:
    """What a probe said, and what it should say; `wanted` is empty where it is not known."""

    answer: ProbeAnswer
    wanted: str

    @property
    def is_silent(self) -> bool:
        """Whether the probe could not be asked."""
        return bool(self.answer.trouble)

    @property
    def is_right(self) -> bool:
        """Whether it says what it should; where that is not known, every answer is right."""
        return not self.wanted or same_version(self.answer.says, self.wanted)

    @property
    def fault(self) -> str:
        """What is wrong, in one sentence; nothing where it is right."""
        if self.is_right:
            return ""
        says = self.answer.says or self.answer.trouble
        return f"the {self.answer.of} probe says {says}, {self.wanted} is wanted"


def judge_versions(
    answers: Iterable[ProbeAnswer], version: str, sheet: ReleaseSheet | None = None
) -> list[VersionVerdict]:
    """Hold each probe against a release: its version, and where its sheet is at hand, its schema and its parts.

    Without a version (nobody could read one), only that probes are silent can be told.
    """
    return [VersionVerdict(one, _wanted_of(one, version, sheet)) for one in answers]


def _wanted_of(answer: ProbeAnswer, version: str, sheet: ReleaseSheet | None) -> str:
    if answer.of == "schema":
        # A part's schema has no place in a release sheet: `parts` are versions of programs.
        return sheet.release.schema_version if sheet and not answer.part else ""
    if answer.part:
        return sheet.release.parts.get(answer.part, "") if sheet else ""
    return version


def same_version(says: str, version: str) -> bool:
    """Whether two texts are one version, however they are written."""
    try:
        return Version(says) == Version(version)
    except ValueError:
        return says == version
