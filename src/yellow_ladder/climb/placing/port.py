"""What every kind of placement can do: bring a release's files in, and bring the old ones back.

A placement remembers nothing: after a kill at any instant, what is where is read from the disk and the frozen plan.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from yellow_ladder.climb.record.plan import Plan, RungPlan

ShutTree = Callable[[Path], None]
"""Called with a tree that is about to become root, so that it is never open for an instant."""


@dataclass(frozen=True, slots=True)
class Placed:
    """What bringing a release in has done: data folders moved, whether the kernel did the rest in one instant, and how
    many files the release brought into data folders.
    """

    data_folders: int
    in_one_instant: bool
    brought: int = 0


class Placement(Protocol):
    """One way for new files to come in. Everything may be repeated."""

    def work_folder(self, root: Path, climb_folder: Path) -> Path:
        """Where new files are made ready: where they can be brought in from without being copied."""

    def mark_of(self, tree: Path) -> int:
        """What a tree will be known by, wherever it lies by then."""

    def bring_in(self, plan: Plan, rung: RungPlan, shut: ShutTree) -> Placed:
        """Put the files of a rung in place. Raises AnswerNo where they are not where they were made ready."""

    def bring_back(self, plan: Plan, shut: ShutTree) -> bool:
        """Put the old files back from wherever the climb is; False where they are gone and the backup has to do."""

    def drop_passed(self, plan: Plan) -> None:
        """Remove the files of releases in between; the old version's stay for going back."""

    def drop_newer(self, plan: Plan) -> None:
        """Remove, after going back, what was made ready and what was newer."""

    def drop_older(self, plan: Plan) -> None:
        """Remove, when a climb is settled, what was kept for going back."""

    def drop_staged(self, plan: Plan) -> None:
        """Remove what was made ready for a climb that will not be."""

    def kept_bytes(self, plan: Plan) -> int:
        """What is kept for going back takes."""
