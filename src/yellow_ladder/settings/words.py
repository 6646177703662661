"""What a release sheet says of settings, done to a file: renamed, moved, converted, retired, added."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ladder.release.arithmetic import computed
from yellow_ladder.release.sheet import SettingsChanges
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.merging.outcomes import Fate, Outcome, Sides
from yellow_ladder.settings.tree import Broken, find

REQUIRED = "the release requires it"


@dataclass(frozen=True, slots=True)
class Leaving:
    """A key on its way into another file, with the site's value."""

    file: str
    key: str
    value: str
    old_key: str


def say_to_base(base: Document, changes: Sequence[SettingsChanges]) -> None:
    """Rename and take out in the old release's file what the new one renames and takes out, so that they compare."""
    for one in changes:
        for rename in one.renamed:
            if find(base.root, rename.from_) is not None and find(base.root, rename.to) is None:
                base.rekey(rename.from_, rename.to)
        for key in (*(gone.key for gone in one.retired), *(left.from_ for left in one.moved)):
            if find(base.root, key) is not None:
                base.remove(key)
        for change in one.converted:
            _convert(base, change.key, change.values, change.by)


def say_before(
    mine: Document, base: Document | None, changes: Sequence[SettingsChanges]
) -> tuple[list[Outcome], list[Leaving]]:
    """What is done to the site's file before it is merged, and what leaves it. `base` is the old release's file, whose
    values need no comment when they go.
    """
    told: list[Outcome] = []
    leaving: list[Leaving] = []
    for one in changes:
        told += [outcome for rename in one.renamed if (outcome := _rename(mine, rename.from_, rename.to))]
        for left in one.moved:
            value = mine.get(left.from_)
            if value is not None:
                leaving.append(Leaving(left.file, left.to, value, left.from_))
                mine.remove(left.from_)
                why = f"lies in {left.file} as {left.to}"
                told.append(Outcome(left.from_, Fate.RENAMED, Sides(None, value, None), value, why=why))
        for change in one.converted:
            before, after = _convert(mine, change.key, change.values, change.by)
            if before != after:
                told.append(
                    Outcome(change.key, Fate.KEPT, Sides(None, before, None), after, why="written otherwise now")
                )
        for gone in one.retired:
            told += [outcome for outcome in [_retire(mine, base, gone.key, gone.why)] if outcome]
    return told, leaving


def say_after(mine: Document, changes: Sequence[SettingsChanges]) -> list[Outcome]:
    """What is put in where the merged file does not have it: new defaults, and keys that are required."""
    told = []
    for one in changes:
        for change in one.defaults_changed:
            if mine.get(change.key) == change.from_:
                _put(mine, change.key, change.to)
                sides = Sides(change.from_, change.from_, change.to)
                told.append(Outcome(change.key, Fate.FOLLOWS, sides, change.to))
        for added in one.added:
            if find(mine.root, added.key) is None:
                mine.add(added.key, added.value, added.comment)
                sides = Sides(None, None, added.value)
                told.append(Outcome(added.key, Fate.NEW, sides, added.value, why=REQUIRED))
    return told


def come_in(mine: Document, leaving: Sequence[Leaving]) -> list[Outcome]:
    """Put in what came from another file; where it is set already, that value counts."""
    told = []
    for one in leaving:
        if find(mine.root, one.key) is None:
            mine.add(one.key, one.value, "")
        else:
            _put(mine, one.key, one.value)
        told.append(
            Outcome(
                one.key,
                Fate.RENAMED,
                Sides(None, one.value, None),
                one.value,
                old_key=one.old_key,
                why="from another file",
            )
        )
    return told


def _rename(mine: Document, old: str, new: str) -> Outcome | None:
    value = mine.get(old)
    if find(mine.root, old) is None:
        return None
    if find(mine.root, new) is not None:
        # Both names are set. Nobody but the site knows which value it means: the release reads the new name's, and the
        # old one's stays readable.
        why = f"the value of {new}, its new name, counts"
        mine.retire(old, why)
        return Outcome(old, Fate.RETIRED, Sides(None, value, None), None, why=why)
    mine.rekey(old, new)
    return Outcome(new, Fate.RENAMED, Sides(None, value, None), value, old_key=old, why=f"was {old}")


def _retire(mine: Document, base: Document | None, key: str, why: str) -> Outcome | None:
    if find(mine.root, key) is None:
        return None
    value = mine.get(key)
    if base is not None and base.get(key) == value:
        mine.remove(key)
        return Outcome(key, Fate.GONE, Sides(value, value, None), None, why=why)
    mine.retire(key, why)
    return Outcome(key, Fate.RETIRED, Sides(None, value, None), None, why=why)


def _convert(document: Document, key: str, values: dict[str, str], by: str) -> tuple[str | None, str | None]:
    """Write a value as the release wants it, and return it before and after."""
    before = document.get(key)
    if before is None:
        return None, None
    after = values.get(before, before) if values else computed(by, before)
    if after != before:
        _put(document, key, after)
    return before, after


def _put(document: Document, key: str, value: str) -> None:
    """Set a key that is there."""
    node = find(document.root, key)
    if node is None or node.value is None:
        raise Broken(f"{key} is no single value")
    document.set(key, value)
