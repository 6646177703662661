"""XML: places come from the parser, so that namespaces, quotation marks and comments stay as they are written."""

from __future__ import annotations

import re
from xml.parsers import expat  # entities are refused before they could grow
from xml.sax.saxutils import escape, quoteattr, unescape

from yellow_ladder.settings.formats.bracket import IDENTITIES
from yellow_ladder.settings.formats.pieces import pad_of
from yellow_ladder.settings.tree import TAG, TEXT, Broken, Node

_ATTRIBUTE = re.compile(r"([ \t\r\n]+)([^ \t\r\n=/>]+)([ \t\r\n]*=[ \t\r\n]*)(\"[^\"]*\"|'[^']*')")
_REST = re.compile(r"[ \t]*(?:<!--(?:(?!-->)[^\n])*-->[ \t]*)?\n")
_LEAD = re.compile(r"\s*(?:<!--.*?-->\s*)*", re.DOTALL)
_DEEPEST = 200
_WANTED = (*IDENTITIES, "username", "class", "className", "ref", "address", "pattern", "location")


class Xml:
    """An XML document."""

    name, comment = "xml", "<!--"

    def parse(self, text: str) -> Node:
        """Read a document; entities of its own are refused."""
        return _Reading(text).run()

    def meaning(self, node: Node) -> str:
        """An attribute's value or a text, without what only writes it."""
        raw = (node.value or "").strip()
        if node.name.startswith("@") and len(raw) > 1:
            raw = raw[1:-1]
        elif raw.startswith("<![CDATA[") and raw.endswith("]]>"):
            return raw[9:-3]
        return " ".join(unescape(raw, {"&quot;": '"', "&apos;": "'"}).split())

    def settle(self, block: Node) -> None:
        """Nothing stands between elements; an element that came to hold others has a tag that closes it."""
        if block.parts and block.parts[0].name == TAG:
            tag = block.parts[0]
            if len(block.parts) > 1 and tag.foot.rstrip().endswith("/>"):
                tag.foot = tag.foot.rstrip()[:-2].rstrip() + ">"
                tag.tail = tag.tail or "\n"
                block.foot = block.foot or f"{pad_of(block)}</{block.name}>"
                block.tail = block.tail or "\n"

    def new_key(self, block: Node, name: str, value: str, comment: str) -> Node:
        """An attribute where the name begins with @, else an element with a text."""
        if name.startswith("@"):
            return Node(name, " ", f"{name[1:]}=", quoteattr(value))
        pad = pad_of(block.children[-1]) if len(block.children) > 1 else pad_of(block) + "  "
        lead = "".join(f"{pad}<!-- {line.replace('--', '- -')} -->\n" for line in comment.splitlines()) + pad
        parts = [Node(TAG, parts=[], foot=">"), Node(TEXT, value=escape(value))]
        return Node(name, lead, f"<{name}", parts=parts, foot=f"</{name}>", tail="\n")

    def written(self, value: str) -> str:
        """A value of a sheet as text."""
        return escape(value)

    def new_block(self, above: Node, name: str) -> Node:
        """An element at the end of another."""
        if name.startswith("@"):
            raise Broken(f"there is no attribute {name}")
        pad = pad_of(above.children[-1]) if len(above.children) > 1 else pad_of(above) + "  "
        return Node(
            name, pad, f"<{name}", parts=[Node(TAG, parts=[], foot=">", tail="\n")], foot=f"{pad}</{name}>", tail="\n"
        )

    def renamed(self, node: Node, name: str) -> None:
        """Write another name, in the tag that closes too."""
        bare = name.removeprefix("@")
        node.head = node.head.replace(node.name.removeprefix("@"), bare, 1)
        if node.foot:
            node.foot = re.sub(rf"</{re.escape(node.name)}(\s*>)", rf"</{bare}\1", node.foot)
        node.name = name

    def as_comment(self, node: Node, reason: str) -> str:
        """An element as a comment."""
        if node.name.startswith("@"):
            return ""
        own = Node("", head=node.head, parts=node.parts, foot=node.foot)
        return f"{node.lead}<!-- {own.text.replace('--', '- -')}{reason} -->{node.tail}"


