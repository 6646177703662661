"""What every settings format can do for a climb; each format is a class behind this port, and a line in `formats`."""

from __future__ import annotations

from typing import Protocol


class SettingsText(Protocol):
    """One settings file in memory. Keys are written section.key; what is not changed comes out as it went in."""

    def get(self, key: str) -> str | None:
        """The value of a key, None where it is not set."""

    def values(self) -> dict[str, str]:
        """All keys with their values."""

    def rename(self, old: str, new: str) -> None:
        """Give a key its new name; where the format allows, it stays in its place with the comments above it."""

    def add(self, key: str, value: str, comment: str) -> None:
        """Add a key under its comment, at the end of its section."""

    def retire(self, key: str, why: str) -> None:
        """Turn a key into a comment in its place, so that its value can still be read."""

    def text(self) -> str:
        """The file as text."""
