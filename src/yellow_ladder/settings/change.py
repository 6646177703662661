"""Carries decisions out on the site's own file."""

from __future__ import annotations

from collections.abc import Sequence

from yellow_ladder.settings.decide import Fate, KeyDecision
from yellow_ladder.settings.port import SettingsText


def carry_out(settings: SettingsText, decisions: Sequence[KeyDecision]) -> None:
    """Change a settings file as was decided. The site's own values always stay."""
    for one in decisions:
        if one.fate is Fate.RENAMED:
            settings.rename(one.old_key, one.key)
        elif one.fate is Fate.RETIRED:
            settings.retire(one.key, one.detail)
        elif one.fate is Fate.ADDED:
            settings.add(one.key, one.value, one.comment)