class _Reading:
    """One document being read; elements are made as their tags pass."""

    def __init__(self, text: str) -> None:
        self.at = 0
        # The parser counts bytes: the text as signs of one byte each, read back where a piece has others than ASCII.
        self.is_ascii = text.isascii()
        self.raw = text if self.is_ascii else text.encode().decode("latin-1")
        self.root = Node("", parts=[])
        self.open = [self.root]
        self.lead = ""
        self.parser = expat.ParserCreate("utf-8")
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.parser.EntityDeclHandler = self.entity
        self.begins: list[int] = []

    def run(self) -> Node:
        try:
            self.parser.Parse(self.raw.encode("latin-1"), True)
        except expat.ExpatError as fault:
            why = expat.errors.messages.get(fault.code, str(fault))
            raise Broken(why, fault.lineno, fault.offset + 1) from fault
        self.root.foot = self._text(len(self.raw))
        return self.root

    def entity(self, name: str, *_: object) -> None:
        raise Broken(f"it defines the entity {name!r}, and entities are refused", self.parser.CurrentLineNumber)

    def _text(self, end: int) -> str:
        found, self.at = self.raw[self.at : end], end
        return self._read(found)

    def _read(self, piece: str) -> str:
        """A piece of the text as it is meant."""
        return piece if self.is_ascii else piece.encode("latin-1").decode()

    def _between(self, end: int) -> str:
        """What stands before a tag: blanks and comments; a text among them is a part of its own."""
        text = self._text(end)
        if not text or text.isspace():
            return text
        bare = re.sub(r"<!--.*?-->|<\?.*?\?>|<!DOCTYPE[^\[>]*(?:\[.*?\])?\s*>", "", text, flags=re.DOTALL)
        if not bare.strip():
            return text
        lead = _LEAD.match(text)
        above = lead[0] if lead else ""
        value = text[len(above) :].rstrip()
        self.open[-1].children.append(Node(TEXT, above, value=value, labels=(" ".join(value.split()),)))
        return text[len(above) + len(value) :]

    def start(self, name: str, _attributes: object) -> None:
        begin = self.parser.CurrentByteIndex
        if len(self.open) > _DEEPEST:
            raise Broken("elements are nested too deep", self.parser.CurrentLineNumber)
        lead = self._between(begin)
        self.begins.append(begin)
        element = Node(name, lead, f"<{name}", parts=[])
        tag = Node(TAG, parts=[])
        place = begin + len(f"<{name}".encode())
        while found := _ATTRIBUTE.match(self.raw, place):
            blank, key, sign, value = found.groups() if self.is_ascii else map(self._read, found.groups())
            tag.children.append(Node(f"@{key}", blank, key + sign, value))
            place = found.end()
        end = self.raw.index(">", place) + 1
        tag.foot = self._read(self.raw[place:end])
        self.at = end
        if not tag.foot.endswith("/>"):
            tag.tail = self._rest()
        element.children.append(tag)
        self.open[-1].children.append(element)
        self.open.append(element)

    def end(self, _name: str) -> None:
        element = self.open[-1]
        if not element.children[0].foot.endswith("/>"):
            begin = self.parser.CurrentByteIndex
            before = self._between(begin)
            element.foot = before + self._text(self.raw.index(">", begin) + 1)
        self.open.pop()
        whole = " ".join(self._read(self.raw[self.begins.pop() : self.at]).split())
        element.tail = self._rest()
        element.labels = _labels(element, whole)

    def _rest(self) -> str:
        found = _REST.match(self.raw, self.at)
        return self._text(found.end()) if found else ""


def _labels(element: Node, whole: str) -> tuple[str, ...]:
    """What tells an element from others of its name: attributes that name things, children that do, all of it."""
    tag = element.children[0]
    attributes = {one.name[1:]: (one.value or "")[1:-1] for one in tag.children}
    found = [attributes[key] for key in _WANTED if key in attributes]
    inside = [one for one in element.children[1:] if one.name in _WANTED and len(one.children) == 2]
    found += [one.children[1].value or "" for one in inside if one.children[1].name == TEXT]
    return (*found, whole)
