"""TOML: sections and keys by line, values between brackets and quotes; the standard library says what is valid."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Sequence

from yellow_ladder.settings.formats.bracket import Grammar, Scanner, labels_of, settle_commas
from yellow_ladder.settings.formats.lined import Lined, Manner
from yellow_ladder.settings.tree import Broken, Node

_BARE = r"(?:[A-Za-z0-9_-]+|\"(?:[^\"\\\n]|\\.)*\"|'[^'\n]*')"
_GRAMMAR = Grammar(line_comments=("#",), quotes="\"'", triple=True, arrows=("=",), trailing=True, raw_singles=True)
_MANNER = Manner(
    name="toml",
    signs="#",
    key=rf"^([ \t]*)({_BARE}(?:[ \t]*\.[ \t]*{_BARE})*)([ \t]*=[ \t]*)",
    section=r"^[ \t]*\[\[?[ \t]*([^\]\n]+?)[ \t]*\]\]?[ \t]*(?:#.*)?\n?$",
    commented=r"^([ \t]*)(#[ \t]?)([A-Za-z0-9_-]+)([ \t]*=[ \t]*)(?=\S)",
)
_PLAIN = re.compile(r"([^\s\"'\[{#]+|\"[^\"\\\n]+\")[ \t]*(?:#.*)?(?:\n|\Z)")
_PLACE = re.compile(r"^(.*?) \(at line (\d+), column (\d+)\)$")


class Toml(Lined):
    """A TOML file."""

    def __init__(self) -> None:
        """Make the format."""
        super().__init__(_MANNER)

    def parse(self, text: str) -> Node:
        """Read a document that is valid TOML."""
        try:
            tomllib.loads(text)
        except tomllib.TOMLDecodeError as fault:
            found = _PLACE.match(str(fault))
            if found:
                raise Broken(found[1], int(found[2]), int(found[3])) from fault
            raise Broken(str(fault)) from fault
        root = super().parse(text)
        for part in root.children:
            if part.parts is not None and part.head.lstrip().startswith("[["):
                part.labels = labels_of(part)
        return root

    def value_at(self, lines: Sequence[str], number: int, column: int) -> tuple[int, str, str]:
        """The value to the end of its last bracket or quotation mark."""
        text = lines[number]
        plain = _PLAIN.match(text, column)
        if plain:
            return 1, plain[1], text[plain.end(1) :]
        for more in range(number + 1, len(lines) + 1):
            scanner = Scanner(_GRAMMAR, text, column)
            try:
                scanner.value("\n")
            except Broken:
                if more == len(lines):
                    raise
                text += lines[more]
                continue
            return more - number, text[column : scanner.at], text[scanner.at :]
        raise Broken("a value is missing", number + 1)

    def key_node(self, name: str, lead: str, head: str, value: str, tail: str) -> Node:
        """A key; one with an array or a table in it is a block."""
        node = Scanner(_GRAMMAR, value).value("\n") if value[:1] in ("[", "{") else Node("", value=value)
        node.name, node.lead, node.head, node.tail = name, lead, head + node.head, tail
        return node

    def is_of_list(self, line: str) -> bool:
        """Whether a section's line is one of an array of tables."""
        return line.lstrip().startswith("[[")

    def meaning(self, node: Node) -> str:
        """The value as TOML reads it."""
        try:
            found = tomllib.loads(f"x = {node.value}\n")["x"]
        except (tomllib.TOMLDecodeError, KeyError):
            return (node.value or "").strip()
        return found if isinstance(found, str) else json.dumps(found, default=str)

    def settle(self, block: Node) -> None:
        """Commas in arrays and tables between braces; line ends elsewhere."""
        if block.foot.lstrip()[:1] in ("]", "}") and block.foot.strip():
            settle_commas(block, trailing=block.foot.lstrip()[:1] == "]")
        else:
            super().settle(block)

    def written(self, value: str) -> str:
        """A value of a sheet: as it is where it is one of TOML, else as a text."""
        try:
            tomllib.loads(f"x = {value}\n")
        except tomllib.TOMLDecodeError:
            return json.dumps(value, ensure_ascii=False)
        return value
