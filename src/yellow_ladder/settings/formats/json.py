"""JSON, with comments and a last comma where a file has them."""

from __future__ import annotations

import json
import re

from yellow_ladder.settings.formats.bracket import Grammar, Scanner, settle_commas
from yellow_ladder.settings.formats.pieces import as_lines_of_comment, pad_of
from yellow_ladder.settings.tree import Broken, Node

_PLAIN = Grammar()
_COMMENTED = Grammar(line_comments=("//",), block_comments=True, trailing=True)
_LITERAL = re.compile(r'"|-?\d|true$|false$|null$')


class Json:
    """One JSON document; `jsonc` has comments and may have a comma after the last."""

    def __init__(self, name: str, *, comments: bool) -> None:
        """Make the format, with comments or strictly without."""
        self.name, self.comment = name, "//" if comments else ""
        self._grammar = _COMMENTED if comments else _PLAIN

    def parse(self, text: str) -> Node:
        """Read a document: one value, most often an object."""
        scanner = Scanner(self._grammar, text)
        lead = scanner.between()
        top = scanner.value()
        end = scanner.at
        rest = scanner.between()
        if scanner.at < len(text):
            raise scanner.broken("something follows after the end of the document")
        scanner.at = end
        self._see(top, text)
        if not self.comment:
            try:
                json.loads(text)
            except json.JSONDecodeError as fault:
                raise Broken(fault.msg, fault.lineno, fault.colno) from fault
        top.name, top.lead, top.tail = "", lead, rest
        if top.parts is None:
            return Node("", parts=[top])
        return top

    def _see(self, block: Node, text: str) -> None:
        """Refuse what JSON does not have: other literals, a key given twice, a key without quotes."""
        if block.parts is None:
            self._see_literal(block.value or "", text)
            return
        keyed = block.head.startswith("{") or ('"' in block.head and block.head.rstrip().endswith("{"))
        seen: set[str] = set()
        for part in block.parts:
            if keyed and not part.head.startswith('"'):
                raise _placed(text, part.head or part.value or "", "a key has no quotation marks")
            if keyed and part.name in seen:
                raise _placed(text, part.head, f"the key {part.name!r} stands here a second time", last=True)
            seen.add(part.name)
            self._see(part, text)

    def _see_literal(self, value: str, text: str) -> None:
        try:
            if not _LITERAL.match(value):
                raise ValueError
            json.loads(value)
        except ValueError as fault:
            raise _placed(text, value, f"this is no value of JSON: {value[:40]!r}") from fault

    def meaning(self, node: Node) -> str:
        """The value, however it is escaped."""
        try:
            found = json.loads(node.value or "null")
        except ValueError:
            return (node.value or "").strip()
        return found if isinstance(found, str) else json.dumps(found)

    def settle(self, block: Node) -> None:
        """Put commas where they belong."""
        if block.head or block.foot:
            settle_commas(block, trailing=bool(self.comment))

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A member at the end of an object, indented as the others are."""
        pad = _pad(block)
        lead = "".join(f"{pad}// {line}\n" for line in comment.splitlines()) if self.comment else ""
        return Node(name, lead + pad, f"{json.dumps(name, ensure_ascii=False)}: ", self.written(value))

    def written(self, value: str) -> str:
        """A value of a sheet: as it is where it is one of JSON, else as a text."""
        try:
            json.loads(value)
        except ValueError:
            return json.dumps(value, ensure_ascii=False)
        return value

    def new_block(self, above: Node, name: str) -> Node:
        """An object at the end of another."""
        pad = _pad(above)
        return Node(name, pad, f"{json.dumps(name, ensure_ascii=False)}: {{\n", parts=[], foot=f"{pad}}}")

    def renamed(self, node: Node, name: str) -> None:
        """Write another key in its place."""
        old = json.dumps(node.name, ensure_ascii=False)
        end = node.head.index(":") if old not in node.head else node.head.index(old) + len(old)
        node.head, node.name = json.dumps(name, ensure_ascii=False) + node.head[end:], name

    def as_comment(self, node: Node, reason: str) -> str:
        """The member as lines of comment, where the file may have them."""
        if not self.comment:
            return ""
        bare = Node("", node.lead, node.head, node.value, node.parts, node.foot, node.sep)
        return as_lines_of_comment(bare, self.comment, reason)


def _pad(block: Node) -> str:
    """The indentation of a block's members."""
    return pad_of(block.children[-1]) if block.children else pad_of(block) + "  "


def _placed(text: str, piece: str, why: str, *, last: bool = False) -> Broken:
    at = text.rfind(piece) if last else text.find(piece)
    at = max(at, 0)
    return Broken(why, text.count("\n", 0, at) + 1, at - text.rfind("\n", 0, at))
