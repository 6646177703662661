"""The formats of settings files that are built, by their names in the site file. The only place that makes one."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.ini import IniSettings
from yellow_ladder.settings.port import SettingsText

FORMATS: Mapping[str, Callable[[str, str], SettingsText]] = {"ini": IniSettings}


def read_settings(text: str, form: str, name: str) -> SettingsText:
    """Parse a settings file; `name` stands in messages. Raises BadInput where it is not of that format."""
    return FORMATS[form](text, name)


def read_settings_file(path: Path, form: str, name: str = "") -> SettingsText:
    """Read a settings file from disk; raises BadInput where it is not of that format or no text, and OSError."""
    name = name or str(path)
    return read_settings(decoded(read_regular(path), name), form, name)


def decoded(raw: bytes, name: str) -> str:
    """The bytes of a settings file as text; raises BadInput where they are no UTF-8."""
    try:
        return raw.decode()
    except UnicodeDecodeError as fault:
        text = f"the settings file {name} is not UTF-8 text (byte {fault.start})"
        raise BadInput(Problem("settings-broken", text, "save it as UTF-8", name)) from fault
