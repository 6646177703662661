"""`[[checks]]`: questions of the site's own. Key by key in docs/site-file.md."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import PageUrl, PatternText, Seconds, TreePath

_PAGE_ONLY = ("method", "headers", "form", "form_page", "json_body", "session", "status", "leads_to", "header",
              "pointer", "contains", "lacks", "links", "times")  # fmt: skip
HttpStatus = Annotated[int, Field(ge=100, le=599)]


class SiteCheck(Record):
    """A question asked by query, page or command, or a log to be looked at."""

    name: str = Field(min_length=1, max_length=60)
    query: str = ""
    database: str = "main"
    files_in: TreePath | Literal[""] = ""
    unnamed_files: bool = False
    url: PageUrl = ""
    command: list[str] = []
    log: str = ""
    method: Literal["", "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"] = ""
    headers: dict[str, str] = {}
    form: dict[str, str] = {}
    form_page: str = ""
    json_body: dict[str, Any] | list[Any] | None = None
    session: str = ""
    status: HttpStatus | list[HttpStatus] = 200
    leads_to: str = ""
    header: str = ""
    pointer: str = Field(default="", pattern=r"^(/.*)?$")
    contains: list[str] = []
    lacks: list[str] = []
    links: bool = False
    times: float | None = Field(default=None, gt=1, le=1000)
    until_s: Annotated[float, Field(ge=0, le=3_600)] = 0.0
    pattern: PatternText = ""
    wanted: str = ""
    as_before: bool = False
    level: Literal["stop", "warn"] = "stop"
    when: Literal["before", "both", "after", "opened"] = "before"
    remedy: str = ""
    within_s: Seconds = 10.0
    as_user: str = ""

    @property
    def statuses(self) -> tuple[int, ...]:
        """The HTTP statuses that are right."""
        return tuple(self.status) if isinstance(self.status, list) else (self.status,)

    @property
    def is_asked_after(self) -> bool:
        """Whether it is asked again when the climb is done."""
        return self.when != "before"

    @model_validator(mode="after")
    def _complete(self) -> SiteCheck:
        if sum(map(bool, (self.query, self.url, self.command, self.log))) != 1:
            raise ValueError("needs exactly one of `query`, `url`, `command` and `log`")
        self._files_complete()
        if self.query and not (self.wanted or self.pattern or self.as_before or self.files_in):
            raise ValueError('with a query needs `wanted` (like "0"), `pattern`, `as_before` or `files_in`')
        if not self.url:
            given = sorted(self.model_fields_set.intersection(_PAGE_ONLY))
            if given:
                raise ValueError(f"has `{given[0]}`, which goes with `url`")
        if self.log and (self.when not in ("after", "opened") or self.wanted or self.as_before):
            text = 'with a log needs when = "after" or "opened": its new errors are told, and nothing else is wanted'
            raise ValueError(text)
        if (self.as_before or self.times) and not self.is_asked_after:
            raise ValueError('compares with before: give it when = "both", "after" or "opened"')
        return self._page_complete()

    def _files_complete(self) -> None:
        if not self.files_in:
            if self.unnamed_files:
                raise ValueError("has `unnamed_files`, which goes with `files_in`")
            return
        if not self.query:
            raise ValueError("has `files_in`, which goes with a `query` for the names of files in it")
        if self.wanted or self.pattern:
            raise ValueError(
                "has `files_in`: what is wanted is that the files are there; leave out `wanted` and `pattern`"
            )

    def _page_complete(self) -> SiteCheck:
        bodies = [word for word in ("form", "json_body") if word in self.model_fields_set]
        if len(bodies) > 1:
            raise ValueError("sends `form` or `json_body`, not both")
        if bodies and self.method in ("GET", "HEAD"):
            raise ValueError(f"sends `{bodies[0]}`, which {self.method} cannot")
        if self.form_page and not self.form:
            raise ValueError("has `form_page`, whose hidden fields go along with `form`")
        if self.header and self.pointer:
            raise ValueError("takes its answer from `header` or from `pointer`, not both")
        if self.links and self.session:
            raise ValueError("has `links`, which are followed as a visitor without cookies: leave out `session`")
        return self
