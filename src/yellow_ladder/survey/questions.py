"""Questions of the site's own: asked, judged by what is wanted, and held against what was answered before."""

from __future__ import annotations

import json
import os
import re
import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yellow_ladder import nolinks, web
from yellow_ladder.errors import LadderError
from yellow_ladder.masking import masked_line
from yellow_ladder.release.contract import for_engine
from yellow_ladder.release.sheet import ReleaseCheck
from yellow_ladder.site.questions import SiteCheck
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import surroundings_of
from yellow_ladder.survey.named_files import look_for_named
from yellow_ladder.survey.pages import Page, Visitor, is_broken, signs_of_trouble
from yellow_ladder.survey.probes import json_at, matched, output_of
from yellow_ladder.words import count_of, some_of

_LOG_BYTES, _LOG_KINDS = 4 * 1024**2, 2_000
_ERRORS = r"(?i)\b(error|critical|fatal|panic|alert|emerg|severe|traceback|exception)\b"
_VARYING = re.compile(r"0x[0-9a-f]+|[0-9a-f]{8,}|\d+", re.IGNORECASE)
# A shorter time than this is no time: the first answers of a program that was just started are slow.
_QUICK_S, _PAUSE_S = 0.5, 0.5

Remembered = Mapping[str, Any]
"""What is kept of an answer, as JSON, so that a later one can be held against it."""


@dataclass(frozen=True, slots=True)
class Reply:
    """What was seen, whether that is what was wanted, and what is kept of it."""

    is_good: bool
    saw: str
    kept: Remembered = field(default_factory=dict)


def ask_questions(
    site: Site, questions: Sequence[SiteCheck], before: Mapping[str, Remembered] | None = None
) -> dict[str, Reply]:
    """Ask them in order; where anything goes wrong, the reply is bad and says why.

    Of a session all are asked that stand before the last one wanted, since those sign in. With `before`, what was
    answered then, the answers are held against it.
    """
    wanted = [one.name for one in questions]
    sessions = {one.session for one in questions if one.session}
    asked = [one for one in site.record.checks if one.name in wanted or (one.session and one.session in sessions)]
    try:
        surroundings = surroundings_of(site)
    except LadderError as fault:
        return {name: Reply(is_good=False, saw=fault.problems[0].message) for name in wanted}
    visitor, replies = Visitor(surroundings.variables), dict[str, Reply]()
    for question in asked:
        reply = _until_good(site, visitor, question, None if before is None else before.get(question.name))
        kept = {name: surroundings.masked(one) if isinstance(one, str) else one for name, one in reply.kept.items()}
        replies[question.name] = Reply(reply.is_good, surroundings.masked(reply.saw), kept)
    return {name: replies[name] for name in wanted if name in replies}


def ask_for_release(site: Site, questions: Sequence[ReleaseCheck]) -> dict[str, Reply]:
    """What a release wants to know of the data before it comes; where anything goes wrong, the reply is bad."""
    replies, databases = dict[str, Reply](), site.databases()
    for question in questions:
        try:
            database = databases[question.database]
            query = for_engine(question.query, database.address.engine)
            if not query:
                replies[question.name] = Reply(is_good=True, saw=f"it is not asked of {database.address.engine}")
                continue
            said = matched(str(database.scalar(query)), question.pattern)
        except KeyError:
            replies[question.name] = Reply(is_good=False, saw=f"the site file has no database {question.database}")
        except (LadderError, ValueError) as fault:
            why = fault.problems[0].message if isinstance(fault, LadderError) else str(fault)
            replies[question.name] = Reply(is_good=False, saw=why)
        else:
            is_good = said == question.wanted
            wanted = "" if is_good else f", {question.wanted} is wanted"
            replies[question.name] = Reply(is_good, f"the answer is {said}{wanted}")
    return replies


def _until_good(site: Site, visitor: Visitor, question: SiteCheck, before: Remembered | None) -> Reply:
    """Ask, and again as long as the question allows: what it asks of may take its time."""
    end = time.monotonic() + question.until_s
    while True:
        try:
            reply = _ask(site, visitor, question, before)
        except web.faults(LadderError, OSError, ValueError) as fault:
            why = fault.problems[0].message if isinstance(fault, LadderError) else web.why(fault)
            reply = Reply(is_good=False, saw=why)
        if reply.is_good or time.monotonic() >= end:
            return reply
        time.sleep(_PAUSE_S)


def _ask(site: Site, visitor: Visitor, question: SiteCheck, before: Remembered | None) -> Reply:
    if question.log:
        return _look_at_log(site, question, before)
    if question.url:
        page = visitor.ask(question, site.filled(question.url))
        faults = [*_page_faults(question, page), *_worse_page(question, page, before or {})]
        if faults:
            return Reply(is_good=False, saw="; ".join(faults), kept=_kept_of(page))
        reply = _judged(question, _answer_of(question, page), f"the page answers with status {page.status}", before)
        return Reply(reply.is_good, reply.saw, {**reply.kept, **_kept_of(page)})
    if question.files_in:
        return _look_for_files(site, question, before)
    if question.query:
        answer = str(site.databases()[question.database].scalar(question.query))
    else:
        answer = output_of(site, question.command, question.within_s, question.as_user)
    return _judged(question, answer, "it succeeded", before)


