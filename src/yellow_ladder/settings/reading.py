"""Reads settings files from disk, with faults told as the problems of their files."""

from __future__ import annotations

from pathlib import Path

from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.document import Document, form_named
from yellow_ladder.settings.script import read_script
from yellow_ladder.settings.tree import Broken

_REMEDY = 'correct it there, or have it read by lines: format = "lines" in keep.settings'


def read_settings(raw: bytes, form: str, file: str, name: str = "", encoding: str = "") -> Document:
    """Read the bytes of a settings file; `form` may be empty, then it is found out by `file` and content. `name` stands
    in messages. Raises BadInput where it cannot be read.
    """
    try:
        text, _ = read_script(raw, encoding)
        return Document(raw, form_named(form, file, text), encoding)
    except Broken as fault:
        raise unreadable(name or file, form, fault) from fault


def unreadable(name: str, form: str, fault: Broken) -> BadInput:
    """The error for a settings file that cannot be read as what it is."""
    what = f" as {form.upper() if len(form) < 5 else form}" if form else ""
    return BadInput(
        Problem("settings-broken", f"the settings file {name} cannot be read{what}: {fault}", _REMEDY, name)
    )


def read_settings_file(path: Path, form: str, name: str = "", encoding: str = "") -> Document:
    """Read a settings file from disk; raises BadInput where it is not of that format or no text, and OSError."""
    return read_settings(read_regular(path), form, name or path.name, name or str(path), encoding)
