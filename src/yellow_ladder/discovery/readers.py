"""Reads settings files into flat keys and values for looking, without running any of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.document import Document, form_named
from yellow_ladder.settings.script import read_script
from yellow_ladder.settings.tree import Broken

LARGEST_BYTES = 256 * 1024
_MOST_PAIRS = 2_000
_ENDINGS = {
    ".ini", ".cfg", ".cnf", ".conf", ".config", ".toml", ".json", ".jsonc", ".yaml", ".yml", ".php", ".inc", ".xml",
    ".properties", ".env", ".py", ".js", ".cjs", ".mjs", ".rb", ".pl", ".pm", ".sh",
}  # fmt: skip
_CODE = {".py", ".js", ".cjs", ".mjs", ".rb", ".pl", ".pm", ".php", ".inc", ".sh", ".xml"}
Pairs = list[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class FoundSettings:
    """What a file sets. `is_code`: most files of its kind are the application's own, and no settings; `is_plain`:
    there is little else in it than what it sets.
    """

    pairs: Pairs
    form: str = ""
    is_code: bool = False
    is_plain: bool = True


def read_settings(path: Path, *, is_told: bool = False) -> FoundSettings:
    """Keys with their values, dotted where the format nests; nothing for a file that is no settings file. One that
    something has told of may be called anything.

    Values are for looking only: mask secrets before you show or write one.
    """
    is_any = is_told and not path.suffix
    if path.suffix.lower() not in _ENDINGS and not path.name.startswith(".env") and not is_any:
        return FoundSettings([])
    try:
        raw = read_regular(path, LARGEST_BYTES + 1, cut=True)
        if len(raw) > LARGEST_BYTES:
            return FoundSettings([])
        text, _ = read_script(raw)
        document = Document(raw, form_named("", path.name, text))
    except (OSError, Broken, RecursionError):
        return FoundSettings([])
    pairs = list(document.values().items())[:_MOST_PAIRS]
    other = sum(len(part.value or "") for part in document.root.children if part.opaque)
    return FoundSettings(pairs, document.form.name, path.suffix.lower() in _CODE, other * 2 <= len(text))
