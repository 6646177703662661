"""Directives that end with a semicolon, and blocks of them between braces, as web and name servers have."""

from __future__ import annotations

import re

from yellow_ladder.settings.formats.lined import ARGUMENT
from yellow_ladder.settings.formats.pieces import as_lines_of_comment, pad_of
from yellow_ladder.settings.tree import Broken, Node

_NAME = re.compile(r"[^\s;{}\"'#]+")
_OFF = re.compile(r"([ \t]*)(#[ \t]*)([A-Za-z_][\w-]*)([ \t]+)([^;{}#\n]+?)(;[ \t]*\n)")
_REST = re.compile(r"[ \t]*(?:(?:#|//)[^\n]*)?(?:\n|\Z)")
_DEEPEST = 100


class Braces:
    """A file of directives and blocks."""

    name, comment = "braces", "#"

    def parse(self, text: str) -> Node:
        """Read directives up to the end."""
        reading = _Reading(text)
        root = Node("", parts=[])
        root.foot = reading.fill(root, 0)
        if reading.at < len(text):
            raise reading.broken("a brace closes nothing")
        return root

    def meaning(self, node: Node) -> str:
        """The arguments, one blank apart, without quotation marks around a whole."""
        words = re.findall(r"\"(?:[^\"\\]|\\.)*\"|'(?:[^'\\]|\\.)*'|[^\s]+", node.value or "")
        return " ".join(
            w[1:-1] if len(w) > 1 and w[0] == w[-1] and w[0] in "\"'" and " " not in w else w for w in words
        )

    def settle(self, block: Node) -> None:
        """A directive that came from elsewhere ends its line where its siblings do."""
        stacked = any(part.tail.endswith("\n") for part in block.children if part.name != ARGUMENT)
        for part in block.children:
            if stacked and part.name != ARGUMENT and not part.tail.endswith("\n"):
                part.tail += "\n"

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A directive at the end of a block, indented as the others are."""
        pad = _inner_pad(block)
        lead = "".join(f"{pad}# {line}".rstrip() + "\n" for line in comment.splitlines()) + pad
        return Node(name, lead, f"{name} ", self.written(value), sep=";", tail="\n", labels=_labels(value))

    def written(self, value: str) -> str:
        """The arguments of a sheet as they are."""
        if re.search(r"[;{}\n]", value):
            raise Broken("a directive's arguments have no semicolons, braces or line breaks")
        return value

    def new_block(self, above: Node, name: str) -> Node:
        """A block at the end of another."""
        pad = _inner_pad(above)
        return Node(name, pad, f"{name} {{\n", parts=[], foot=f"{pad}}}", tail="\n")

    def renamed(self, node: Node, name: str) -> None:
        """Write another name."""
        node.head, node.name = name + node.head[len(node.name) :], name

    def as_comment(self, node: Node, reason: str) -> str:
        """A directive or block as lines of comment."""
        return as_lines_of_comment(node, self.comment, reason)


class _Reading:
    """One text being read."""

    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0

    def fill(self, block: Node, depth: int) -> str:
        """Read parts into a block up to what closes it, and return what stands before that."""
        if depth > _DEEPEST:
            raise self.broken("blocks are nested too deep")
        pending = ""
        while True:
            off = _OFF.match(self.text, self.at)
            if off:
                head = off[2] + off[3] + off[4]
                node = Node(off[3], pending + off[1], head, off[5], sep=";", tail=off[6][1:], off=True)
                block.children.append(node)
                pending, self.at = "", off.end()
                continue
            passed = self._blank_or_comment()
            if passed:
                pending += passed
                continue
            if self.at >= len(self.text) or self.text[self.at] == "}":
                _fold(block)
                return pending
            node = self._directive(depth)
            node.lead, pending = pending, ""
            block.children.append(node)

    def _blank_or_comment(self) -> str:
        start = self.at
        found = re.compile(r"[ \t]*(?:(?:#|//)[^\n]*)?\n|[ \t]+|(?:#|//)[^\n]*\Z|/\*.*?\*/", re.DOTALL).match(
            self.text, start
        )
        if found:
            self.at = found.end()
        return self.text[start : self.at]

    def _directive(self, depth: int) -> Node:
        start = self.at
        found = _NAME.match(self.text, start)
        if found is None and self.text[start] not in "\"'":
            raise self.broken("a directive is missing")
        self.at = found.end() if found else start
        name = self.text[start : self.at]
        self._blank()
        head = self.text[start : self.at]
        begin = self.at
        self._pass_arguments()
        value = self.text[begin : self.at].rstrip()
        gap = self.text[begin + len(value) : self.at]
        node = Node(name, head=head, value=value, foot=gap, labels=_labels(value))
        if self.text[self.at] == ";":
            node.sep, self.at = ";", self.at + 1
            node.tail = self._rest()
            return node
        self.at += 1
        opened = gap + "{" + self._rest()
        node.value, node.foot, node.parts = None, "", []
        if value:
            node.children.append(Node(ARGUMENT, value=value, tail=opened))
        else:
            node.head += opened
        before = self.fill(node, depth + 1)
        if self.at >= len(self.text):
            raise self.broken(f"the block {name!r} is not closed", start)
        self.at += 1
        node.foot = before + "}"
        end = re.compile(r"\s*;").match(self.text, self.at)
        if end:
            node.sep, self.at = end[0], end.end()
        node.tail = self._rest()
        return node

    def _pass_arguments(self) -> None:
        start = self.at
        while self.at < len(self.text):
            char = self.text[self.at]
            if char in ";{":
                if char == "{" and self.text[self.at - 1] == "$":  # a variable
                    self.at = self.text.find("}", self.at) + 1 or len(self.text)
                    continue
                return
            if char == "}":
                raise self.broken("a semicolon is missing", start)
            if char in "\"'":
                end = re.compile(r"\"(?:[^\"\\]|\\.)*\"|'(?:[^'\\]|\\.)*'", re.DOTALL).match(self.text, self.at)
                if end is None:
                    raise self.broken("a quotation mark is not closed")
                self.at = end.end()
            elif char == "\\":
                self.at += 2
            else:
                self.at += 1
        raise self.broken("a semicolon is missing", start)

    def _blank(self) -> None:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1

    def _rest(self) -> str:
        start, found = self.at, _REST.match(self.text, self.at)
        if found:
            self.at = found.end()
        return self.text[start : self.at]

    def broken(self, why: str, at: int | None = None) -> Broken:
        at = self.at if at is None else at
        before = self.text[:at]
        return Broken(why, before.count("\n") + 1, at - before.rfind("\n"))


def _fold(block: Node) -> None:
    """A commented directive counts only where it stands once and is not set besides."""
    names: dict[str, int] = {}
    for part in block.children:
        names[part.name] = names.get(part.name, 0) + 1
    lead, left = "", []
    for part in block.children:
        if part.off and names[part.name] > 1:
            lead += part.text
            continue
        part.lead, lead = lead + part.lead, ""
        left.append(part)
    block.parts = left
    if lead:
        block.children.append(Node("", lead, value="", opaque=True))


def _labels(value: str) -> tuple[str, ...]:
    whole = " ".join(value.split())
    return (whole.partition(" ")[0], whole)


def _inner_pad(block: Node) -> str:
    for part in reversed(block.children):
        if part.name != ARGUMENT:
            return pad_of(part)
    return pad_of(block) + "    " if block.head else ""
