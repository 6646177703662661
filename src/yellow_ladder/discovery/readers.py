"""Reads settings files of the common formats into flat keys and values, without running any of them."""

from __future__ import annotations

import configparser
import json
import re
import tomllib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from yellow_ladder.files.reading import read_regular

LARGEST_BYTES = 256 * 1024
_MOST_PAIRS, _DEEPEST = 2_000, 12
Pairs = list[tuple[str, str]]

_ENV_LINE = re.compile(r"^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_.]*)\s*=\s*(.*?)\s*$")
_QUOTED = r"""(?:'((?:[^'\\]|\\.)*)'|"((?:[^"\\]|\\.)*)")"""
_PHP = (
    re.compile(rf"""define\s*\(\s*['"]([A-Za-z0-9_]+)['"]\s*,\s*{_QUOTED}"""),
    re.compile(rf"""\$(\w+(?:->\w+|\[\s*['"]\w+['"]\s*\])*)\s*=\s*{_QUOTED}\s*;"""),
    re.compile(rf"""['"](\w+)['"]\s*=>\s*{_QUOTED}"""),
)


def read_settings(path: Path) -> Pairs:
    """Keys with their values, dotted where the format nests; nothing for a file that is no settings file.

    Values are for looking only: mask secrets before you show or write one.
    """
    reader = _reader_of(path)
    if reader is None:
        return []
    try:
        raw = read_regular(path, LARGEST_BYTES + 1, cut=True)
        if len(raw) > LARGEST_BYTES or b"\0" in raw:
            return []
        return reader(raw.decode())[:_MOST_PAIRS]
    except (OSError, UnicodeDecodeError, ValueError, configparser.Error, RecursionError):
        return []


def _reader_of(path: Path) -> Callable[[str], Pairs] | None:
    if path.name == ".env" or path.name.startswith(".env.") or path.suffix in (".env", ".properties"):
        return _read_env
    return _READERS.get(path.suffix.lower())


def _read_ini(text: str) -> Pairs:
    parser = configparser.ConfigParser(interpolation=None, strict=False, allow_no_value=True)
    try:
        parser.read_string(text)
    except configparser.MissingSectionHeaderError:
        return _read_env(text)
    return [
        (f"{section}.{key}", value or "") for section in parser.sections() for key, value in parser[section].items()
    ]


def _read_env(text: str) -> Pairs:
    found = []
    for line in text.splitlines():
        match = None if line.lstrip().startswith(("#", ";")) else _ENV_LINE.match(line)
        if match:
            value = match[2]
            if len(value) > 1 and value[0] == value[-1] and value[0] in "'\"":
                value = value[1:-1]
            found.append((match[1], value))
    return found


def _read_toml(text: str) -> Pairs:
    return list(_flattened(tomllib.loads(text)))


def _read_json(text: str) -> Pairs:
    return list(_flattened(json.loads(text)))


def _read_yaml(text: str) -> Pairs:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import YAMLError

    try:
        return list(_flattened(YAML(typ="safe", pure=True).load(text)))
    except YAMLError:
        return []


def _read_php(text: str) -> Pairs:
    parts = text.split("/*")
    text = parts[0] + "".join(part.partition("*/")[2] for part in parts[1:])
    text = re.sub(r"^[ \t]*(?://|#).*$", "", text, flags=re.MULTILINE)
    found = []
    for pattern in _PHP:
        for match in pattern.finditer(text):
            key = re.sub(r"->|\[\s*['\"]", ".", match[1]).replace("']", "").replace('"]', "").replace("]", "")
            value = match[2] if match[2] is not None else match[3]
            found.append((key, re.sub(r"\\(.)", r"\1", value or "")))
    return found


def _flattened(document: Any) -> Iterator[tuple[str, str]]:
    """Leaves with dotted keys; a document that repeats itself through aliases comes to an end too."""
    left = _MOST_PAIRS
    pending: list[tuple[str, Any, int]] = [("", document, 0)]
    while pending and left:
        key, value, depth = pending.pop(0)
        if isinstance(value, dict | list) and depth < _DEEPEST:
            inner = value.items() if isinstance(value, dict) else enumerate(value)
            room = max(0, _MOST_PAIRS * 2 - len(pending))
            pending += [(f"{key}.{name}" if key else str(name), one, depth + 1) for name, one in list(inner)[:room]]
        elif isinstance(value, str | int | float) and not isinstance(value, bool):
            left -= 1
            yield key, str(value)


_READERS: dict[str, Callable[[str], Pairs]] = {
    ".ini": _read_ini, ".cfg": _read_ini, ".conf": _read_ini, ".toml": _read_toml, ".json": _read_json,
    ".yaml": _read_yaml, ".yml": _read_yaml, ".php": _read_php, ".inc": _read_php,
}  # fmt: skip
