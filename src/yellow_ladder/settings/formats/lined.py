"""Formats that go line by line: a key, a sign, a value; sections between brackets, or blocks between angles."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from yellow_ladder.settings.formats.pieces import as_lines_of_comment, end_line, pad_of
from yellow_ladder.settings.tree import Broken, Node

WORD = r"[A-Za-z_][\w.-]*"
ARGUMENT = "(argument)"


@dataclass(frozen=True, slots=True)
class Manner:
    """How a line-by-line format is written.

    `key` matches a key line up to its value with groups (indentation, name, sign). `values` says how far a value
    reaches: over deeper lines (`indent`), after a backslash, until quotes or brackets close. `commented` matches a
    key that is only a comment, with groups (indentation, comment sign, name).
    """

    name: str
    signs: str  # characters that begin a comment
    key: str
    values: tuple[str, ...] = ()
    inline: str = ""  # what begins a comment after a value
    section: str = ""  # a section's line, with its name as the group
    angles: bool = False
    repeats: bool = False  # whether a key may come twice
    lax: bool = False  # whether other lines are text of their own, or a fault
    commented: str = ""
    spaced: str = " = "


class Lined:
    """A format of that kind; subclasses read values in their own way."""

    def __init__(self, manner: Manner) -> None:
        """Make the format of a manner."""
        self.manner = manner
        self.name = manner.name
        self.comment = manner.signs[0]
        self._key = re.compile(manner.key)
        self._section = re.compile(manner.section) if manner.section else None
        self._off = re.compile(manner.commented) if manner.commented else None
        self._inline = re.compile(manner.inline) if manner.inline else None

    def parse(self, text: str) -> Node:
        """Read lines into sections and keys."""
        root = Node("", parts=[])
        _Reading(self, root, lines_of(text)).run()
        return root

    def key_of(self, line: str) -> re.Match[str] | None:
        """The start of a key's line: indentation, name, sign."""
        return self._key.match(line)

    def section_of(self, line: str) -> re.Match[str] | None:
        """The line of a section."""
        return self._section.match(line) if self._section else None

    def commented_key(self, line: str) -> re.Match[str] | None:
        """The line of a key that is a comment."""
        return self._off.match(line) if self._off else None

    def is_of_list(self, _line: str) -> bool:
        """Whether a section's line opens one of a list, of which there may be many."""
        return False

    def key_node(self, name: str, lead: str, head: str, value: str, tail: str) -> Node:
        """The node of a key's line."""
        return Node(name, lead, head, value, tail=tail, labels=self.labels(name, value))

    def is_comment(self, line: str) -> bool:
        """Whether a line is empty or a comment."""
        bare = line.strip()
        return not bare or bare[0] in self.manner.signs

    def value_at(self, lines: Sequence[str], number: int, column: int) -> tuple[int, str, str]:
        """The value that begins there: number of lines, its text, and what follows it on its last line."""
        raw, count = lines[number][column:], 1
        manner = self.manner
        if "quotes" in manner.values and raw[:1] in "\"'" and raw[:1]:
            while _end_of_quoted(raw) < 0 and number + count < len(lines):
                raw += lines[number + count]
                count += 1
            if _end_of_quoted(raw) < 0:
                raise Broken("a quotation mark is not closed", number + 1, column + 1)
        if "backslash" in manner.values:
            while _goes_on(raw) and number + count < len(lines):
                raw += lines[number + count]
                count += 1
        if "indent" in manner.values:
            more = _deeper(lines, number, count)
            raw += "".join(lines[number + count : number + count + more])
            count += more
        value, tail = self._parted(raw)
        return count, value, tail

    def _parted(self, raw: str) -> tuple[str, str]:
        """A value and what follows it: blanks, a comment, the line's end."""
        start = _end_of_quoted(raw) if raw[:1] in ("'", '"') else 0
        if self._inline is not None and "\n" not in raw.rstrip("\n"):
            found = self._inline.search(raw, max(start, 0))
            if found:
                return raw[: found.start()], raw[found.start() :]
        bare = raw.rstrip()
        return bare, raw[len(bare) :]

    def meaning(self, node: Node) -> str:
        """What the value says without quotes and line breaks."""
        value = (node.value or "").strip()
        if "backslash" in self.manner.values:
            value = re.sub(r"\\\n\s*", "", value)
        if "\n" in value:
            value = "\n".join(line.strip() for line in value.split("\n"))
        if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'" and value[0] not in value[1:-1]:
            value = value[1:-1]
        return value

    def settle(self, block: Node) -> None:
        """Every line but the last of the file ends."""
        for part in block.children:
            end_line(part)

    def labels(self, _name: str, value: str) -> tuple[str, ...]:
        """What tells keys of one name apart: their first word, or the whole value."""
        whole = " ".join(value.split())
        return (whole.partition(" ")[0], whole) if self.manner.repeats else ()

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A key under its comment, indented as its siblings are."""
        pad, sign = "", self.manner.spaced
        for sibling in reversed(block.children):
            if sibling.value is not None and not sibling.opaque:
                pad = pad_of(sibling)
                if not sibling.off and sibling.head.startswith(sibling.name):
                    sign = sibling.head[len(sibling.name) :]
                break
        lead = "".join(f"{pad}{self.comment} {line}".rstrip() + "\n" for line in comment.splitlines()) + pad
        written = self.written(value)
        return Node(name, lead, f"{name}{sign}", written, tail="\n", labels=self.labels(name, written))

    def written(self, value: str) -> str:
        """A value as it stands in such a file."""
        if "indent" in self.manner.values:
            return value.replace("\n", "\n    ")  # a line without indentation would be the next key
        if "\n" in value:
            raise Broken("a value of several lines cannot be written in this format")
        return value

    def new_block(self, above: Node, name: str) -> Node:
        """A section at the end of the file."""
        if self._section is None or above.name:
            raise Broken(f"a file of the format {self.name} has no section {name!r}")
        return Node(name, "\n" if above.children else "", self.section_line(name), parts=[])

    def section_line(self, name: str) -> str:
        """The line that opens a section."""
        return f"[{name}]\n"

    def renamed(self, node: Node, name: str) -> None:
        """Write another name where the old one stands."""
        start = node.head.find(node.name)
        node.head = node.head[:start] + name + node.head[start + len(node.name) :]
        node.name = name

    def as_comment(self, node: Node, reason: str) -> str:
        """The lines of a key, each made a comment."""
        return as_lines_of_comment(node, self.comment, reason)


class _Reading:
    """One file being read: the blocks that are open, and the lines above what comes next."""

    def __init__(self, form: Lined, root: Node, lines: Sequence[str]) -> None:
        self.form, self.root, self.lines = form, root, lines
        self.open = [root]
        self.pending: list[str] = []
        self.seen: dict[int, set[str]] = {id(root): set()}
        self.lists: dict[str, Node] = {}  # the last section of each list of sections

    def run(self) -> None:
        number, form = 0, self.form
        while number < len(self.lines):
            number += self._one(number)
        if form.manner.angles and len(self.open) > 1:
            raise Broken(f"<{self.open[-1].name}> is not closed", len(self.lines))
        self.open[-1].foot += self._taken()
        _fold_comments(self.root)

    def _one(self, number: int) -> int:
        form, line = self.form, self.lines[number]
        if form.is_comment(line):
            off = form.commented_key(line.rstrip("\n"))
            if off:
                value = line[off.end() :].rstrip()
                node = Node(off[3], self._taken() + off[1], off[0][len(off[1]) :], value, off=True)
                node.tail = line[off.end() + len(value) :]
                self.open[-1].children.append(node)
            else:
                self.pending.append(line)
            return 1
        if form.manner.angles and line.strip().startswith("<"):
            return self._angle(number, line)
        section = form.section_of(line)
        if section:
            return self._section(number, line, section)
        key = form.key_of(line)
        if key is None:
            return self._other(number, line)
        count, value, tail = form.value_at(self.lines, number, key.end())
        block = self.open[-1]
        if not form.manner.repeats:
            seen = self.seen[id(block)]
            if key[2] in seen:
                raise Broken(f"the key {key[2]!r} stands here a second time", number + 1)
            seen.add(key[2])
        lead = self._taken() + key[1]
        block.children.append(form.key_node(key[2], lead, key[0][len(key[1]) :], value, tail))
        return count

    def _section(self, number: int, line: str, section: re.Match[str]) -> int:
        form, name = self.form, section[1].strip()
        above = self.root
        for whole, list_node in self.lists.items():
            if name.startswith(f"{whole}."):
                above, name = list_node, name[len(whole) + 1 :]
        if self.open[-1] not in (self.root, above):
            self._part_pending()
        may_repeat = form.manner.repeats or form.is_of_list(line)
        if not may_repeat and name in self.seen[id(above)]:
            raise Broken(f"the section {name!r} stands here a second time", number + 1)
        self.seen[id(above)].add(name)
        pad = line[: len(line) - len(line.lstrip())]
        node = Node(name, self._taken() + pad, line[len(pad) :], parts=[])
        above.children.append(node)
        self.seen[id(node)] = set()
        self.open = [self.root, node]
        if form.is_of_list(line):
            self.lists[section[1].strip()] = node
        return 1

    def _angle(self, number: int, line: str) -> int:
        closing = re.match(r"\s*</\s*([\w-]+)\s*>\s*$", line)
        if closing:
            if len(self.open) < 2 or self.open[-1].name.lower() != closing[1].lower():
                raise Broken(f"</{closing[1]}> closes nothing", number + 1)
            self.open.pop().foot += self._taken() + line
            return 1
        found = re.match(r"(\s*)(<\s*)([\w-]+)(\s*)(.*?)(\s*>\s*)$", line, re.DOTALL)
        if not found:
            raise Broken("this line begins like a block and is none", number + 1, 1)
        argument = Node(ARGUMENT, value=found[5], tail=found[6])
        node = Node(found[3], self._taken() + found[1], found[2] + found[3] + found[4], parts=[argument])
        node.labels = (" ".join(found[5].split()),)
        self.open[-1].children.append(node)
        self.seen[id(node)] = set()
        self.open.append(node)
        return 1

    def _other(self, number: int, line: str) -> int:
        if not self.form.manner.lax:
            raise Broken(f"this line is no key, no section and no comment: {line.strip()[:40]!r}", number + 1)
        block = self.open[-1].children
        if block and block[-1].opaque and not self.pending:
            block[-1].value = (block[-1].value or "") + line
        else:
            after = next((one.name for one in reversed(block) if not one.opaque and not one.off), "")
            block.append(
                Node(f"lines after {after}" if after else "first lines", self._taken(), value=line, opaque=True)
            )
        return 1

    def _part_pending(self) -> None:
        """What stands above a section up to the last empty line belongs to the section before."""
        blank = max((place for place, line in enumerate(self.pending) if not line.strip()), default=-1)
        self.open[-1].foot += "".join(self.pending[: blank + 1])
        del self.pending[: blank + 1]

    def _taken(self) -> str:
        text = "".join(self.pending)
        self.pending.clear()
        return text


def _fold_comments(block: Node) -> None:
    """A commented key is a key of its own only where it stands once and the key is not set besides."""
    parts = block.children
    if any(part.off for part in parts):
        names: dict[str, int] = {}
        for part in parts:
            names[part.name] = names.get(part.name, 0) + 1
        left: list[Node] = []
        lead = ""
        for part in parts:
            if part.off and names[part.name] > 1:
                lead += part.text
                continue
            part.lead, lead = lead + part.lead, ""
            left.append(part)
        block.foot = lead + block.foot
        block.parts = left
    for part in block.children:
        if part.parts is not None:
            _fold_comments(part)


def lines_of(text: str) -> list[str]:
    """The lines of a text with their ends; nothing but a line feed ends one."""
    return re.findall(r"[^\n]*\n|[^\n]+$", text)


def _goes_on(raw: str) -> bool:
    bare = raw.rstrip("\n")
    return raw.endswith("\n") and (len(bare) - len(bare.rstrip("\\"))) % 2 == 1


def _deeper(lines: Sequence[str], number: int, count: int) -> int:
    """How many lines below belong to a value because they are indented more than its key."""
    own, more = _indent(lines[number]), 0
    for place in range(number + count, len(lines)):
        line = lines[place]
        if not line.strip() or _indent(line) <= own:
            break
        more += 1
    return more


def _indent(line: str) -> int:
    return len(line) - len(line.lstrip())


def _end_of_quoted(raw: str) -> int:
    """Behind the closing mark of a text that begins with a quotation mark; -1 where it is open."""
    place, mark = 1, raw[0]
    while place < len(raw):
        if raw[place] == "\\" and mark == '"':
            place += 2
            continue
        if raw[place] == mark:
            return place + 1
        place += 1
    return -1
