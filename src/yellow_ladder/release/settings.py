"""What a release sheet says of settings: `[[settings]]`. Key by key in docs/release-sheet.md."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import Argv, ArithmeticText, PatternText, RangeText, Seconds, SettingsKey, TreePath


class KeyRename(Record):
    """A settings key under its old and its new name, written section.key."""

    from_: SettingsKey = Field(alias="from")
    to: SettingsKey


class KeyAdded(Record):
    """A settings key that the release requires, with its default."""

    key: SettingsKey
    value: str
    comment: str = ""


class KeyRetired(Record):
    """A settings key that the release no longer accepts."""

    key: SettingsKey
    why: str = ""


class KeyMoved(Record):
    """A settings key that lies in another file from now on."""

    from_: SettingsKey = Field(alias="from")
    file: TreePath
    to: SettingsKey


class DefaultChanged(Record):
    """An old default that becomes a new one wherever it was not changed; for files that a release does not ship."""

    key: SettingsKey
    from_: str = Field(alias="from")
    to: str


class Converted(Record):
    """A value that is written otherwise now: by a table of `values`, or by arithmetic on `value`."""

    key: SettingsKey
    values: dict[str, str] = {}
    by: ArithmeticText = ""

    @model_validator(mode="after")
    def _one_way(self) -> Converted:
        if bool(self.values) == bool(self.by):
            raise ValueError("needs one of `values` and `by`")
        return self


class KeySplit(Record):
    """A value that stands in several keys from now on: each group of `pattern` is the value of one of `into`."""

    key: SettingsKey
    into: Annotated[list[SettingsKey], Field(min_length=2)]
    pattern: PatternText

    @model_validator(mode="after")
    def _has_a_group_for_each(self) -> KeySplit:
        if re.compile(self.pattern).groups != len(self.into):
            raise ValueError("has a `pattern` that needs one group in parentheses for each key of `into`")
        return self


class KeysJoined(Record):
    """Values of several keys that stand in one from now on; `{1}` of `written` is the value of the first."""

    keys: Annotated[list[SettingsKey], Field(min_length=2)]
    to: SettingsKey
    written: str

    @model_validator(mode="after")
    def _names_each(self) -> KeysJoined:
        named = set(re.findall(r"\{(\d+)\}", self.written))
        if named != {str(place) for place in range(1, len(self.keys) + 1)}:
            raise ValueError("has `written` that needs each of {1} to {%d} once or more" % len(self.keys))  # noqa: UP031
        return self


class SwitchedOff(Record):
    """A key that keeps new behaviour off until the site wants it."""

    key: SettingsKey
    value: str
    why: str = ""


class Converter(Record):
    """`[settings.converter]`: the vendor's own converter, run on a copy of the file in a folder of its own."""

    run: Argv
    files: list[TreePath] = []
    result: TreePath | Literal[""] = ""
    prints: bool = False
    within_s: Seconds = 60.0

    @model_validator(mode="after")
    def _one_result(self) -> Converter:
        if self.prints and self.result:
            raise ValueError("needs one of `result` and `prints`, or neither")
        return self


class SettingsChanges(Record):
    """`[[settings]]`: what happens to one settings file; `file` is its path in the new tree."""

    file: TreePath
    shipped: TreePath | Literal[""] = ""
    runtime: RangeText = ""
    converter: Converter | None = None
    split: list[KeySplit] = []
    joined: list[KeysJoined] = []
    switched_off: list[SwitchedOff] = []
    renamed: list[KeyRename] = []
    moved: list[KeyMoved] = []
    converted: list[Converted] = []
    defaults_changed: list[DefaultChanged] = []
    added: list[KeyAdded] = []
    lists: dict[SettingsKey, Literal["set", "sequence"]] = {}
    retired: list[KeyRetired] = []
