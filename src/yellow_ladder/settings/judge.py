"""Whether the site's settings are what was decided: pure, and each key is judged in its own file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yellow_ladder.settings.decide import Fate, KeyDecision, followed

Values = Mapping[str, Mapping[str, str]]
"""By file (its path before the climb), then by key."""


@dataclass(frozen=True, slots=True)
class SettingsVerdict:
    """How many values of the site's own are set as they were, and one sentence for each that is not."""

    kept: int
    faults: tuple[str, ...]


def judge_settings(before: Values, now: Values, decisions: Sequence[KeyDecision]) -> SettingsVerdict:
    """Hold every value of before against now, under the name that was decided; every key added must be there."""
    kept, faults = 0, []
    for file, values in before.items():
        there = now.get(file, {})
        for key, value in values.items():
            name = followed(file, key, decisions)
            if name is None:
                continue
            if there.get(name) == value:
                kept += 1
            else:
                faults.append(f"setting {key} of {file}: its value is not there under {name}")
    for place, one in enumerate(decisions):
        name = followed(one.file, one.key, decisions[place + 1 :]) if one.fate is Fate.ADDED else None
        if name is not None and name not in now.get(one.file, {}):
            faults.append(f"setting {name} of {one.file}: {one.version} requires it, and it is not there")
    return SettingsVerdict(kept, tuple(faults))
