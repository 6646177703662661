"""What several formats do to pieces of a file alike: indentation, line ends, lines of comment."""

from __future__ import annotations

from yellow_ladder.settings.tree import Node


def pad_of(node: Node) -> str:
    """The indentation that a part begins with."""
    last = node.lead.rpartition("\n")[2]
    return last[: len(last) - len(last.lstrip(" \t"))]


def as_lines_of_comment(node: Node, sign: str, reason: str) -> str:
    """A part as lines of comment in its place, `reason` after the first; what stands above it stays above."""
    pad = pad_of(node)
    above = node.lead[: len(node.lead) - len(pad)]
    own = Node("", head=node.head, value=node.value, parts=node.parts, foot=node.foot, sep=node.sep, tail=node.tail)
    lines = own.text.rstrip("\n").split("\n")
    made = [f"{pad}{sign} {line.removeprefix(pad)}{'' if place else reason}\n" for place, line in enumerate(lines)]
    return above + "".join(made)


def end_line(node: Node) -> None:
    """Give the last piece of a node a line's end where it has none."""
    last = node
    while not (last.tail or last.sep or last.foot) and last.parts:
        last = last.parts[-1]
    if last.tail or last.sep:
        last.tail += "" if last.tail.endswith("\n") else "\n"
    elif last.foot:
        last.foot += "" if last.foot.endswith("\n") else "\n"
    elif last.parts is not None:
        last.head += "" if last.head.endswith("\n") else "\n"
    elif not (last.value or "").endswith("\n") or not last.opaque:
        last.tail = "\n"
