"""YAML: places come from the parser's events, so that anchors, tags and long texts stay as they are written."""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator
from typing import Any

import yaml

from yellow_ladder.settings.formats.bracket import labels_of, plain, settle_commas
from yellow_ladder.settings.formats.pieces import as_lines_of_comment, end_line, pad_of
from yellow_ladder.settings.tree import Broken, Node

_Loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
_REST = re.compile(r"[ \t]*(?:#[^\n]*)?(?:\n|\Z)")
_BETWEEN = re.compile(r"(?:[ \t]*(?:#[^\n]*)?\n)*[ \t]*(?:#[^\n]*\Z)?")
_FLOW_BETWEEN = re.compile(r"(?:\s|(?<=\s)#[^\n]*\n)*")
_SCALARS: Any = (yaml.ScalarEvent, yaml.AliasEvent)
_STARTS: Any = (yaml.MappingStartEvent, yaml.SequenceStartEvent)
_ENDS: Any = (yaml.MappingEndEvent, yaml.SequenceEndEvent)
_ALIAS: Any = yaml.AliasEvent
_RUNS_CODE = ("tag:yaml.org,2002:python/", "!ruby/", "!!javax", "tag:yaml.org,2002:java", "!php/object")
_DEEPEST = 100
_MARKER = "---\n"


class Yaml:
    """A YAML file of one document or several."""

    name, comment = "yaml", "#"

    def parse(self, text: str) -> Node:
        """Read all documents; refuses a key given twice, an unknown alias, and tags that make objects of code."""
        try:
            return _Reading(text).run()
        except yaml.MarkedYAMLError as fault:
            mark = fault.problem_mark or fault.context_mark
            why = fault.problem or fault.context or "no YAML"
            raise Broken(why, mark.line + 1 if mark else 0, mark.column + 1 if mark else 0) from fault
        except yaml.YAMLError as fault:
            raise Broken(str(fault).splitlines()[0]) from fault

    def meaning(self, node: Node) -> str:
        """The value as YAML reads it."""
        raw = (node.value or "").strip()
        if raw[:1] not in "\"'|>!&*{[" and re.fullmatch(r"[A-Za-z][\w ./:@-]*", raw) and ": " not in raw:
            low = raw.lower()
            if low not in ("true", "false", "yes", "no", "on", "off", "null", "y", "n"):
                return raw
        try:
            found = yaml.load(raw, Loader=_Loader)  # noqa: S506 - a safe loader
        except yaml.YAMLError:
            return raw
        return found if isinstance(found, str) else json.dumps(found, default=str)

    def settle(self, block: Node) -> None:
        """Commas between brackets; elsewhere one indentation, and the first part on the line of its dash."""
        parts = block.children
        if block.foot.lstrip()[:1] in ("]", "}"):
            settle_commas(block, trailing=False)
            return
        documents = not block.head and any(_MARKER in one.head for one in parts)
        for place, part in enumerate(parts):
            end_line(part)
            if place and documents and _MARKER not in part.head:
                part.head = _MARKER + part.head  # a document that came from elsewhere
        if not parts or not (block.head or block.lead or parts[0].lead or len(parts) > 1):
            return
        on_dash = bool(block.head) and not block.head.endswith("\n")
        pads = [pad_of(part) for place, part in enumerate(parts) if place or not on_dash]
        if not pads:
            return
        wanted = Counter(pads).most_common(1)[0][0]
        if on_dash and parts[0].lead.strip() == "":
            parts[0].lead = ""
        for place, part in enumerate(parts):
            if (place or not on_dash) and pad_of(part) != wanted:
                _shift(part, wanted)

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """A key at the end of a block, indented as the others are."""
        pad = pad_of(block.children[-1]) if block.children else pad_of(block) + "  "
        lead = "".join(f"{pad}# {line}".rstrip() + "\n" for line in comment.splitlines()) + pad
        return Node(name, lead, f"{_key(name)}: ", self.written(value), tail="\n")

    def written(self, value: str) -> str:
        """A value of a sheet: as it is where YAML reads one value there, else between quotation marks."""
        try:
            found = yaml.load(value, Loader=_Loader)  # noqa: S506 - a safe loader
        except yaml.YAMLError:
            found = {}
        plain_value = (
            "\n" not in value and not isinstance(found, dict) and (found is not None or value in ("null", "~"))
        )
        return value if plain_value else json.dumps(value, ensure_ascii=False)

    def new_block(self, above: Node, name: str) -> Node:
        """A mapping at the end of another."""
        if above.foot.lstrip()[:1] in ("]", "}"):
            raise Broken("a mapping between braces takes no block")
        pad = pad_of(above.children[-1]) if above.children else ""
        return Node(name, pad, f"{_key(name)}:\n", parts=[])

    def renamed(self, node: Node, name: str) -> None:
        """Write another key in its place."""
        end = _key_end(node.head)
        node.head, node.name = _key(name) + node.head[end:], name

    def as_comment(self, node: Node, reason: str) -> str:
        """A key as lines of comment."""
        end_line(node)
        return as_lines_of_comment(node, self.comment, reason)


