"""Splits SQL text into statements, by the rules of each engine for quotes, comments and bodies."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass

_CONTROL = {
    "sqlite": ("BEGIN", "COMMIT", "END", "ROLLBACK", "ATTACH", "DETACH", "VACUUM"),
    "postgresql": ("BEGIN", "COMMIT", "END", "ROLLBACK", "START", "ABORT", "PREPARE", "VACUUM", "COPY"),
    "mariadb": ("BEGIN", "COMMIT", "ROLLBACK", "START", "XA", "LOCK", "UNLOCK", "USE"),
}
# What begins a value or a name and was not matched together with its end.
_OPEN_QUOTE = {"postgresql": re.compile(r"['\"]|\$(?:[A-Za-z_]\w*)?\$"), "mariadb": re.compile(r"['\"`]|/\*")}
_QUOTED = r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\""
_TOKENS = {
    "postgresql": re.compile(
        r"(?P<skip>--[^\n]*|[eE]'(?:[^'\\]|''|\\.)*'|"
        + _QUOTED
        + r"|\$(?P<tag>[A-Za-z_]\w*)?\$.*?\$(?(tag)(?P=tag))\$)"
        r"|(?P<open>/\*)|(?P<word>[A-Za-z_]\w*)|(?P<end>;)|(?P<other>.)",
        re.DOTALL,
    ),
    "mariadb": re.compile(
        r"(?P<line>^[ \t]*DELIMITER[ \t]+(?P<mark>\S+)[ \t]*$\n?)"
        r"|(?P<skip>--(?=\s|$)[^\n]*|\#[^\n]*|/\*.*?\*/|'(?:[^'\\]|''|\\.)*'|\"(?:[^\"\\]|\"\"|\\.)*\"|`(?:[^`]|``)*`)"
        r"|(?P<word>[A-Za-z_]\w*)|(?P<other>.)",
        re.DOTALL | re.IGNORECASE | re.MULTILINE,
    ),
}


@dataclass(frozen=True, slots=True)
class Unfinished(Exception):
    """The text ends in the middle of a statement."""

    rest: str


def split_sql(text: str, engine: str) -> tuple[str, ...]:
    """The statements of a text, without those that are only comments. Raises Unfinished for a last one left open."""
    ways = {"sqlite": _split_sqlite, "postgresql": _split_postgresql, "mariadb": _split_mariadb}
    return tuple(one for one in ways[engine](text) if bare(one, engine).strip("; \n\t"))


def transaction_control(statement: str, engine: str) -> str:
    """The word by which a statement would begin or end a transaction, or do what cannot be in one; else nothing."""
    words = re.findall(r"[A-Za-z_]+", bare(statement, engine)[:200])
    first = words[0].upper() if words else ""
    return first if first in _CONTROL[engine] else ""


def bare(statement: str, engine: str = "sqlite") -> str:
    """A statement without the comments before it."""
    rest = statement.strip()
    lines = ("--", "#") if engine == "mariadb" else ("--",)
    # What stands in /*! */ is carried out by MariaDB and its kin.
    while rest.startswith((*lines, "/*")) and not rest.startswith(("/*!", "/*M!")):
        rest = rest.partition("*/" if rest.startswith("/*") else "\n")[2].strip()
    return rest


def _split_sqlite(text: str) -> Iterator[str]:
    start = 0
    for place, letter in enumerate(text):
        if letter == ";" and sqlite3.complete_statement(text[start : place + 1]):
            yield text[start : place + 1].strip()
            start = place + 1
    _refuse_rest(text[start:], "sqlite")


def _refuse_rest(rest: str, engine: str) -> None:
    if bare(rest, engine):
        raise Unfinished(rest)


def _split_postgresql(text: str) -> Iterator[str]:
    """Bodies between dollar marks are one value; a body that begins with BEGIN ATOMIC ends with its END."""
    start, at, depth, last = 0, 0, 0, ""
    while found := _TOKENS["postgresql"].match(text, at):
        if _OPEN_QUOTE["postgresql"].match(text, at) and found["other"]:
            raise Unfinished(text[start:])
        at = _end_of_comment(text, found.end()) if found["open"] else found.end()
        word = (found["word"] or "").upper()
        if word == "ATOMIC" and last == "BEGIN":
            depth = 1
        elif depth and word == "CASE":
            depth += 1
        elif depth and word == "END":
            depth -= 1
        elif found["end"] and not depth:
            yield text[start:at].strip()
            start = at
        last = word or last
    _refuse_rest(text[start:], "postgresql")


def _end_of_comment(text: str, at: int) -> int:
    """Behind a comment, in which others may lie."""
    depth = 1
    while depth:
        found = re.compile(r"/\*|\*/").search(text, at)
        if found is None:
            raise Unfinished(text[at:])
        depth += 1 if found[0] == "/*" else -1
        at = found.end()
    return at


def _split_mariadb(text: str) -> Iterator[str]:
    """What ends a statement can be changed by a DELIMITER line, as in the files that its shell reads."""
    start, at, mark = 0, 0, ";"
    while at < len(text):
        if text.startswith(mark, at):
            yield text[start:at].strip()
            start = at = at + len(mark)
            continue
        found = _TOKENS["mariadb"].match(text, at)
        if found is None:
            break
        if _OPEN_QUOTE["mariadb"].match(text, at) and found["other"]:
            raise Unfinished(text[start:])
        if found["line"] and not bare(text[start:at], "mariadb"):
            mark, start = found["mark"], found.end()
        at = found.end()
    _refuse_rest(text[start:], "mariadb")
