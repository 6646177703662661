"""What belongs to the site and is carried across, as the site file names it."""

from __future__ import annotations

import functools
from typing import Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.files.entry import within
from yellow_ladder.release.values import DataPath, RangeText, TreePath
from yellow_ladder.site.values import CacheText, EncodingText, OutsidePath


class SettingsFile(Record):
    """`[[keep.settings]]`: one settings file of the site."""

    file: DataPath
    format: Literal[
        "", "ini", "unit", "git", "properties", "env", "shell", "conf", "angles", "braces", "toml", "yaml", "json",
        "jsonc", "xml", "php", "javascript", "python", "ruby", "perl", "lines",
    ] = ""  # fmt: skip
    encoding: EncodingText = ""
    shipped: TreePath | Literal[""] = ""
    shipped_by: list[str] = []
    on_conflict: Literal["ask", "mine", "new"] = "ask"
    keys: dict[str, Literal["mine", "new"]] = {}

    @property
    def in_release(self) -> str:
        """The path that releases know it by: its own, and for one outside root what the site file says."""
        return self.shipped if self.shipped and self.file.startswith("/") else self.file

    @property
    def shipped_name(self) -> str:
        """The path, in a folder of its own, of what a release's program writes as its default."""
        return self.shipped or self.file.rpartition("/")[2] if self.file.startswith("/") else self.shipped or self.file


class ReplacedFile(Record):
    """`[[keep.replaced]]`: a file of the site's own that a release no longer accepts, and what stands in for it."""

    file: TreePath
    by: str = Field(min_length=1)
    for_: RangeText = Field(alias="for")


@functools.lru_cache(maxsize=64)  # asked for every file
def _parted(data: tuple[str, ...], logs: tuple[str, ...]) -> tuple[list[str], list[str]]:
    """Data, and logs in none of it: what lies below root, and what lies elsewhere."""
    every = [*data, *(path for path in logs if not within(path, data))]
    return [one for one in every if not one.startswith("/")], [one for one in every if one.startswith("/")]


class Keep(Record):
    """`[keep]`: what belongs to the site and is carried across."""

    settings: list[SettingsFile] = []
    templates: list[TreePath] = []
    replaced: list[ReplacedFile] = []
    data: list[DataPath] = []
    logs: list[DataPath] = []
    assets: list[TreePath] = []
    addons: list[TreePath] = []
    keys: list[TreePath] = []
    licences: list[TreePath] = []
    outside: list[OutsidePath] = []
    shared_with: list[TreePath] = []
    left_out: list[TreePath] = []
    caches: list[CacheText] = ["__pycache__"]
    unclaimed: Literal["stop", "carry", "leave"] = "stop"
    edited: Literal["stop", "replace"] = "stop"

    @property
    def merged(self) -> list[SettingsFile]:
        """Every file that is merged: settings, and line by line templates and what something prepared replaces."""
        by_lines = [*self.templates, *(one.file for one in self.replaced)]
        return [*self.settings, *(SettingsFile(file=path, format="lines") for path in by_lines)]

    @model_validator(mode="after")
    def _names_each_once(self) -> Keep:
        files = [one.file for one in self.merged]
        twice = sorted({one for one in files if files.count(one) > 1})
        if twice:
            raise ValueError(f"names {twice[0]} twice among settings, templates and replaced")
        return self

    @property
    def settings_elsewhere(self) -> list[str]:
        """Settings files outside root, by their whole paths."""
        return [one.file for one in self.settings if one.file.startswith("/")]

    @property
    def data_paths(self) -> list[str]:
        """What is renamed into the new tree: data folders, and logs that lie in none of them."""
        return _parted(tuple(self.data), tuple(self.logs))[0]

    @property
    def data_elsewhere(self) -> list[str]:
        """The same of what lies outside root and stays where it is, by its whole path as it is written."""
        return _parted(tuple(self.data), tuple(self.logs))[1]
