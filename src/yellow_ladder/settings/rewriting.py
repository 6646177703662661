"""A value in the place of another, written as that was."""

from __future__ import annotations

from xml.sax.saxutils import quoteattr

from yellow_ladder.settings.port import Format
from yellow_ladder.settings.tree import Node


def rewritten(form: Format, node: Node, value: str) -> str:
    """A value as it stands in the file, between the quotation marks that the old one has."""
    raw = (node.value or "").strip()
    if node.name.startswith("@"):
        return quoteattr(value)
    if len(raw) > 1 and raw[0] == raw[-1] and raw[0] in "\"'":
        bare = value[1:-1] if len(value) > 1 and value[0] == value[-1] == raw[0] else value
        if not any(sign in bare for sign in (raw[0], "\\", "\n")):
            return raw[0] + bare + raw[0]
    return form.written(value)
