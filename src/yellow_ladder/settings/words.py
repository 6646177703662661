"""What a release sheet says of settings, done to a file: renamed, moved, converted, retired, added."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.release.arithmetic import computed
from yellow_ladder.release.settings import KeysJoined, KeySplit, SettingsChanges
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.merging.outcomes import Fate, Outcome, Sides
from yellow_ladder.settings.tree import Broken, find

REQUIRED = "the release requires it"
SWITCHED_OFF = "new behaviour, off until you want it"


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
        # Defaults of another form than the sheet says are compared as they stand: nobody can correct them there.
        for parted in one.split:
            with contextlib.suppress(AnswerNo):
                _split(base, parted)
        for joined in one.joined:
            with contextlib.suppress(AnswerNo):
                _join(base, None, joined)


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
        for parted in one.split:
            told += _split(mine, parted)
        for joined in one.joined:
            told += _join(mine, base, joined)
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
        for off in one.switched_off:
            if find(mine.root, off.key) is None:
                mine.add(off.key, off.value, off.why)
                sides = Sides(None, None, off.value)
                told.append(Outcome(off.key, Fate.NEW, sides, off.value, why=off.why or SWITCHED_OFF))
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


def _split(document: Document, parted: KeySplit) -> list[Outcome]:
    """Part one value into several keys; the first takes its place. Raises AnswerNo for a value of another form."""
    value = document.get(parted.key)
    if value is None:
        return []
    there = [key for key in parted.into if key != parted.key and find(document.root, key) is not None]
    if there:
        why = f"the value of {there[0]}, which it is parted into, counts"
        document.retire(parted.key, why)
        return [Outcome(parted.key, Fate.RETIRED, Sides(None, value, None), None, why=why)]
    found = re.fullmatch(parted.pattern, value)
    if found is None:
        text = f"{parted.key} is parted into {', '.join(parted.into)}, and its value does not fit {parted.pattern}"
        raise AnswerNo(Problem("settings-split", text, "write it so, or set the new keys beside it", parted.key))
    document.rekey(parted.key, parted.into[0])
    told = []
    for key, part in zip(parted.into, found.groups(""), strict=True):
        if find(document.root, key) is None:
            document.add(key, part, "")
        else:
            _put(document, key, part)
        sides = Sides(None, value, None)
        told.append(Outcome(key, Fate.RENAMED, sides, part, old_key=parted.key, why=f"a part of {parted.key}"))
    return told


def _join(document: Document, base: Document | None, joined: KeysJoined) -> list[Outcome]:
    """Write several values as one, in the place of the first that is set; what is not set has its default of `base`.

    Raises AnswerNo where one is set and another is neither set nor known by its default.
    """
    values = {key: document.get(key) for key in joined.keys}
    there = [key for key, value in values.items() if value is not None]
    if not there:
        return []
    if joined.to not in joined.keys and find(document.root, joined.to) is not None:
        why = f"the value of {joined.to}, which they are joined to, counts"
        for key in there:
            document.retire(key, why)
        return [Outcome(key, Fate.RETIRED, Sides(None, values[key], None), None, why=why) for key in there]
    for key in joined.keys:
        default = base.get(key) if base is not None else None
        if values[key] is None and default is None:
            text = f"{' and '.join(joined.keys)} become {joined.to}, and {key} is not set"
            raise AnswerNo(Problem("settings-joined", text, f"set {key} beside {there[0]}", key))
        values[key] = values[key] if values[key] is not None else default
    parts = list(values.values())
    result = re.sub(r"\{(\d+)\}", lambda found: parts[int(found[1]) - 1] or "", joined.written)
    document.rekey(there[0], joined.to)
    _put(document, joined.to, result)
    why = f"joined from {', '.join(joined.keys)}"
    for key in there[1:]:
        document.retire(key, f"now in {joined.to}")
    sides = Sides(None, values[there[0]], None)
    return [Outcome(joined.to, Fate.RENAMED, sides, result, old_key=there[0], why=why)]


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
