"""What becomes of each key, in words that may be shown and written down: values that sound like secrets are masked."""

from __future__ import annotations

import difflib
from collections.abc import Collection

from yellow_ladder.masking import MASK, masked_line, sounds_secret
from yellow_ladder.settings.forecast import FileForecast, Forecast, Told
from yellow_ladder.settings.judge import KeyNote
from yellow_ladder.settings.merging.outcomes import Fate, Outcome
from yellow_ladder.settings.words import REQUIRED

_LONGEST = 60


def notes_of(forecast: Forecast, secret_files: Collection[str] = ()) -> tuple[KeyNote, ...]:
    """One note for each key of which there is something to say. No value of `secret_files` is told."""
    return tuple(note_of(one, secret=one.file in secret_files) for one in forecast.told)


def patch_of(file: FileForecast, last: str, path: str) -> bytes:
    """The change of one file as a patch; `path` is where it lies in the end."""
    # A byte is a sign here, whatever the encoding: the patch has the bytes of the files.
    old, new = (
        [line.decode("latin-1") for line in raw.splitlines(keepends=True)] for raw in (file.before, file.after[last])
    )
    before = "/dev/null" if file.is_new else f"a/{file.file.lstrip('/')}"
    lines = difflib.unified_diff(old, new, before, f"b/{path.lstrip('/')}")
    whole = (line if line.endswith("\n") else line + "\n\\ No newline at end of file\n" for line in lines)
    return "".join(whole).encode("latin-1", errors="replace")


def note_of(told: Told, *, secret: bool = False) -> KeyNote:
    """What becomes of one key at one release."""
    one = told.outcome
    return KeyNote(told.file, told.version, one.fate, one.key, one.old_key, detail_of(one, secret=secret), one.took)


def detail_of(one: Outcome, *, secret: bool = False) -> str:
    """The outcome in a few words."""
    base, mine, new, result = (
        shown(one.key, value, secret=secret) for value in (one.sides.base, one.sides.mine, one.sides.new, one.result)
    )
    match one.fate:
        case Fate.FOLLOWS:
            return f"{mine or 'not set'} → {result}" + _decided(one)
        case Fate.NEW:
            why = "" if one.why == REQUIRED else one.why
            return "; ".join(filter(None, (f"default: {result}" if result else "", why)))
        case Fate.CONFLICT:
            return f"yours: {mine or 'taken out'}; the release: {base or 'not set'} → {new or 'taken out'}"
        case Fate.GONE:
            return one.why or "the release has it no more"
        case Fate.LEFT_OUT:
            return "you took it out; it stays out"
        case Fate.KEPT:
            return _kept(one, mine, new, result) + _decided(one)
        case _:
            return one.why


def _kept(one: Outcome, mine: str, new: str, result: str) -> str:
    if one.why:
        return f"{result}; {one.why}" if result else one.why
    if one.sides.new is None:
        return f"{result}; not in the release" if one.sides.base is None else result
    return f"{result}; the release: {new}" if new != mine else result


def _decided(one: Outcome) -> str:
    return {"mine": " (decided: yours)", "new": " (decided: the release's)", "value": " (decided)"}.get(one.took, "")


def shown(key: str, value: str | None, *, secret: bool = False) -> str:
    """A value for people: one line, not too long, and no secret."""
    if value is None:
        return ""
    if secret or sounds_secret(key):
        return MASK
    lines = value.strip().splitlines()
    first = masked_line(lines[0].strip()) if lines else '""'
    cut = first if len(first) <= _LONGEST else first[: _LONGEST - 1] + "…"
    return cut + (f" (and {len(lines) - 1} more lines)" if len(lines) > 1 else "")
