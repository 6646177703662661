"""What a vendor's converter made of a settings file, taken over key by key so that comments and order stay."""

from __future__ import annotations

from collections import Counter

from yellow_ladder.settings.document import Document
from yellow_ladder.settings.merging.outcomes import WHOLE_FILE, Fate, Outcome, Sides
from yellow_ladder.settings.reading import read_settings, unreadable
from yellow_ladder.settings.tree import Broken

_BY = "by the release's converter"
_FORMS_OF_ANYTHING = ("lines", "conf", "env")  # nearly any text reads as one of them
_SHORTEST_TELLING = 3  # a shorter value is that of too many keys to say that one is another under a new name


def take_over(
    mine: Document, base: Document | None, result: bytes, path: str, encoding: str = ""
) -> tuple[Document, list[Outcome]]:
    """The site's file saying what the converter's `result` says, and what became of each key.

    Its comments and order stay where the result is of the same format; else the result is taken as it is. `base` is the
    old release's file, whose values need no comment when they go. Raises BadInput for a result that cannot be read.
    """
    try:
        wanted = Document(result, mine.form, encoding)
    except Broken as fault:
        name = f"{path}, as its converter made it,"
        other = read_settings(result, "", path, name, encoding)
        if other.form.name in (mine.form.name, *_FORMS_OF_ANYTHING):
            raise unreadable(name, mine.form.name, fault) from fault
        return _as_it_is(other)
    changed = mine.copied()
    try:
        told = _say(changed, base, wanted)
        same = Document(changed.raw, mine.form, encoding).values() == wanted.values()
    except Broken:
        same = False
    return (changed, told) if same else _as_it_is(wanted)


def _as_it_is(wanted: Document) -> tuple[Document, list[Outcome]]:
    why = f"written anew {_BY}; your comments in it could not be kept"
    return wanted, [Outcome(WHOLE_FILE, Fate.KEPT, Sides(None, None, None), None, why=why)]


def _say(mine: Document, base: Document | None, wanted: Document) -> list[Outcome]:
    """Rename, write otherwise, take out and add until `mine` says what `wanted` does."""
    told = []
    for old, new in _renamed(mine.values(), wanted.values()):
        value = mine.get(old)
        mine.rekey(old, new)
        sides = Sides(None, value, None)
        told.append(Outcome(new, Fate.RENAMED, sides, value, old_key=old, why=f"was {old}; renamed {_BY}"))
    before, after = mine.values(), wanted.values()
    for key, value in before.items():
        if key not in after:
            own = base is None or base.get(key) != value
            sides = Sides(None, value, None)
            if own and mine.retire(key, "its converter left it out"):
                told.append(Outcome(key, Fate.RETIRED, sides, None, why=f"left out {_BY}"))
            else:
                if not own:
                    mine.remove(key)
                told.append(Outcome(key, Fate.GONE, sides, None, why=f"left out {_BY}"))
        elif after[key] != value:
            mine.set(key, after[key])
            told.append(Outcome(key, Fate.KEPT, Sides(None, value, None), after[key], why=f"written otherwise {_BY}"))
    for key, value in after.items():
        if key not in before:
            mine.add(key, value, "")
            told.append(Outcome(key, Fate.NEW, Sides(None, None, value), value, why=f"put in {_BY}"))
    return told


def _renamed(before: dict[str, str], after: dict[str, str]) -> list[tuple[str, str]]:
    """Keys that went and came with the same value, once on each side: such a one is the other under a new name."""
    gone = {key: value for key, value in before.items() if key not in after}
    came = {key: value for key, value in after.items() if key not in before}
    went, there = Counter(gone.values()), Counter(came.values())
    found = []
    for old, value in gone.items():
        new = next((key for key, one in came.items() if one == value), None)
        telling = len(value) >= _SHORTEST_TELLING or (new is not None and _last(new) == _last(old))
        if new is not None and telling and went[value] == there[value] == 1:
            found.append((old, new))
    return found


def _last(key: str) -> str:
    return key.rpartition(".")[2]
