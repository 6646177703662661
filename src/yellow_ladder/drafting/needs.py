"""What a release says that it needs of a language runtime, read out of the files that its packages carry."""

from __future__ import annotations

import contextlib
import json
import re
import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

_TOKEN = re.compile(r"(\^|~=|~>|~|>=|>|<=|<|==|=|)\s*v?(\d+(?:\.\d+)*)(?:\.[*x])?(?=[\s,]|$)")
_REQUIRES_PYTHON = re.compile(r"(?mi)^Requires-Python:\s*(.+)$")
Bounds = tuple[tuple[int, ...], tuple[int, ...] | None]


@dataclass(frozen=True, slots=True)
class Need:
    """A runtime that a release needs: where that is said, in whose words, and as a range (empty: not to be told)."""

    runtime: str
    file: str
    says: str
    range: str


def needs_in(texts: Mapping[str, str]) -> list[Need]:
    """What package files at the top of a tree say, each in its own way."""
    found = []
    for file, read in _READERS.items():
        if file in texts:
            with contextlib.suppress(ValueError, AttributeError, TypeError):
                found += [Need(runtime, file, says, as_range(says)) for runtime, says in read(texts[file])]
    return found


def modules_in(texts: Mapping[str, str]) -> list[str]:
    """Modules of the runtime that a release needs, by name, where its package file lists them."""
    with contextlib.suppress(ValueError, AttributeError, TypeError):
        required = json.loads(texts.get("composer.json", "{}")).get("require", {})
        return sorted(name.removeprefix("ext-") for name in required if name.startswith("ext-"))
    return []


def _composer(text: str) -> Iterator[tuple[str, str]]:
    says = json.loads(text).get("require", {}).get("php")
    if isinstance(says, str):
        yield "php", says


def _package(text: str) -> Iterator[tuple[str, str]]:
    says = json.loads(text).get("engines", {}).get("node")
    if isinstance(says, str):
        yield "node", says


def _pyproject(text: str) -> Iterator[tuple[str, str]]:
    says: Any = tomllib.loads(text).get("project", {}).get("requires-python")
    if isinstance(says, str):
        yield "python", says


def _pkg_info(text: str) -> Iterator[tuple[str, str]]:
    said = _REQUIRES_PYTHON.search(text)
    if said:
        yield "python", said[1].strip()


def _gemfile(text: str) -> Iterator[tuple[str, str]]:
    """Plain words alone: what is computed there cannot be told."""
    said = _RUBY.search(text)
    if said:
        yield "ruby", ", ".join(re.findall(r"""['"]([^'"]*)['"]""", said[1]))


_RUBY = re.compile(r"""(?m)^ruby\s*\(?((?:['"][^'"#]*['"]\s*,?\s*)+)\)?\s*$""")
_READERS = {
    "composer.json": _composer,
    "package.json": _package,
    "pyproject.toml": _pyproject,
    "PKG-INFO": _pkg_info,
    "Gemfile": _gemfile,
}


def as_range(text: str) -> str:
    """A range as release sheets write one, like `>=8.1,<9`; empty where the words say more than one range can."""
    parts = [_bounds(part.strip()) for part in re.split(r"\|\|?", text)]
    if any(part is None for part in parts):
        return ""
    low, high = (ordered := sorted(part for part in parts if part is not None))[0]
    for begin, end in ordered[1:]:
        if high is None:
            break
        if _without_zeros(begin) > _without_zeros(high):
            return ""
        high = end if end is None else max(high, end)
    return f">={_dotted(low)}" + (f",<{_dotted(high)}" if high is not None else "")


def _bounds(text: str) -> Bounds | None:
    """The lowest version that is in, and the first that is out again; None for what cannot be told."""
    low: tuple[int, ...] = (0,)
    high: tuple[int, ...] | None = None
    rest = text
    if not rest:
        return None
    while rest:
        token = _TOKEN.match(rest)
        if token is None:
            return None
        sign, version = token[1], tuple(int(part) for part in token[2].split("."))
        if sign in ("", "=", "=="):
            low, high = version, (*version[:-1], version[-1] + 1)
        elif sign == ">=":
            low = max(low, version)
        elif sign == "<":
            high = version if high is None else min(high, version)
        elif sign == "^":
            low, high = version, (version[0] + 1,)
        elif sign in ("~", "~>", "~="):
            low, high = version, (*version[:-2], version[-2] + 1) if len(version) > 1 else (version[0] + 1,)
        else:
            return None  # above or up to a version: its patches would need a word of their own
        rest = rest[token.end() :].lstrip(" ,")
    return low, high


def _without_zeros(version: tuple[int, ...]) -> tuple[int, ...]:
    """The same version as short as it can be written: 8 and 8.0 are one."""
    while version and version[-1] == 0:
        version = version[:-1]
    return version


def _dotted(version: tuple[int, ...]) -> str:
    return ".".join(map(str, version))
