"""What a release sheet says of settings: `[[settings]]`. Key by key in docs/release-sheet.md."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import ArithmeticText, SettingsKey, TreePath


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


class SettingsChanges(Record):
    """`[[settings]]`: what happens to one settings file; `file` is its path in the new tree."""

    designed = {
        "converter": "a vendor's own converter",
    }
    file: TreePath
    shipped: TreePath | Literal[""] = ""
    renamed: list[KeyRename] = []
    moved: list[KeyMoved] = []
    converted: list[Converted] = []
    defaults_changed: list[DefaultChanged] = []
    added: list[KeyAdded] = []
    retired: list[KeyRetired] = []
