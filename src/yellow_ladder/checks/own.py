"""Questions that the site file asks itself."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.survey.questions import ask_questions


def own_questions(at: Circumstances) -> Iterator[Finding]:
    """Are the answers to the site's own questions what it wants?"""
    asked = [one for one in at.site.record.checks if one.when in ("before", "both")]
    replies = ask_questions(at.site, asked)
    for question in asked:
        reply = replies[question.name]
        if reply.is_good:
            yield ok(question.name, reply.saw)
        else:
            remedy = question.remedy or f"see `{question.name}` under [[checks]] in {at.site.short(at.site.file)}"
            yield (stop if question.level == "stop" else warn)(question.name, reply.saw, remedy)
