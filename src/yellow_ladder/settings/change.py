"""Applies what a release sheet says of a settings file to the site's own file."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

from yellow_ladder.release.sheet import SettingsChanges
from yellow_ladder.settings.ini import IniSettings

What = Literal["renamed", "added", "retired", "kept"]


@dataclass(frozen=True, slots=True)
class SettingChange:
    """One change to one key, for people to read before they agree. Values are not told: they may be secrets."""

    file: str
    what: What
    key: str
    detail: str

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)


def change_settings(text: str, changes: SettingsChanges, name: str) -> tuple[str, list[SettingChange]]:
    """The settings as the release wants them, and what was done. The site's own values always stay.

    Applying the same changes again changes nothing. Raises BadInput when the file cannot be read.
    """
    settings = IniSettings(text, name)
    done: list[SettingChange] = []

    def note(what: What, key: str, detail: str) -> None:
        done.append(SettingChange(changes.file, what, key, detail))

    for rename in changes.renamed:
        if settings.get(rename.from_) is None:
            continue
        if settings.get(rename.to) is not None:
            note("kept", rename.to, f"was set already; {rename.from_}, its old name, is dropped")
            settings.remove(rename.from_)
        else:
            settings.rename(rename.from_, rename.to)
            note("renamed", rename.to, f"was {rename.from_}")
    for retired in changes.retired:
        if settings.get(retired.key) is not None:
            settings.retire(retired.key, retired.why)
            note("retired", retired.key, retired.why)
    for added in changes.added:
        if settings.get(added.key) is None:
            settings.add(added.key, added.value, added.comment)
            note("added", added.key, f"default: {added.value}")
        else:
            note("kept", added.key, "was set already")
    return (settings.text(), done) if done else (text, [])
