"""Questions that the site file asks itself."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.survey.questions import ask_question


def own_questions(at: Circumstances) -> Iterator[Finding]:
    """Are the answers to the site's own questions what it wants?"""
    for question in at.site.record.checks:
        reply = ask_question(at.site, question)
        if reply.is_good:
            yield ok(question.name, reply.saw)
        else:
            remedy = question.remedy or f"see `{question.name}` under [[checks]] in {at.site.short(at.site.file)}"
            yield (stop if question.level == "stop" else warn)(question.name, reply.saw, remedy)
