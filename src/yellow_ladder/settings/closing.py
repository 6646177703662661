"""A settings key that closes the site: the file with it set, and the file as it is without."""

from __future__ import annotations

from collections.abc import Iterable

from yellow_ladder.errors import LadderError
from yellow_ladder.settings.reading import read_settings, unreadable
from yellow_ladder.settings.tree import Broken, find
from yellow_ladder.site.keep_records import SettingsFile
from yellow_ladder.site.maintenance_records import ClosingKey


def closed(raw: bytes, spec: SettingsFile, by: ClosingKey) -> bytes:
    """The file with the key set to what closes the site. Raises BadInput where it cannot be read or the key not set."""
    return _with(raw, spec, by.key, by.closed)


def opened(raw: bytes, spec: SettingsFile, by: ClosingKey, known: Iterable[bytes]) -> bytes:
    """The file as it is when the site is open: the one of `known` that this is the closed form of, to the byte; else
    with the key set to what opens the site, where it closes it now.
    """
    for one in known:
        if one == raw or closed(one, spec, by) == raw:
            return one
    # Held against the file as it would be written: a value may be read as another word (`yes` as `true`).
    return _with(raw, spec, by.key, by.open) if closed(raw, spec, by) == raw else raw


def is_the_same(raw: bytes, other: bytes, spec: SettingsFile, by: ClosingKey) -> bool:
    """Whether two files differ at most in that one closes the site."""
    if raw == other:
        return True
    try:
        return closed(raw, spec, by) == closed(other, spec, by)
    except LadderError:
        return False


def _with(raw: bytes, spec: SettingsFile, key: str, value: str) -> bytes:
    document = read_settings(raw, spec.format, spec.file, encoding=spec.encoding)
    try:
        if find(document.root, key) is None:
            document.add(key, value, "")
        elif document.get(key) != value:
            document.set(key, value)
        _see_that_nothing_else_changed(raw, document.raw, spec, key)
    except Broken as fault:
        raise unreadable(spec.file, spec.format, fault) from fault
    return document.raw


def _see_that_nothing_else_changed(raw: bytes, changed: bytes, spec: SettingsFile, key: str) -> None:
    """Read the file again: a site must not be closed by a file that its application cannot read any more."""
    before = read_settings(raw, spec.format, spec.file, encoding=spec.encoding).values()
    after = read_settings(changed, spec.format, spec.file, encoding=spec.encoding).values()
    if after.pop(key, None) is None or after != {name: one for name, one in before.items() if name != key}:
        raise Broken(f"{key} cannot be set in it without another change")
