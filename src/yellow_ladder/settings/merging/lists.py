"""Values that are lists on one line: what each side added or took out can be told, and both are done."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise

_BLANKS = re.compile(r"[ \t]+")
_COLONS = re.compile(r"[ \t]*:[ \t]*")
_SEPARATORS = (
    re.compile(r"[ \t]*,[ \t]*"),
    _BLANKS,
    _COLONS,
    re.compile(r"[ \t]*;[ \t]*"),
)
_NUMBER = re.compile(r"^-?[\d.]+\w{0,2}$")
_WORD = re.compile(r"^[\w./:@+*?~!=%$&|^()\[\]<>{}-]+$")


def merged_list(base: str, mine: str, new: str, *, of_words: bool = False) -> str | None:
    """The list with both sides' additions and removals; None where the values are no such lists, or where both sides
    put different things in the place of the same item.

    Plain words with blanks between them may be a sentence: they are a list only `of_words`, where a format's values are
    arguments.
    """
    for pattern in _SEPARATORS:
        if pattern is _BLANKS and not _is_told_apart(base, mine, new, of_words=of_words):
            continue
        if pattern is _COLONS and not _are_paths(base, mine, new):
            continue  # an address has colons too
        versions = [_items(text, pattern) for text in (base, mine, new)]
        if any(one is None for one in versions) or all(len(one or ()) == 1 for one in versions):
            continue
        found = _merged(*(one or [] for one in versions))
        if found is None:
            return None
        return _joined(found, (mine, new, base), pattern)
    return None


def merged_set(base: str, mine: str, new: str) -> str | None:
    """The list of a value whose order means nothing: what both have, what each added, without what each took out.

    Its items are parted by the first of comma, semicolon, colon and blanks that any version has; None where none has.
    """
    texts = [text[1:-1] if _marks(text) else text for text in (base, mine, new)]
    for pattern in (_SEPARATORS[0], _SEPARATORS[3], _COLONS, _BLANKS):
        if not any(pattern.search(text.strip()) for text in texts):
            continue
        was, here, there = ([one for one in pattern.split(text.strip()) if one] for text in texts)
        gone = (set(was) - set(here)) | (set(was) - set(there))
        return _joined([one for one in dict.fromkeys((*here, *there)) if one not in gone], (mine, new, base), pattern)
    return None


def _is_told_apart(*texts: str, of_words: bool) -> bool:
    """Whether what stands between blanks is no sentence."""
    if of_words and not any(text[:1] in "\"'" and text[:1] for text in texts):
        return True
    return all(re.search(r"[^A-Za-z.,!?'\"]", word) for text in texts for word in text.strip("\"'").split())


def _are_paths(*texts: str) -> bool:
    return all(item[:1] in ("/", ".", "~", "$", "%") for text in texts for item in _COLONS.split(text.strip("\"'")))


def _items(text: str, pattern: re.Pattern[str]) -> list[str] | None:
    """A value's items, where it is a list of different words; a number is a part of something, not an item."""
    marks = _marks(text)
    items = pattern.split(text[1:-1] if marks else text)
    fit = all(_WORD.match(item) and not _NUMBER.match(item) for item in items)
    return items if fit and len(set(items)) == len(items) else None


def _marks(text: str) -> str:
    """The quotation mark that a value stands in, if any."""
    return text[:1] if len(text) > 1 and text[0] == text[-1] and text[0] in "\"'" else ""


def _merged(base: Sequence[str], mine: Sequence[str], new: Sequence[str]) -> list[str] | None:
    if len(base) < 2 or not set(base) & set(mine) & set(new):
        return None
    gone_here = set(base) - set(mine)
    if _replaced(base, mine) & _replaced(base, new):
        return None
    result = [item for item in new if item not in gone_here]
    for place, item in enumerate(mine):
        if item in base or item in result:
            continue
        before = next((one for one in reversed(mine[:place]) if one in result), None)
        result.insert(result.index(before) + 1 if before is not None else 0, item)
    return result


def _replaced(base: Sequence[str], other: Sequence[str]) -> set[str]:
    """Items in whose place a version has others."""
    kept = [item for item in base if item in other]
    found: set[str] = set()
    edges = [None, *kept, None]
    for left, right in pairwise(edges):
        gone = _between(base, left, right)
        if gone and _between(other, left, right):
            found |= set(gone)
    return found


def _between(items: Sequence[str], left: str | None, right: str | None) -> list[str]:
    start = items.index(left) + 1 if left is not None else 0
    end = items.index(right) if right is not None else len(items)
    return list(items[start:end])


def _joined(items: Sequence[str], texts: Sequence[str], pattern: re.Pattern[str]) -> str:
    """The items written as one of the versions writes them."""
    marks = _marks(texts[0])
    sign = next((found[0] for one in texts for found in [pattern.search(one.strip("\"'"))] if found), ",")
    return marks + sign.join(items) + marks
