"""Which parts of a block are the same one in three versions of it, and in which order they stand in the merged one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Mapping, Sequence

from yellow_ladder.settings.merging.lines import longest_rise
from yellow_ladder.settings.tree import Node, leaves

Key = tuple[Hashable, ...]
WHOLE = "whole"
_ALIKE = 0.5
_MOST_COMPARED = 10_000


def keyed(versions: Sequence[Sequence[Node]]) -> list[dict[Key, Node]]:
    """The parts of each version by a key that means the same part in all.

    A name that no version has twice is the key. Others are told apart by their first label that does so in every
    version, and at last by all that they are: then a part that was changed is another part.
    """
    counts = [Counter(node.name for node in nodes) for nodes in versions]
    names = {name for count in counts for name in count}
    levels = {name: _level(name, versions) for name in names if any(count[name] > 1 for count in counts)}
    found: list[dict[Key, Node]] = []
    for nodes in versions:
        keys: dict[Key, Node] = {}
        for node in nodes:
            level = levels.get(node.name, -1)
            if level < 0 and node.name not in levels:
                keys[(node.name,)] = node
                continue
            key = (node.name, _label(node, level)) if level >= 0 else (node.name, _whole(node), WHOLE)
            number = 0
            while (*key, number) in keys:
                number += 1
            keys[(*key, number)] = node
        found.append(keys)
    base, *others = found
    for other in others:
        pairs = _alike(base, other)
        for one in others:
            # What both sides named alike is one part for both.
            _rename({new: old for new, old in pairs.items() if new in one and old not in one}, one)
    return found


def _rename(pairs: Mapping[Key, Key], nodes: dict[Key, Node]) -> None:
    if pairs:
        renamed = {pairs.get(key, key): node for key, node in nodes.items()}
        nodes.clear()
        nodes.update(renamed)


def _alike(base: Mapping[Key, Node], other: Mapping[Key, Node]) -> dict[Key, Key]:
    """A block whose label was changed is still the same one where most of it is, and so is a text that has moved."""
    gone = [key for key, node in base.items() if key not in other and (node.parts or node.opaque)]
    came = [key for key, node in other.items() if key not in base and (node.parts or node.opaque)]
    if not gone or not came or len(gone) * len(came) > _MOST_COMPARED:
        return {}
    says = {id(one): _says(one) for one in (*(base[key] for key in gone), *(other[key] for key in came))}
    scores = sorted(
        (
            (_likeness(says[id(base[old])], says[id(other[new])]), -number, old, new)
            for old in gone
            for number, new in enumerate(came)
            if old[0] == new[0] or (base[old].opaque and other[new].opaque)
        ),
        key=lambda one: one[:2],
        reverse=True,
    )
    pairs: dict[Key, Key] = {}
    taken: set[Key] = set()
    for score, _, old, new in scores:
        if score >= _ALIKE and new not in pairs and old not in taken:
            pairs[new] = old
            taken.add(old)
    return pairs


def _says(block: Node) -> set[tuple[object, str]]:
    if block.opaque:
        return {(line, "") for line in (block.value or "").splitlines()}
    return {(path, " ".join((node.value or "").split())) for path, node in leaves(block)}


def _likeness(one: set[tuple[object, str]], two: set[tuple[object, str]]) -> float:
    return len(one & two) / max(len(one), len(two), 1)


def _level(name: str, versions: Sequence[Sequence[Node]]) -> int:
    """The first label that tells the parts of a name apart in every version; -1 where only all of them does."""
    groups = [[node for node in nodes if node.name == name] for nodes in versions]
    fewest = min(len(node.labels) for group in groups for node in group)
    for level in range(fewest - 1):  # the last label is all that a part is
        labels = [[node.labels[level] for node in group] for group in groups]
        if all(len(set(one)) == len(one) for one in labels):
            return level
    return -1


def _label(node: Node, level: int) -> str:
    return node.labels[level]


def _whole(node: Node) -> str:
    return node.labels[-1] if node.labels else " ".join(node.text.split())


def in_one_order(base: Sequence[Key], mine: Sequence[Key], new: Sequence[Key], stay: Mapping[Key, object]) -> list[Key]:
    """The keys that stay, in the order of the side that changed it; what only the other has follows as it did there."""
    reordered = _moved(base, mine)
    first, second = (mine, new) if reordered else (new, mine)
    order = [key for key in first if key in stay]
    have = set(order)
    after: dict[Key | None, list[Key]] = {}
    anchor: Key | None = None
    for key in second:
        if key not in stay:
            continue
        if key in have:
            anchor = key
        else:
            after.setdefault(anchor, []).append(key)
    result = list(after.get(None, ()))
    for key in order:
        result.append(key)
        result += after.get(key, ())
    return result


def _moved(base: Sequence[Key], other: Sequence[Key]) -> bool:
    """Whether a version has what it kept of base in another order."""
    place = {key: number for number, key in enumerate(base)}
    kept = [place[key] for key in other if key in place]
    return len(longest_rise(kept)) != len(kept)
