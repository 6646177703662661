"""Values between brackets: objects, arrays and the literals of scripting languages, with commas between them."""

from __future__ import annotations

import re
from dataclasses import dataclass

from yellow_ladder.settings.formats.lined import ARGUMENT
from yellow_ladder.settings.formats.pieces import pad_of
from yellow_ladder.settings.tree import Broken, Node

_WORD = re.compile(r"[A-Za-z_$][\w$.-]*|[-+]?[\d.][\w.+-]*")
IDENTITIES = ("id", "name", "key", "title", "host", "hostname", "url", "path", "file", "port", "match", "type")


@dataclass(frozen=True, slots=True)
class Grammar:
    """How values are written: comments, strings, brackets, and what stands between a key and its value."""

    line_comments: tuple[str, ...] = ()
    block_comments: bool = False
    quotes: str = '"'
    triple: bool = False
    arrows: tuple[str, ...] = (":",)
    trailing: bool = False  # whether a comma may follow the last
    brackets: tuple[tuple[str, str], ...] = (("{", "}"), ("[", "]"))
    raw_singles: bool = False  # whether a backslash between single quotes is only that


@dataclass(slots=True)
class Scanner:
    """Reads values of a grammar out of a text."""

    grammar: Grammar
    text: str
    at: int = 0
    depth: int = 0

    def value(self, stops: str = "") -> Node:
        """The value that begins here, as a node without a name; `stops` ends one outside of all brackets."""
        for opening, closing in self.grammar.brackets:
            if self.text.startswith(opening, self.at):
                return self._block(opening, closing)
        start = self.at
        self._pass_scalar(stops)
        bare = self.text[start : self.at].rstrip()
        self.at = start + len(bare)
        if not bare:
            raise self.broken("a value is missing")
        return Node("", value=bare)

    def broken(self, why: str, at: int | None = None) -> Broken:
        """The fault at a place, with line and column."""
        at = self.at if at is None else at
        before = self.text[:at]
        return Broken(why, before.count("\n") + 1, at - before.rfind("\n"))

    def _block(self, opening: str, closing: str) -> Node:
        self.depth += 1
        if self.depth > 200:
            raise self.broken("brackets are nested too deep")
        block = Node("", head=opening, parts=[])
        started = self.at
        self.at += len(opening)
        block.head += self.line_rest()
        while True:
            lead = self.between()
            if self.at >= len(self.text):
                raise self.broken(f"{opening!r} is not closed", started)
            if self.text.startswith(closing, self.at):
                self.at += len(closing)
                block.foot = lead + closing
                self.depth -= 1
                return block
            if block.parts and not block.parts[-1].sep:
                raise self.broken("a comma is missing")
            node = self._member(closing)
            node.lead = lead
            block.children.append(node)

    def _member(self, closing: str) -> Node:
        key = self._key()
        node = self.value(f",{closing}")
        if key is not None:
            node.name, node.head = key[0], key[1] + node.head
        elif node.parts is not None:
            node.labels = labels_of(node)
        else:
            node.labels = (plain(node.value or ""),)
        mark = self.at
        gap = self.between()
        if self.text.startswith(",", self.at):
            node.foot += gap
            node.sep, self.at = ",", self.at + 1
        else:
            self.at = mark
        node.tail = self.line_rest()
        return node

    def _key(self) -> tuple[str, str] | None:
        """A key and all up to its value; None where this is a value alone."""
        start = self.at
        text = self.text
        if text[start : start + 1] in self.grammar.quotes and text[start : start + 1]:
            self._pass_string()
        else:
            word = _WORD.match(text, start)
            if not word:
                return None
            self.at = word.end()
        name = plain(text[start : self.at])
        self.between()
        for arrow in self.grammar.arrows:
            if text.startswith(arrow, self.at):
                self.at += len(arrow)
                self.between()
                return name, text[start : self.at]
        self.at = start
        return None

    def between(self) -> str:
        """Blanks, line ends and comments from here."""
        start = self.at
        while self.at < len(self.text):
            if self.text[self.at].isspace():
                self.at += 1
            elif not self._pass_comment():
                break
        return self.text[start : self.at]

    def line_rest(self) -> str:
        """What is left of this line when only blanks and a comment are; empty where more follows, else its end too."""
        start = self.at
        while self.at < len(self.text):
            if self.text[self.at] == "\n":
                self.at += 1
                return self.text[start : self.at]
            if self.text[self.at].isspace():
                self.at += 1
            else:
                before = self.at
                if not self._pass_comment() or "\n" in self.text[before : self.at]:
                    break
        else:
            return self.text[start:]
        # Something follows on the same line: one blank after a comma belongs to what stands before it.
        self.at = start
        while self.text[self.at] in " \t":
            self.at += 1
        return self.text[start : self.at]

    def _pass_comment(self) -> bool:
        for sign in self.grammar.line_comments:
            if self.text.startswith(sign, self.at):
                end = self.text.find("\n", self.at)
                self.at = len(self.text) if end < 0 else end
                return True
        if self.grammar.block_comments and self.text.startswith("/*", self.at):
            end = self.text.find("*/", self.at)
            if end < 0:
                raise self.broken("a comment is not closed")
            self.at = end + 2
            return True
        return False

    def _pass_string(self) -> None:
        start, mark = self.at, self.text[self.at]
        if self.grammar.triple and self.text.startswith(mark * 3, start):
            end = self.text.find(mark * 3, start + 3)
            if end < 0:
                raise self.broken("a quotation mark is not closed", start)
            self.at = end + 3
            while self.text.startswith(mark, self.at) and self.at < end + 5:
                self.at += 1
            return
        self.at += 1
        while self.at < len(self.text):
            char = self.text[self.at]
            if char == "\\" and not (mark == "'" and self.grammar.raw_singles):
                self.at += 2
                continue
            self.at += 1
            if char == mark:
                return
        raise self.broken("a quotation mark is not closed", start)

    def _pass_scalar(self, stops: str) -> None:
        """Go behind a value that is no block: a string, a number, a word, a call with all that its brackets hold."""
        inner = 0
        while self.at < len(self.text):
            char = self.text[self.at]
            if char in self.grammar.quotes:
                self._pass_string()
                continue
            if char == "\\":  # what follows is not what it looks like: a line that goes on, a name's separator
                self.at += 2
                continue
            if inner == 0 and (char in stops or (char == "\n" and "\n" in stops)):
                return
            mark = self.at
            if self._pass_comment():
                if inner == 0:
                    self.at = mark  # a comment ends a value, and is read again as what stands between
                    return
                continue
            if char in "([{":
                inner += 1
            elif char in ")]}":
                inner -= 1
                if inner < 0:
                    return
            self.at += 1


