"""A settings file as a tree of pieces that together are its text, to the byte."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass

Path = tuple[str, ...]
_LONGEST_MARK = 60
TAG, TEXT = "(tag)", "(text)"
"""Names of pieces that are no part of a path: what stands in an element's tag, and its text."""


@dataclass(slots=True, eq=False)
class Node:
    """A key with its value, or a block of them. Written out, the fields from `lead` to `tail` follow each other.

    `name` and `labels` say which of its siblings it is: where several have one name, the first label that tells them
    apart does. `off` is a key that is only there as a comment: it has a place, and no value.
    """

    name: str
    lead: str = ""  # blank lines and comments above it, and its indentation
    head: str = ""  # up to its value: `port = `, `[server]`, `"server": {`
    value: str | None = None
    parts: list[Node] | None = None  # of a block, in place of a value
    foot: str = ""  # what closes a block
    sep: str = ""  # a comma or semicolon, where such things stand between siblings
    tail: str = ""  # the rest of its last line: a comment, the line's end
    labels: tuple[str, ...] = ()
    off: bool = False
    opaque: bool = False  # text that is not understood, and merged line by line

    @property
    def children(self) -> list[Node]:
        """The parts of a block; none of a key."""
        return [] if self.parts is None else self.parts

    def write(self, into: list[str]) -> None:
        """Add the pieces of its text to a list."""
        into += (self.lead, self.head)
        if self.parts is not None:
            for part in self.parts:
                part.write(into)
        elif self.value is not None:
            into.append(self.value)
        into += (self.foot, self.sep, self.tail)

    @property
    def text(self) -> str:
        """All of it, as it stands in the file."""
        pieces: list[str] = []
        self.write(pieces)
        return "".join(pieces)

    def is_same(self, other: Node) -> bool:
        """Whether it is written just as another one is."""
        mine, theirs = self.children, other.children
        return (
            (self.lead, self.head, self.value, self.foot, self.sep, self.tail)
            == (other.lead, other.head, other.value, other.foot, other.sep, other.tail)
            and len(mine) == len(theirs)
            and all(one.is_same(two) for one, two in zip(mine, theirs, strict=True))
        )

    def copied(self) -> Node:
        """A copy, all parts included."""
        parts = None if self.parts is None else [part.copied() for part in self.parts]
        return Node(
            self.name, self.lead, self.head, self.value, parts,
            self.foot, self.sep, self.tail, self.labels, self.off, self.opaque,
        )  # fmt: skip


@dataclass(slots=True)
class Broken(Exception):
    """A text is not of the format that it was read as: where, counted from 1, and why."""

    why: str
    line: int = 0
    column: int = 0

    def __str__(self) -> str:
        """The place and the reason."""
        place = f"line {self.line}" + (f", column {self.column}" if self.column else "")
        return f"{place}: {self.why}" if self.line else self.why


def leaves(block: Node, above: Path = ()) -> Iterator[tuple[Path, Node]]:
    """Every key below a block with its path; a key that is only a comment is none."""
    for node, name in named(block.children):
        path = above if name in (TAG, TEXT) else (*above, name)
        if node.parts is not None:
            yield from leaves(node, path)
        elif not node.off and not node.opaque:
            yield path, node


def bare_leaves(block: Node, above: Path = ()) -> Iterator[tuple[Path, Node]]:
    """The same in the order of the text, without what tells siblings of one name apart."""
    for node in block.children:
        if node.parts is not None:
            yield from bare_leaves(node, (*above, node.name))
        elif not node.off and not node.opaque:
            yield (*above, node.name), node


def named(nodes: list[Node]) -> Iterator[tuple[Node, str]]:
    """Siblings with names that tell them apart, for people and for sheets: what repeats is labelled or numbered."""
    if len({node.name for node in nodes}) == len(nodes):
        yield from ((node, node.name or "0") for node in nodes)
        return
    here = [node for node in nodes if not node.off]
    total = Counter(node.name for node in here)
    labelled = Counter((node.name, *node.labels[:1]) for node in here)
    count: Counter[str] = Counter()
    for node in nodes:
        if node.off or total[node.name] < 2:
            yield node, node.name or "0"
            continue
        mark = str(count[node.name])
        count[node.name] += 1
        if node.labels and len(node.labels[0]) <= _LONGEST_MARK and labelled[node.name, node.labels[0]] == 1:
            mark = node.labels[0]
        yield node, f"{node.name}[{mark}]" if node.name else mark


def find(block: Node, key: str) -> Node | None:
    """The node of a dotted key; names with dots of their own are found too."""
    found = trail(block, key)
    return found[-1] if found else None


def trail(block: Node, key: str) -> list[Node]:
    """The nodes from below `block` down to the one that a dotted key names; empty where there is none."""
    for node, name in named(block.children):
        if node.off or node.opaque:
            continue
        if name == key:
            return [node, *_text_of(node)]
        if name == TAG:
            below = trail(node, key)
            if below:
                return [node, *below]
        elif node.parts is not None and key.startswith(f"{name}."):
            below = trail(node, key[len(name) + 1 :])
            if below:
                return [node, *below]
    return []


def _text_of(node: Node) -> list[Node]:
    """The text of an element that has nothing else: its value."""
    inside = [one for one in node.children if one.name != TAG]
    return inside if len(inside) == 1 and inside[0].name == TEXT else []


def dotted(path: Path) -> str:
    """A path as it is written in sheets and shown."""
    return ".".join(path)
