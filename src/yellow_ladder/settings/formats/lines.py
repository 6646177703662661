"""Any text: one piece without keys, merged line by line."""

from __future__ import annotations

from yellow_ladder.settings.tree import Broken, Node


class Lines:
    """A file that no format understands, or that the site file wants merged by lines."""

    name, comment = "lines", ""

    def parse(self, text: str) -> Node:
        """The text as one piece."""
        return Node("", parts=[Node("lines", value=text, opaque=True)])

    def meaning(self, node: Node) -> str:
        """The text itself."""
        return node.value or ""

    def settle(self, block: Node) -> None:
        """Nothing stands between lines."""

    def written(self, value: str) -> str:
        """The text itself."""
        return value

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """Not made: the file has no keys."""
        raise Broken("the file is read by lines, and has no keys")

    def new_block(self, above: Node, name: str) -> Node:
        """Not made: the file has no keys."""
        raise Broken("the file is read by lines, and has no keys")

    def renamed(self, node: Node, name: str) -> None:
        """Not done: the file has no keys."""
        raise Broken("the file is read by lines, and has no keys")

    def as_comment(self, node: Node, reason: str) -> str:
        """Nothing: the file has no keys."""
        return ""