def _judged(question: SiteCheck, answer: str, succeeded: str, before: Remembered | None) -> Reply:
    if not (question.pattern or question.wanted or question.as_before or question.header or question.pointer):
        return Reply(is_good=True, saw=succeeded)
    said = matched(answer, question.pattern)
    kept = {"answer": said}
    if question.wanted and said != question.wanted:
        return Reply(is_good=False, saw=f"the answer is {said}, {question.wanted} is wanted", kept=kept)
    then = (before or {}).get("answer")
    if question.as_before and then is not None and said != then:
        return Reply(is_good=False, saw=f"the answer is {said}, and was {then} before", kept=kept)
    return Reply(is_good=True, saw=f"the answer is {said}", kept=kept)


def _look_for_files(site: Site, question: SiteCheck, before: Remembered | None) -> Reply:
    """Rows whose file is not there are bad, and so are files that no row names where that is asked for."""
    database = site.databases()[question.database]
    found = look_for_named(site, database, question.query, question.files_in, both_ways=question.unnamed_files)
    looked = f"{count_of(found.rows, 'row')}, {count_of(found.files, 'file')} in {question.files_in}"
    # Where only the climb is judged, what was so before it is no fault.
    is_held = question.as_before or question.when == "after"
    known = (before or found.as_record()) if is_held else {}
    worse, lacking = found.worse_than(known), found.worse_than({})
    said = "; ".join(worse) or "; ".join(f"{one}, as before" for one in lacking) or "all there"
    return Reply(is_good=not worse, saw=f"{looked}: {said}", kept=found.as_record())


def _page_faults(question: SiteCheck, page: Page) -> Iterator[str]:
    if page.status not in question.statuses:
        wanted = " or ".join(map(str, question.statuses))
        yield f"the page answers with status {page.status}, {wanted} is wanted"
        return
    if question.leads_to and page.leads_to != question.leads_to:
        yield f"it leads to {page.leads_to or 'nowhere'}, {question.leads_to} is wanted"
    for text in question.contains:
        if text not in page.text:
            yield f"the page does not say {text!r}"
    for text in question.lacks:
        if text in page.text:
            yield f"the page says {text!r}"


def _worse_page(question: SiteCheck, page: Page, before: Remembered) -> Iterator[str]:
    """What is worse than it was; nothing where nothing is known of before."""
    if "signs" in before and (new := signs_of_trouble(page.text).difference(before["signs"])):
        yield f"the page speaks of {some_of(sorted(new))}, and did not before"
    then_s = float(before.get("took_s", 0))
    if question.times and then_s and page.took_s > question.times * max(then_s, _QUICK_S):
        yield f"it took {page.took_s:.1f} s, and {then_s:.1f} s before"
    known = before.get("links", {})
    broken = [path for path, status in page.links.items() if is_broken(status) and not is_broken(known.get(path, 200))]
    if broken:
        yield f"{count_of(len(broken), 'link')} of it broken: {some_of(broken, 3)}"


def _kept_of(page: Page) -> dict[str, Any]:
    return {"took_s": round(page.took_s, 3), "signs": sorted(signs_of_trouble(page.text)), "links": dict(page.links)}


def _answer_of(question: SiteCheck, page: Page) -> str:
    if question.header:
        found = page.headers.get(question.header.lower())
        if found is None:
            raise ValueError(f"the answer has no header {question.header}")
        return found
    if not question.pointer:
        return page.text
    value = json_at(json.loads(page.text), question.pointer)
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _look_at_log(site: Site, question: SiteCheck, before: Remembered | None) -> Reply:
    """Before, the kinds of errors that are usual and how far the log goes; after, what is new behind that."""
    path = site.resolve(site.filled(question.log))
    pattern = re.compile(question.pattern or _ERRORS)
    if before is None or "size" not in before:
        number, size, lines = _lines_from(path, None)
        usual = sorted({_kind(line) for line in lines if pattern.search(line)})[:_LOG_KINDS]
        seen = count_of(len(usual), "kind of error", "kinds of errors")
        return Reply(is_good=True, saw=f"{seen} in it", kept={"number": number, "size": size, "usual": usual})
    number, size, lines = _lines_from(path, before)
    new = _new_errors(lines, pattern, before["usual"])
    kept = {"number": number, "size": size, "usual": before["usual"]}
    if not new:
        return Reply(is_good=True, saw="no error that was not there before", kept=kept)
    saw = f"{count_of(len(new), 'line')} of errors that were not there before: {masked_line(new[0].strip())[:120]}"
    return Reply(is_good=False, saw=saw, kept=kept)


def _new_errors(lines: Sequence[str], pattern: re.Pattern[str], usual: Collection[str]) -> list[str]:
    known = set(usual)
    return [line for line in lines if pattern.search(line) and _kind(line) not in known]


def _kind(line: str) -> str:
    """A line without what is another each time: numbers, times, identifiers."""
    return _VARYING.sub("#", line.strip())[:300]


def _lines_from(path: Path, before: Remembered | None) -> tuple[int, int, list[str]]:
    """(the file's number, its size, its last lines); with `before`, those behind it. A missing log has no lines yet."""
    status = nolinks.status_or_none(nolinks.trusted(path))
    if status is None:
        return 0, 0, []
    with os.fdopen(nolinks.open_regular(nolinks.trusted(path)), "rb") as stream:
        found = os.fstat(stream.fileno())
        begin = 0
        if before is not None and before["number"] == found.st_ino and before["size"] <= found.st_size:
            begin = int(before["size"])
        stream.seek(max(begin, found.st_size - _LOG_BYTES))
        text = stream.read(_LOG_BYTES).decode(errors="replace")
    return found.st_ino, found.st_size, text.splitlines()
