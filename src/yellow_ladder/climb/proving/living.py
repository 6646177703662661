"""The site's own questions: asked while the old version serves, and again when the new one does, before users are let
in or as soon as they are.

What was answered badly before is no fault of the climb: it is told, and nothing more.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from enum import Enum, auto
from typing import Any

from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.durable import write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.site.questions import SiteCheck
from yellow_ladder.survey.questions import Remembered, Reply, ask_questions
from yellow_ladder.words import count_of

_KEPT = "answers-before.json"


class Moment(Enum):
    """When questions are asked of the new version."""

    CLOSED = auto()  # it serves, and users are shut out
    OPENED = auto()  # they have been let in just now
    LATER = auto()  # they have been at work since: what is answered and what logs say may have changed by that


@dataclass(frozen=True, slots=True)
class Asked:
    """What the questions gave after a climb: faults of it, what is to be told besides, how many were answered well."""

    faults: tuple[str, ...]
    remarks: tuple[str, ...]
    good: int


def ask_before(run: Run) -> Facts:
    """Ask what will be asked again, while the old version serves, and keep the answers."""
    if StepName(StepKind.CLOSE) in run.standing().up:
        return {}  # begun by a build that did not ask; too late now
    questions = [one for one in run.site.record.checks if one.is_asked_after]
    replies = ask_questions(run.site, questions)
    kept = {name: {"good": one.is_good, "saw": one.saw, "kept": dict(one.kept)} for name, one in replies.items()}
    write_json(run.plan.folder / _KEPT, {"format": 1, "answers": kept})
    bad = [name for name, one in replies.items() if not one.is_good]
    words = f"{count_of(len(replies), 'answer')} kept"
    return {"summary": f"{words}, not as wanted: {', '.join(bad)}" if bad else words}


def is_asked(question: SiteCheck, moment: Moment) -> bool:
    """Whether a question is asked of the new version at a moment; pure."""
    if moment is Moment.LATER:
        return question.is_asked_after and not question.log
    return question.is_asked_after and (question.when == "opened") is (moment is Moment.OPENED)


def ask_again(plan: Plan, *, served: bool, moment: Moment) -> Asked:
    """Ask the site's own questions of the new version; pages and logs only while somebody serves them.

    Later, nothing is held against before.
    """
    site, before = site_after(plan), _answers_before(plan)
    asked = [one for one in site.record.checks if is_asked(one, moment)]
    questions = [one for one in asked if served or not (one.url or one.log)]
    is_later = moment is Moment.LATER
    kept: dict[str, Remembered] = {} if is_later else {name: one["kept"] for name, one in before.items()}
    replies = ask_questions(site, questions, kept)
    faults, remarks = [], []
    for question in questions:
        reply = replies[question.name]
        if reply.is_good:
            continue
        told = f"{question.name}: {reply.saw}"
        if question.when != "both" and not before.get(question.name, {"good": True})["good"]:
            remarks.append(f"{told}; it was no better before: {before[question.name]['saw']}")
        elif question.level == "stop":
            faults.append(told)
        else:
            remarks.append(told)
    return Asked(tuple(faults), tuple(remarks), _good(replies))


def _good(replies: Mapping[str, Reply]) -> int:
    return sum(one.is_good for one in replies.values())


def _answers_before(plan: Plan) -> dict[str, Any]:
    path = plan.folder / _KEPT
    try:
        answers: dict[str, Any] = json.loads(path.read_text())["answers"] if path.exists() else {}
    except (OSError, ValueError, KeyError) as fault:
        text = f"the answers of before cannot be read: {fault}"
        raise AnswerNo(
            Problem("survey-damaged", text, "restore the file, or go back: yl descend", str(path))
        ) from fault
    return answers
