"""Whether the site's settings are what was planned: pure, and each key is judged in its own file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellow_ladder.settings.merging.outcomes import Fate

Values = Mapping[str, Mapping[str, str]]
"""By file (its path before the climb), then by key."""


@dataclass(frozen=True, slots=True)
class KeyNote:
    """What becomes of one key at one release, without its values: they may be secrets. `detail` is for people."""

    file: str
    version: str
    fate: Fate
    key: str
    old_key: str = ""
    detail: str = ""
    took: str = ""


@dataclass(frozen=True, slots=True)
class SettingsVerdict:
    """How many values of the site's own are set as they were, and one sentence for each that is not as planned."""

    kept: int
    faults: tuple[str, ...]


def judge_settings(before: Values, planned: Values, now: Values, notes: Sequence[KeyNote]) -> SettingsVerdict:
    """Hold every value that was planned against what is set now."""
    kept, faults = 0, []
    for file, values in planned.items():
        there, had = now.get(file, {}), before.get(file, {})
        old_names = {one.key: one.old_key for one in notes if one.file == file and one.old_key}
        for key, value in values.items():
            own = had.get(_first_name(key, old_names), had.get(key)) == value
            if there.get(key) == value:
                kept += own
            elif own:
                faults.append(f"setting {key} of {file}: its value is not there any more")
            else:
                faults.append(f"setting {key} of {file}: it is not what the release and the site made of it")
    return SettingsVerdict(kept, tuple(faults))


def _first_name(key: str, old_names: Mapping[str, str]) -> str:
    """The name that a key had before all renames."""
    seen = {key}
    while (old := old_names.get(key)) and old not in seen:
        seen.add(old)
        key = old
    return key
