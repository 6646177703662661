"""How users are shut out and let in again: `[maintenance]` of the site file."""

from __future__ import annotations

from pydantic import model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import PageUrl, PatternText, Seconds, SettingsKey, TreePath


class ClosedPage(Record):
    """`[maintenance.closed]`: a page that tells that users are shut out."""

    url: PageUrl
    status: int = 503
    pattern: PatternText = ""
    within_s: Seconds = 10.0


class ClosingKey(Record):
    """`[maintenance.setting]`: a settings key that closes the site."""

    file: TreePath
    key: SettingsKey
    closed: str = "true"
    open: str = "false"


class Maintenance(Record):
    """`[maintenance]`: how users are shut out and let in again."""

    flag: str = ""
    setting: ClosingKey | None = None
    message: str = "The site is being upgraded and will be back shortly."
    close: list[str] = []
    open: list[str] = []
    as_user: str = ""
    closed: ClosedPage | None = None

    @model_validator(mode="after")
    def _one_way(self) -> Maintenance:
        ways = [bool(self.flag), self.setting is not None, bool(self.close)]
        if ways.count(True) != 1 or bool(self.close) != bool(self.open):
            raise ValueError("needs one of `flag`, `setting`, and both `close` and `open`")
        return self
