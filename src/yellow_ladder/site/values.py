"""Values of the site file's keys, checked as they are read."""

from __future__ import annotations

import codecs
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, TypeAdapter

from yellow_ladder.release.values import DataPath

_a_path: TypeAdapter[str] = TypeAdapter(DataPath)
NAME_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"


def _outside_path(text: str) -> str:
    if not Path(text).is_absolute() or ".." in Path(text).parts:
        raise ValueError("should be an absolute path")
    return text


def _mode(text: str) -> str:
    if len(text) not in (3, 4) or any(digit not in "01234567" for digit in text):
        raise ValueError('should be an octal mode in quotes, like "0640"')
    return text


def _file_mode(text: str) -> str:
    if int(_mode(text), 8) & 0o7000:
        raise ValueError("should be permission bits alone, without set-id or sticky bits")
    return text


def _encoding(text: str) -> str:
    if text:
        try:
            codecs.lookup(text)
        except LookupError as fault:
            raise ValueError("is no encoding that is known here") from fault
    return text


def _cache(text: str) -> str:
    if "/" not in text:
        return text
    if any(one in text for one in "*?["):
        raise ValueError("should be a pattern of names, like `*.sock`, or a path without wildcards, like `data/cache`")
    return _a_path.validate_python(text)


OutsidePath = Annotated[str, AfterValidator(_outside_path)]


CacheText = Annotated[str, AfterValidator(_cache)]
ModeText = Annotated[str, AfterValidator(_mode)]
FileModeText = Annotated[str, AfterValidator(_file_mode)]
EncodingText = Annotated[str, AfterValidator(_encoding)]
