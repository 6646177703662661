"""Every error that a person may meet.

    LadderError
    ├── BadInput          2   the call or a file given is wrong; nothing was touched
    ├── AnswerNo          1   the answer is no: a check stops, a difference was found, there is no route
    ├── StoppedPartWay    3   stopped in the middle; the journal holds; the remedy is the next command
    ├── SiteLocked        4   another run is at work on this site
    └── OwnFault         70   a fault of the tool itself

Each carries one or more problems; all problems of one file or one pass are reported together.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong: a stable code, one sentence, what to do about it, and where it is."""

    code: str
    message: str
    remedy: str = ""
    where: str = ""

    @property
    def placed(self) -> str:
        """The sentence with where it is, unless it says so itself: of many files, one must be named."""
        return self.message if not self.where or self.where in self.message else f"{self.message} ({self.where})"

    def as_record(self) -> dict[str, str]:
        """The problem as it stands in JSON output."""
        return asdict(self)


class LadderError(Exception):
    """Base of all errors told to a person; `exit_code` is what the program ends with."""

    exit_code = 70

    def __init__(self, problems: Problem | Sequence[Problem]) -> None:
        """Take one problem or all that were found in one pass (at least one)."""
        self.problems = (problems,) if isinstance(problems, Problem) else tuple(problems)
        super().__init__("; ".join(problem.message for problem in self.problems))

    def __reduce__(self) -> tuple[type[LadderError], tuple[tuple[Problem, ...]]]:
        """Keep the problems when the error crosses a process border."""
        return type(self), (self.problems,)


class BadInput(LadderError):
    """The call or a file given is wrong; nothing was touched."""

    exit_code = 2


class AnswerNo(LadderError):
    """The question was understood and the answer is no."""

    exit_code = 1


class StoppedPartWay(LadderError):
    """The run stopped in the middle; the journal says where, and the remedy names the next command."""

    exit_code = 3


class SiteLocked(LadderError):
    """Another run is at work on this site."""

    exit_code = 4


class OwnFault(LadderError):
    """The tool broke one of its own rules."""

    exit_code = 70
