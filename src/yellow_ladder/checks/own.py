"""Questions of the site file and of the releases."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.route import Route
from yellow_ladder.survey.questions import ask_for_release, ask_questions


def questions_of_releases(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Are the data as the next release wants them? What later ones ask, the climb asks when it is there."""
    for rung in route.rungs[:1]:
        questions = rung.release.sheet.checks
        replies = ask_for_release(at.site, questions)
        for one in questions:
            what, reply = f"{rung.to_version} asks", replies[one.name]
            seen = f"{one.name}: {reply.saw}"
            if reply.is_good:
                yield ok(what, seen)
            else:
                remedy = one.remedy or f"put that right before {rung.to_version} comes: see its sheet"
                yield (stop if one.level == "stop" else warn)(what, seen, remedy)


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
