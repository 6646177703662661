"""The line-by-line formats by name: INI and its kin, properties, environment files, directives of servers."""

from __future__ import annotations

import re
from dataclasses import replace

from yellow_ladder.settings.formats.lined import WORD, Lined, Manner
from yellow_ladder.settings.tree import Node

_OFF = rf"^([ \t]*)([#;][ \t]?)({WORD})([ \t]*=[ \t]*)"
_INLINE = r"[ \t]+[;#](?=[ \t]|\n|$).*$"

INI = Manner(
    name="ini",
    signs="#;",
    key=r"^([ \t]*)([^\s=:#;\[][^=:\n]*?(?=[ \t]*[=:])|[\w.-]+(?=[ \t]*$))([ \t]*[=:][ \t]*|(?=[ \t]*$))",
    values=("indent",),
    inline=_INLINE,
    section=r"^[ \t]*\[([^\]\n]+)\][ \t]*(?:[;#].*)?\n?$",
    commented=_OFF,
)
UNIT = Manner(
    name="unit",
    signs="#;",
    key=r"^([ \t]*)([^\s=#;\[][^=\n]*?)([ \t]*=[ \t]*)",
    values=("backslash",),
    section=r"^[ \t]*\[([^\]\n]+)\][ \t]*\n?$",
    repeats=True,
    commented=_OFF,
    spaced="=",
)
GIT = Manner(
    name="git",
    signs="#;",
    key=r"^([ \t]*)([A-Za-z][\w-]*)([ \t]*=[ \t]*|(?=[ \t]*(?:[#;].*)?$))",
    values=("backslash",),
    inline=_INLINE,
    section=r"^[ \t]*\[([^\]\n]+)\][ \t]*(?:[;#].*)?\n?$",
    repeats=True,
    commented=_OFF,
)
PROPERTIES = Manner(
    name="properties",
    signs="#!",
    key=r"^([ \t\f]*)((?:\\.|[^\s=:\\#!])(?:\\.|[^\s=:\\])*)([ \t\f]*[=:][ \t\f]*|[ \t\f]+|(?=\s*$))",
    values=("backslash",),
    commented=rf"^([ \t]*)([#!][ \t]?)({WORD})([ \t]*=[ \t]*)",
    spaced="=",
)
ENVIRONMENT = Manner(
    name="env",
    signs="#",
    key=r"^([ \t]*)(?:export[ \t]+)?([A-Za-z_]\w*)(=)",
    values=("quotes", "backslash"),
    inline=r"[ \t]+#.*$",
    lax=True,
    commented=r"^([ \t]*)(#[ \t]?)(?:export[ \t]+)?([A-Za-z_]\w*)(=)",
    spaced="=",
)
SHELL = replace(ENVIRONMENT, name="shell", repeats=True)
DIRECTIVES = Manner(
    name="conf",
    signs="#;",
    key=rf"^([ \t]*)({WORD})([ \t]*[=:][ \t]*|[ \t]+|(?=\s*$))",
    values=("backslash",),
    inline=r"[ \t]+#.*$",
    angles=False,
    repeats=True,
    lax=True,
    commented=rf"^([ \t]*)(#[ \t]?(?={WORD}[ \t]*=)|#(?={WORD}[ \t]+\S+[ \t]*$))({WORD})([ \t]*=[ \t]*|[ \t]+)",
    spaced=" ",
)
ANGLES = Manner(
    name="angles",
    signs="#",
    key=rf"^([ \t]*)({WORD})([ \t]+|(?=\s*$))",
    values=("backslash",),
    angles=True,
    repeats=True,
    lax=True,
    commented=rf"^([ \t]*)(#(?={WORD}[ \t]+\S+[ \t]*$))({WORD})([ \t]+)",
    spaced=" ",
)


class Directives(Lined):
    """Lines of a name and its arguments: blanks between these count for nothing."""

    def meaning(self, node: Node) -> str:
        """The arguments, one blank apart."""
        return " ".join(super().meaning(node).split())


class Properties(Lined):
    """A properties file: escapes are read."""

    def meaning(self, node: Node) -> str:
        """The value with its escapes read."""
        value = re.sub(r"\\\n[ \t\f]*", "", (node.value or "").strip())
        return re.sub(r"\\(u[0-9A-Fa-f]{4}|.)", _unescaped, value)

    def written(self, value: str) -> str:
        """A value whose backslashes and line breaks are escaped."""
        return value.replace("\\", "\\\\").replace("\n", "\\n")


class Environment(Lined):
    """Lines of NAME=value as shells and service managers read them."""

    def written(self, value: str) -> str:
        """A value, between quotation marks where it has blanks or signs."""
        if re.fullmatch(r"[\w./:@%+,-]*", value):
            return value
        return '"' + re.sub(r'(["\\$`])', r"\\\1", value) + '"'


def _unescaped(found: re.Match[str]) -> str:
    sign = found[1]
    if len(sign) > 1:
        return chr(int(sign[1:], 16))
    return {"n": "\n", "t": "\t", "r": "\r", "f": "\f"}.get(sign, sign)
