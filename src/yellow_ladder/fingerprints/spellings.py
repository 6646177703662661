"""A text that says the same and is spelt otherwise: escaped for another place, encoded once more, letters replaced.

Pure functions of an old and a new text; each tells one family, or nothing.
"""

from __future__ import annotations

import base64
import binascii
import json
import re
import unicodedata
from collections.abc import Callable
from html import unescape
from urllib.parse import unquote, unquote_plus

# Typographic marks and the plain ones that stand for them where a text was made simple.
_MARKS = str.maketrans({"\u2018": "'", "\u2019": "'", "\u201a": "'", "\u201c": '"', "\u201d": '"', "\u201e": '"',
                        "\u00ab": '"', "\u00bb": '"', "\u2013": "-", "\u2014": "-", "\u2212": "-"})  # fmt: skip
# What letters become where somebody made addresses or sort keys of names.
_WRITTEN_OUT = ({"ä": "ae", "ö": "oe", "ü": "ue", "ø": "oe", "å": "aa", "æ": "ae", "œ": "oe", "ß": "ss", "þ": "th"},
                {"ø": "o", "æ": "a", "ð": "d", "đ": "d", "ł": "l", "ß": "s", "ı": "i"})  # fmt: skip
_BREAKS = (("<br>", "\n"), ("<br/>", "\n"), ("<br />", "\n"), ("\\n", "\n"), ("\\r\\n", "\r\n"), (r"\n", "\r\n"))


def escaped(old: str, new: str) -> str:
    """Written for a page, an address, a statement or a document, or no longer."""
    for ways, place in ((_PAGES, "HTML"), (_ADDRESSES, "a URL")):
        if any(way(new) == old for way in ways):
            return f"written for {place}"
        if any(way(old) == new for way in ways):
            return f"no longer written for {place}"
    if new in (old.replace("'", "''"), old.replace("\\", "\\\\"), old.replace("'", "\\'"), old.replace('"', '\\"')):
        return "quotes or backslashes doubled"
    if old in (new.replace("'", "''"), new.replace("\\", "\\\\")):
        return "doubled quotes or backslashes undone"
    for written, meant in _BREAKS:
        if old.replace(meant, written) == new or new.replace(meant, written) == old:
            shown = written if written.startswith("<") else "backslash and letter"
            return f"line breaks written as {shown}" if meant in old else f"line breaks were written as {shown}"
    return _in_json(old, new)


_PAGES: tuple[Callable[[str], str], ...] = (unescape,)
_ADDRESSES: tuple[Callable[[str], str], ...] = (unquote, unquote_plus)


def _in_json(old: str, new: str) -> str:
    for first, second, words in ((old, new, "written as a text of JSON"), (new, old, "no longer a text of JSON")):
        if any(second in (whole, whole[1:-1]) for whole in (json.dumps(first), json.dumps(first, ensure_ascii=False))):
            return words
    if old[:1] in "{[" and new[:1] in "{[":
        try:
            return "the same JSON, written otherwise" if json.loads(old) == json.loads(new) else "other JSON"
        except ValueError:
            return ""
    return ""


def encoded(old: str, new: str) -> str:
    """In base64 or as hexadecimal digits, or no longer."""
    for first, second, words in ((old, new, "encoded once more, as"), (new, old, "decoded, was")):
        name = coded(first.encode("utf-8", "surrogatepass"), second)
        if name:
            return f"{words} {name}"
    return ""


def coded(content: bytes, text: str) -> str:
    """How a text encodes some bytes: `base64`, `hexadecimal digits`, or not."""
    try:
        if content and text.removeprefix("\\x").removeprefix("0x").lower() == content.hex():
            return "hexadecimal digits"
        return "base64" if content and base64.b64decode(text, validate=True) == content else ""
    except (binascii.Error, ValueError):
        return ""


def replaced(old: str, new: str) -> str:
    """The same words in other letters or marks, without some, or in another order."""
    if old.translate(_MARKS) == new.translate(_MARKS):
        return "other quotation marks or dashes"
    bare, now = _without_invisible(old), _without_invisible(new)
    if bare == now:
        return f"invisible characters {'came' if len(new) > len(old) else 'lost'}"
    if any(_spelt_out(old, letters) == new for letters in _WRITTEN_OUT):
        return "letters written out in ASCII"
    if not old.isascii() and "".join(one for one in old if one.isascii()).split() == new.split():
        return "letters beyond ASCII lost"
    if old.translate(_COMMAS) == new and _FIGURES.fullmatch(old):
        return "decimal point and comma changed places"
    words = sorted(re.findall(r"\w+", old))
    return "the same words in another order" if len(words) > 1 and words == sorted(re.findall(r"\w+", new)) else ""


_COMMAS = str.maketrans(".,", ",.")
_FIGURES = re.compile(r"[+-]?[\d.,]*\d[\d.,]*")


def _without_invisible(text: str) -> str:
    """Without marks that nobody sees: of byte order, of width zero, soft hyphens, control characters."""
    return "".join(one for one in text if unicodedata.category(one) not in ("Cf", "Cc") or one in "\t\r\n")


def _spelt_out(text: str, letters: dict[str, str]) -> str:
    """Letters replaced, capitals as capitals; what the table does not have loses its accents."""
    found = []
    for one in unicodedata.normalize("NFC", text):
        instead = letters.get(one.lower())
        found.append(one if instead is None else instead.capitalize() if one.isupper() else instead)
    plain = unicodedata.normalize("NFD", "".join(found))
    return "".join(one for one in plain if not unicodedata.combining(one))