def plain(raw: str) -> str:
    """A literal without its quotation marks."""
    raw = raw.strip()
    for marks in ('"""', "'''", '"', "'"):
        if len(raw) >= 2 * len(marks) and raw.startswith(marks) and raw.endswith(marks):
            return raw[len(marks) : -len(marks)]
    return raw


def labels_of(block: Node) -> tuple[str, ...]:
    """What tells a block from its siblings in a list: the value of a key that names things, then all of it."""
    by_name = {part.name: part for part in block.children if part.value is not None and not part.off}
    found = [plain(by_name[key].value or "") for key in IDENTITIES if key in by_name]
    argument = by_name.get(ARGUMENT)
    if argument is not None:
        found.insert(0, argument.value or "")
    return (*found, " ".join(block.text.split()))


def _pad_within(foot: str) -> str:
    """How deep a part stands in a block that has only its foot to tell: as the comments there, or in from its end."""
    pad = foot[: len(foot) - len(foot.lstrip(" \t"))]
    return pad if foot.lstrip(" \t")[:1] not in (")", "]", "}") else f"{pad}    "


def settle_commas(block: Node, *, trailing: bool) -> None:
    """A comma between any two parts, none after the last where the grammar forbids it, each where its line wants it."""
    parts = block.children
    # Several to a line stay several to a line.
    broken = [part.tail.endswith("\n") for part in parts[:-1]]
    stacked = block.head.endswith("\n") and broken.count(False) <= 1
    if stacked and parts and not parts[0].lead:
        # It stood on a line with others where it comes from; here what is left beside it are comments.
        parts[0].lead = next((pad_of(part) for part in parts[1:] if part.lead), _pad_within(block.foot))
    for place, part in enumerate(parts):
        last = place == len(parts) - 1
        if not last and not part.sep:
            part.sep = ","
            if part.value is not None:
                part.foot = part.foot.rstrip()
        elif last and part.sep and not trailing:
            part.sep, part.tail = "", part.tail if stacked else part.tail.removeprefix(" ")
        if stacked and not part.tail.endswith("\n"):
            follows = block.foot if last else parts[place + 1].lead
            if not follows.lstrip(" \t").startswith("\n"):
                part.tail = part.tail.rstrip(" ") + "\n"
        elif not last and not part.tail and not parts[place + 1].lead:
            part.tail = " "
        if not last and part.tail and not part.tail.strip(" \t"):  # one of the two is the distance between them
            parts[place + 1].lead = parts[place + 1].lead.lstrip(" \t")
