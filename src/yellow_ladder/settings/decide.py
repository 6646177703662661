"""What will become of each settings key on the way: decided here and nowhere else, from names alone.

Check announces these decisions, staging carries them out, the plan shows them, and the proof holds the site to them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from collections.abc import Set as AbstractSet
from dataclasses import asdict, dataclass
from enum import StrEnum
from typing import Any

from yellow_ladder.release.moves import moved
from yellow_ladder.release.sheet import ReleaseSheet, SettingsChanges


class Fate(StrEnum):
    """What becomes of a key; the site's own value always stays, if only in a comment."""

    RENAMED = "renamed"
    RETIRED = "retired"
    ADDED = "added"
    KEPT = "kept"


@dataclass(frozen=True, slots=True)
class KeyDecision:
    """One key of one file at one release. `file` is the file's path before the climb, `key` the name that the key
    has in the end (or had, where it is retired), `old_key` the one that it loses. Values are not told: they may be
    secrets; `value` is the release's default of a key that is added.
    """

    file: str
    version: str
    fate: Fate
    key: str
    old_key: str = ""
    value: str = ""
    comment: str = ""
    superseded_by: str = ""

    @property
    def detail(self) -> str:
        """The decision in a few words, for people."""
        if self.fate is Fate.RENAMED:
            return f"was {self.old_key}"
        if self.fate is Fate.ADDED:
            return f"default: {self.value}"
        if self.superseded_by:
            return f"the value of {self.superseded_by}, its new name, counts"
        return self.comment or ("was set already" if self.fate is Fate.KEPT else "")

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {**asdict(self), "detail": self.detail}

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> KeyDecision:
        """Read what `as_record` gave."""
        known = {key: value for key, value in record.items() if key != "detail"}
        return KeyDecision(**{**known, "fate": Fate(record["fate"])})


def decide(file: str, version: str, keys: AbstractSet[str], changes: SettingsChanges) -> list[KeyDecision]:
    """What one release does to the keys that a file has."""
    have, found = set(keys), []
    for rename in changes.renamed:
        if rename.from_ not in have:
            continue
        have.discard(rename.from_)
        if rename.to in have:
            # Both names are set. Nobody but the site knows which value it means: the release reads the new name's,
            # and the old one's stays readable.
            found.append(KeyDecision(file, version, Fate.RETIRED, rename.from_, superseded_by=rename.to))
        else:
            have.add(rename.to)
            found.append(KeyDecision(file, version, Fate.RENAMED, rename.to, old_key=rename.from_))
    for retired in changes.retired:
        if retired.key in have:
            have.discard(retired.key)
            found.append(KeyDecision(file, version, Fate.RETIRED, retired.key, comment=retired.why))
    for added in changes.added:
        if added.key in have:
            found.append(KeyDecision(file, version, Fate.KEPT, added.key))
        else:
            have.add(added.key)
            found.append(KeyDecision(file, version, Fate.ADDED, added.key, value=added.value, comment=added.comment))
    return found


def decide_along(
    files: Mapping[str, AbstractSet[str]], way: Iterable[tuple[str, ReleaseSheet]]
) -> tuple[KeyDecision, ...]:
    """What releases, in order (version, sheet), do to the keys of several files, named by their paths before."""
    have, where = {file: set(keys) for file, keys in files.items()}, {file: file for file in files}
    found: list[KeyDecision] = []
    for version, sheet in way:
        for file, keys in have.items():
            where[file] = moved(where[file], sheet.files.moved)
            for changes in (one for one in sheet.settings if one.file == where[file]):
                decisions = decide(file, version, keys, changes)
                found += decisions
                for one in decisions:
                    keys -= {one.old_key, one.key}
                    keys |= set() if one.fate is Fate.RETIRED else {one.key}
    return tuple(found)


def followed(file: str, key: str, decisions: Sequence[KeyDecision]) -> str | None:
    """The name that a key of a file has after all decisions; None where it is retired on the way."""
    name: str | None = key
    for one in decisions:
        if one.file != file or name is None:
            continue
        if one.fate is Fate.RENAMED and one.old_key == name:
            name = one.key
        elif one.fate is Fate.RETIRED and one.key == name:
            name = None
    return name
