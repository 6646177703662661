"""Asks pages as a visitor would: with headers, forms, JSON and the cookies of a session; and the links of a page."""

from __future__ import annotations

import re
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from html.parser import HTMLParser
from typing import TYPE_CHECKING, Any
from urllib.parse import urljoin, urlsplit

from yellow_ladder import web
from yellow_ladder.site.questions import SiteCheck
from yellow_ladder.survey.probes import LARGEST_ANSWER_BYTES

if TYPE_CHECKING:
    import httpx

_MOST_LINKS = 200
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_REFUSED = 400
_SIGNS = re.compile(
    r"(?i)\b(traceback|stack ?trace|fatal error|parse error|syntax error|uncaught \w+|unhandled exception"
    r"|\w+exception\b|internal server error|database error|sqlstate|undefined (?:variable|index|method|function)"
    r"|warning: .{0,80} on line|something went wrong)"
)
_LINKS = {"a": "href", "img": "src", "script": "src", "link": "href", "iframe": "src", "source": "src"}


@dataclass(frozen=True, slots=True)
class Page:
    """What came back: how long it took, and what its links answered, by path."""

    status: int
    headers: Mapping[str, str]
    text: str
    took_s: float
    links: Mapping[str, int] = field(default_factory=dict)

    @property
    def leads_to(self) -> str:
        """Where a redirect leads; nothing where it is none."""
        return self.headers.get("location", "")


class Visitor:
    """Asks pages one after the other; questions of one session share their cookies."""

    def __init__(self, variables: Mapping[str, str]) -> None:
        """Begin without cookies; `variables` are what `{env.NAME}` stands for."""
        self._variables = variables
        self._sessions: dict[str, httpx.Cookies] = {}

    def put_in(self, text: str) -> str:
        """A text with the values of the site's environment; raises ValueError for a name that it does not have."""

        def value(found: re.Match[str]) -> str:
            if found[1] not in self._variables:
                raise ValueError(f"the site's environment has no {found[1]}, see [environment]")
            return self._variables[found[1]]

        return re.sub(r"\{env\.([A-Za-z_][A-Za-z0-9_]*)\}", value, text)

    def ask(self, question: SiteCheck, url: str) -> Page:
        """Ask a page. Redirects are not followed. Raises ValueError for an answer that is too large."""
        cookies = self._sessions.setdefault(question.session, web.cookies()) if question.session else web.cookies()
        headers = {name: self.put_in(value) for name, value in question.headers.items()}
        with web.client(timeout=question.within_s, cookies=cookies, headers=headers) as client:
            given: dict[str, Any] = {}
            if question.form:
                hidden = self._hidden_fields(client, question, url) if question.form_page else {}
                given["data"] = {**hidden, **{name: self.put_in(value) for name, value in question.form.items()}}
            elif question.json_body is not None:
                given["json"] = _each_text(question.json_body, self.put_in)
            method = question.method or ("POST" if given else "GET")
            page = _answer(client, method, self.put_in(url), given)
            links = _ask_links(client, str(page[0]), page[1].text) if question.links else {}
            if question.session:
                self._sessions[question.session] = _kept(client.cookies, url)
        found = page[1]
        return Page(found.status, found.headers, found.text, found.took_s, links)

    def _hidden_fields(self, client: httpx.Client, question: SiteCheck, url: str) -> dict[str, str]:
        """What a browser would send along: the hidden fields of the form that has the first of the fields given."""
        where = urljoin(url, self.put_in(question.form_page))
        reader = _Forms()
        reader.feed(_answer(client, "GET", where, {})[1].text)
        _kept(client.cookies, url)
        client.headers["Referer"] = where
        first = next(iter(question.form))
        hidden = next((one.hidden for one in reader.forms if first in one.names), None)
        if hidden is None:
            raise ValueError(f"{where} has no form with a field {first}")
        return hidden


def signs_of_trouble(text: str) -> set[str]:
    """Words by which a page tells that it is one of errors, whatever its status."""
    return {found.group(1).lower() for found in _SIGNS.finditer(text)}


def _answer(client: httpx.Client, method: str, url: str, given: Mapping[str, Any]) -> tuple[httpx.URL, Page]:
    begun = time.monotonic()
    with client.stream(method, url, **given) as response:
        body = b""
        for block in response.iter_bytes():
            body += block
            if len(body) > LARGEST_ANSWER_BYTES:
                raise ValueError("the answer is larger than a megabyte")
        text = body.decode(response.encoding or "utf-8", errors="replace")
        took_s = time.monotonic() - begun
        return response.url, Page(response.status_code, dict(response.headers), text, took_s)


def _kept(cookies: httpx.Cookies, url: str) -> httpx.Cookies:
    """The cookies of a session. Within this machine, those for encrypted connections alone are sent all the same."""
    if urlsplit(url).hostname in _LOOPBACK:
        for one in cookies.jar:
            one.secure = False
    return cookies


def _each_text(value: Any, change: Any) -> Any:
    if isinstance(value, str):
        return change(value)
    if isinstance(value, list):
        return [_each_text(one, change) for one in value]
    return {name: _each_text(one, change) for name, one in value.items()} if isinstance(value, dict) else value


def _ask_links(client: httpx.Client, base: str, text: str) -> dict[str, int]:
    """What each link of a page within its own server answers to a visitor without cookies; 0 where nothing came."""
    reader = _Links()
    reader.feed(text)
    here, found = urlsplit(base), dict[str, int]()
    for link in reader.links:
        there = urlsplit(urljoin(base, link))
        path = there.path + (f"?{there.query}" if there.query else "")
        if (there.scheme, there.netloc) != (here.scheme, here.netloc) or path in found:
            continue
        if len(found) == _MOST_LINKS:
            break
        client.cookies.clear()
        try:
            with client.stream("GET", there._replace(fragment="").geturl()) as response:
                found[path] = response.status_code
        except web.faults():
            found[path] = 0
    return found


def is_broken(status: int) -> bool:
    """Whether a link that answers this leads nowhere."""
    return not status or status >= _REFUSED


class _Links(HTMLParser):
    """Gathers what a page leads to."""

    def __init__(self) -> None:
        """Begin with none."""
        super().__init__()
        self.links: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Take a link."""
        link = dict(attrs).get(_LINKS.get(tag, ""))
        if link and not link.startswith(("#", "mailto:", "tel:", "data:", "javascript:")):
            self.links.append(link)


@dataclass(slots=True)
class _Form:
    """The fields of a form."""

    names: set[str] = field(default_factory=set)
    hidden: dict[str, str] = field(default_factory=dict)


class _Forms(HTMLParser):
    """Gathers the forms of a page."""

    def __init__(self) -> None:
        """Begin with none."""
        super().__init__()
        self.forms: list[_Form] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """Take a form, or a field of the last one."""
        given = dict(attrs)
        if tag == "form":
            self.forms.append(_Form())
        elif tag in ("input", "select", "textarea", "button") and self.forms and (name := given.get("name")):
            self.forms[-1].names.add(name)
            if (given.get("type") or "").lower() == "hidden":
                self.forms[-1].hidden[name] = given.get("value") or ""
