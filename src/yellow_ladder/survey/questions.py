"""Questions of the site's own: a query, a page or a command, and what the answer should be."""

from __future__ import annotations

from dataclasses import dataclass

import httpx

from yellow_ladder.errors import LadderError
from yellow_ladder.site.records import SiteCheck
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import LARGEST_ANSWER_BYTES, matched, output_of


@dataclass(frozen=True, slots=True)
class Reply:
    """What was seen, and whether that is what was wanted."""

    is_good: bool
    saw: str


def ask_question(site: Site, question: SiteCheck) -> Reply:
    """Ask; where anything goes wrong, the reply is bad and says why."""
    try:
        if question.url:
            return _ask_page(site, question)
        if question.query:
            answer = str(site.databases()[question.database].scalar(question.query))
        else:
            answer = output_of(site, question.command, question.within_s, question.as_user)
        return _judged(question, answer)
    except (LadderError, OSError, ValueError, httpx.HTTPError, httpx.InvalidURL) as fault:
        why = fault.problems[0].message if isinstance(fault, LadderError) else str(fault) or type(fault).__name__
        return Reply(is_good=False, saw=why)


def _judged(question: SiteCheck, answer: str) -> Reply:
    if not question.pattern and not question.wanted:
        return Reply(is_good=True, saw="it succeeded")
    said = matched(answer, question.pattern)
    if question.wanted and said != question.wanted:
        return Reply(is_good=False, saw=f"the answer is {said}, {question.wanted} is wanted")
    return Reply(is_good=True, saw=f"the answer is {said}")


def _ask_page(site: Site, question: SiteCheck) -> Reply:
    """Ask a page, which may be meant to refuse: only its status counts. Redirects are not followed."""
    with (
        httpx.Client(timeout=question.within_s, trust_env=False) as client,
        client.stream("GET", site.filled(question.url)) as response,
    ):
        if response.status_code != question.status:
            saw = f"the page answers with status {response.status_code}, {question.status} is wanted"
            return Reply(is_good=False, saw=saw)
        body = b""
        for block in response.iter_bytes():
            body += block
            if len(body) > LARGEST_ANSWER_BYTES:
                raise ValueError("the answer is larger than a megabyte")
    if not question.pattern and not question.wanted:
        return Reply(is_good=True, saw=f"the page answers with status {response.status_code}")
    return _judged(question, body.decode(errors="replace"))
