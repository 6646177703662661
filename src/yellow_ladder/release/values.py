"""Values that stand in sheets and site files alike, checked where they come in."""

from __future__ import annotations

import re
from pathlib import PurePosixPath
from typing import Annotated

from pydantic import AfterValidator, Field

from yellow_ladder.release.arithmetic import check_arithmetic
from yellow_ladder.release.versions import Version, parse_range


def _tree_path(text: str) -> str:
    path = PurePosixPath(text)
    if not text or path.is_absolute() or ".." in path.parts or str(path) != text or text == ".":
        raise ValueError("should be a plain path below the application's folder, like config/app.ini")
    return text


def _data_path(text: str) -> str:
    if not text.startswith("/"):
        return _tree_path(text)
    path = PurePosixPath(text)
    if ".." in path.parts or len(path.parts) == 1:
        raise ValueError("should be a path below the application's folder, or the whole path of what lies elsewhere")
    return str(path)


def _page_url(text: str) -> str:
    if text and not text.startswith(("http://", "https://")):
        raise ValueError("should be the address of a page, like http://127.0.0.1:8080/")
    return text


def _version(text: str) -> str:
    Version(text)
    return text


def _range(text: str) -> str:
    parse_range(text)
    return text


def _version_or_range(text: str) -> str:
    if not text or text[0] in "<>=!~":
        return _range(text)
    return f"=={_version(text)}"


def _column(text: str) -> str:
    if text.count(".") != 1 or not all(text.split(".")):
        raise ValueError("should be written with one dot, like table.column or section.key")
    return text


def _pattern(text: str) -> str:
    try:
        re.compile(text)
    except re.error as fault:
        raise ValueError(f"is no regular expression: {fault}") from fault
    return text


def _settings_key(text: str) -> str:
    if not text.strip() or text.startswith(".") or text.endswith(".") or "\n" in text:
        raise ValueError("should be a settings key, with dots between what it lies in, like section.key")
    return text


TreePath = Annotated[str, AfterValidator(_tree_path)]
DataPath = Annotated[str, AfterValidator(_data_path)]  # a tree path, or the whole path of what lies elsewhere
VersionText = Annotated[str, AfterValidator(_version)]
RangeText = Annotated[str, AfterValidator(_range)]
RungsText = Annotated[str, AfterValidator(_version_or_range)]
DottedName = Annotated[str, AfterValidator(_column)]
SettingsKey = Annotated[str, AfterValidator(_settings_key)]
ArithmeticText = Annotated[str, AfterValidator(lambda text: check_arithmetic(text) if text else text)]
PatternText = Annotated[str, AfterValidator(_pattern)]
PageUrl = Annotated[str, AfterValidator(_page_url)]
Argv = Annotated[list[str], Field(min_length=1)]
Seconds = Annotated[float, Field(gt=0, le=86_400)]