class _Reading:
    """One text being read: the parser's events, and how far the pieces made of it reach."""

    def __init__(self, text: str) -> None:
        self.text, self.at, self.depth = text, 0, 0
        self.events: Iterator[Any] = yaml.parse(text, Loader=_Loader)
        self.ahead: Any = next(self.events)
        self.anchors: set[str] = set()

    def take(self) -> Any:
        event: Any = self.ahead
        self.ahead = next(self.events, None)
        tag, anchor = getattr(event, "tag", None), getattr(event, "anchor", None)
        if tag and tag.startswith(_RUNS_CODE):
            raise self.broken(f"the tag {tag} would make an object of code", event.start_mark.index)
        if isinstance(event, _ALIAS):
            if anchor not in self.anchors:
                raise self.broken(f"the alias *{anchor} names nothing above it", event.start_mark.index)
        elif anchor:
            self.anchors.add(anchor)
        return event

    def run(self) -> Node:
        self.take()
        documents: list[Node] = []
        while isinstance(self.ahead, yaml.DocumentStartEvent):
            self.take()
            self.anchors.clear()
            documents.append(self._document())
            self.take()
        rest = self.text[self.at :]
        if len(documents) == 1:
            documents[0].tail += rest
            return documents[0]
        root = Node("", parts=documents, foot=rest)
        for one in documents:
            one.labels = labels_of(one)
        return root

    def _document(self) -> Node:
        event: Any = self.ahead
        top = Node("")
        if isinstance(event, _STARTS) and not event.flow_style:
            marker = self.text.rfind("---", self.at, event.start_mark.index)
            if (
                marker >= 0
                and not self.text[self.at : marker].strip(" \n")
                and self.text[marker - 1 : marker] in ("", "\n")
            ):
                end = _REST.match(self.text, marker + 3)
                if end:
                    top.head, self.at = self.text[self.at : end.end()], end.end()
            self._fill(top)
        else:
            top.lead, self.at = self.text[self.at : event.start_mark.index], event.start_mark.index
            self._fill(top)
        if top.parts is None:
            return Node("", parts=[top])
        return top

    def _fill(self, node: Node) -> None:
        """Put the value that comes next into a node whose head ends where reading stands."""
        event = self.take()
        self.depth += 1
        if self.depth > _DEEPEST:
            raise self.broken("it is nested too deep", event.start_mark.index)
        if isinstance(event, _SCALARS):
            self._scalar(node, event)
        elif event.flow_style:
            self._flow(node, event)
        else:
            self._stacked(node, event)
        self.depth -= 1

    def _scalar(self, node: Node, event: Any) -> None:
        start, end = event.start_mark.index, event.end_mark.index
        if start == end:  # an empty value: the parser places it at what comes next
            start = end = self.at
        node.head += self.text[self.at : start]
        raw = self.text[start:end]
        bare = raw.rstrip("\n")
        node.value, self.at = bare, start + len(bare)

    def _stacked(self, node: Node, event: Any) -> None:
        """A mapping or a sequence with a line for each part."""
        node.parts = []
        start = event.start_mark.index
        rest = _REST.match(self.text, self.at)
        if rest is None or self.at > start:  # an anchor or a tag, or the first part on the same line
            between = self.text[self.at : start]
            if self.text[start : start + 1] in "&!" and self.text[start : start + 1]:
                end = self.text.index("\n", start) + 1 if "\n" in self.text[start:] else len(self.text)
                node.head += self.text[self.at : end]
                self.at = end
            else:
                node.head += between
                self.at = max(self.at, start)
        elif node.head and rest.end() <= start:
            node.head += rest[0]
            self.at = rest.end()
        seen: set[str] = set()
        mapping = isinstance(event, yaml.MappingStartEvent)
        while not isinstance(self.ahead, _ENDS):
            part = self._key_part(seen) if mapping else self._dash_part()
            rest = _REST.match(self.text, self.at)
            if rest and not part.tail and not _ends_line(part):
                part.tail, self.at = rest[0], rest.end()
            node.parts.append(part)
        self.take()
        column = start - (self.text.rfind("\n", 0, start) + 1)
        node.foot = self._deeper_comments(column if column or not node.head else 1)

    def _key_part(self, seen: set[str]) -> Node:
        event = self.take()
        if not isinstance(event, _SCALARS):
            raise self.broken("a key that is itself a mapping or a sequence", event.start_mark.index)
        start, end = event.start_mark.index, event.end_mark.index
        name = getattr(event, "value", None)
        name = name if isinstance(name, str) else self.text[start:end]
        if name in seen and name != "<<":
            raise self.broken(f"the key {name!r} stands here a second time", start)
        seen.add(name)
        colon = self.text.index(":", end)
        part = Node(name, self.text[self.at : start], self.text[start : colon + 1])
        self.at = colon + 1
        blank = re.compile(r"[ \t]*(?=[^\s#])").match(self.text, self.at)
        if blank:
            part.head += blank[0]
            self.at = blank.end()
        self._fill(part)
        return part

    def _dash_part(self) -> Node:
        between = _BETWEEN.match(self.text, self.at)
        dash = between.end() if between else self.at
        blank = re.compile(r"-[ \t]*").match(self.text, dash)
        if blank is None:
            raise self.broken("a dash is missing", dash)
        part = Node("", self.text[self.at : dash], blank[0])
        self.at = blank.end()
        self._fill(part)
        part.labels = (plain(part.value or ""),) if part.parts is None else labels_of(part)
        return part

    def _flow(self, node: Node, event: Any) -> None:
        """A mapping or sequence between brackets."""
        node.parts = []
        opening = self.text.index("{" if isinstance(event, yaml.MappingStartEvent) else "[", event.start_mark.index)
        node.head += self.text[self.at : opening + 1]
        self.at = opening + 1
        node.head += self._flow_rest()
        while not isinstance(self.ahead, _ENDS):
            node.parts.append(self._flow_part(isinstance(event, yaml.MappingStartEvent)))
        end = self.take().end_mark.index
        node.foot, self.at = self.text[self.at : end], end

    def _flow_part(self, mapping: bool) -> Node:
        start = self.ahead.start_mark.index
        part = Node("", self.text[self.at : start])
        self.at = start
        if mapping:
            key = self.take()
            if not isinstance(key, _SCALARS):
                raise self.broken("a key that is itself a mapping or a sequence", start)
            name = getattr(key, "value", None)
            part.name = name if isinstance(name, str) else self.text[start : key.end_mark.index]
            end = key.end_mark.index
            colon = re.compile(r"\s*:[ \t]*").match(self.text, end)
            part.head, self.at = self.text[start : colon.end() if colon else end], colon.end() if colon else end
        self._fill(part)
        if not mapping:
            part.labels = (plain(part.value or ""),) if part.parts is None else labels_of(part)
        gap = _FLOW_BETWEEN.match(self.text, self.at)
        comma = gap.end() if gap else self.at
        if self.text[comma : comma + 1] == ",":
            part.foot += self.text[self.at : comma]
            part.sep, self.at = ",", comma + 1
        part.tail = self._flow_rest()
        return part

    def _flow_rest(self) -> str:
        start, rest = self.at, _REST.match(self.text, self.at)
        if rest and rest[0].endswith("\n"):
            self.at = rest.end()
        else:
            while self.text[self.at : self.at + 1] in (" ", "\t"):
                self.at += 1
        return self.text[start : self.at]

    def _deeper_comments(self, column: int) -> str:
        """Comments below a block that are indented as its parts are, up to the last of them."""
        at, end = self.at, self.at
        line = re.compile(r"([ \t]*)(#[^\n]*)?\n")
        while column and (found := line.match(self.text, at)):
            if found[2] and len(found[1]) < column:
                break
            at = found.end()
            if found[2]:
                end = at
        text, self.at = self.text[self.at : end], end
        return text

    def broken(self, why: str, at: int) -> Broken:
        before = self.text[:at]
        return Broken(why, before.count("\n") + 1, at - before.rfind("\n"))


def _ends_line(node: Node) -> bool:
    return node.parts is not None and node.text.endswith("\n")


def _shift(node: Node, wanted: str) -> None:
    """Indent all lines of a node as its siblings are."""
    own = pad_of(node)
    starting = True

    def moved(text: str) -> str:
        nonlocal starting
        lines = text.split("\n")
        for place, line in enumerate(lines):
            if (place or starting) and (line or place < len(lines) - 1 or not place):
                if line.startswith(own) and line.strip():
                    lines[place] = wanted + line[len(own) :]
                elif place == len(lines) - 1 and line == own:
                    lines[place] = wanted
        if text:
            starting = text.endswith("\n")
        return "\n".join(lines)

    def walk(one: Node) -> None:
        one.lead, one.head = moved(one.lead), moved(one.head)
        for part in one.children:
            walk(part)
        if one.value is not None:
            one.value = moved(one.value)
        one.foot, one.sep, one.tail = moved(one.foot), moved(one.sep), moved(one.tail)

    walk(node)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z_][\w./-]*", name) else json.dumps(name, ensure_ascii=False)


def _key_end(head: str) -> int:
    if head[:1] in ("'", '"'):
        return head.index(head[0], 1) + 1
    return len(head[: head.index(":")].rstrip())
