"""What every settings format can do; each format is a class behind this port, and a line in `formats/kinds.py`."""

from __future__ import annotations

from typing import Protocol

from yellow_ladder.settings.tree import Node


class Format(Protocol):
    """How one kind of settings file is written. A parsed text, written out again, is that text to the byte."""

    name: str
    comment: str
    """What a comment begins with; empty where the format has none."""

    def parse(self, text: str) -> Node:
        """Read a text with line feeds alone for line ends; raises Broken."""

    def meaning(self, node: Node) -> str:
        """What the value of a key says, however it is quoted or spaced."""

    def settle(self, block: Node) -> None:
        """Mend what stands between the parts of a block after they have changed: commas, line ends, indentation."""

    def written(self, value: str) -> str:
        """A value of a sheet or of a person as it stands in such a file; raises Broken where it cannot."""

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A key for the end of a block; `value` is written as the format wants it."""

    def new_block(self, above: Node, name: str) -> Node:
        """An empty block for the end of another; raises Broken where the format has none of that name."""

    def renamed(self, node: Node, name: str) -> None:
        """Give a key or block a new name in its place."""

    def as_comment(self, node: Node, reason: str) -> str:
        """A key as lines of comment, `reason` after its first; empty where the format has no comments."""
