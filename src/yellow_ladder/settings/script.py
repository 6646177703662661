"""Between the bytes of a settings file and its text: encoding, byte order mark, line ends."""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass

from yellow_ladder.settings.tree import Broken

_MARKS = (("utf-8", codecs.BOM_UTF8), ("utf-16-le", codecs.BOM_UTF16_LE), ("utf-16-be", codecs.BOM_UTF16_BE))
_DECLARED = re.compile(rb"<\?xml[^>]*encoding=[\"']([\w-]+)[\"']|^#.*coding[:=]\s*([\w-]+)")
LARGEST_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Script:
    """How a file's text is written as bytes."""

    encoding: str = "utf-8"
    mark: bytes = b""
    ending: str = "\n"

    def written(self, text: str) -> bytes:
        """A text as bytes; raises Broken for a character that the encoding does not have."""
        try:
            return self.mark + text.replace("\n", self.ending).encode(self.encoding)
        except UnicodeEncodeError as fault:
            raise Broken(f"{fault.object[fault.start]!r} cannot be written in {self.encoding}") from fault


def read_script(raw: bytes, encoding: str = "") -> tuple[str, Script]:
    """A file's text, with line feeds alone for line ends, and how it was written; raises Broken."""
    if len(raw) > LARGEST_BYTES:
        raise Broken(f"it is larger than {LARGEST_BYTES // 1024**2} MiB")
    mark = b""
    for name, sign in _MARKS:
        if raw.startswith(sign):
            encoding, mark = name, sign
    if not encoding:
        declared = _DECLARED.search(raw[:200])
        encoding = (declared[1] or declared[2]).decode().lower() if declared else "utf-8"
    if b"\0" in raw and not encoding.startswith("utf-16"):
        raise Broken("it is no text", raw.count(b"\n", 0, raw.index(b"\0")) + 1)
    try:
        text = raw[len(mark) :].decode(encoding)
    except UnicodeDecodeError as fault:
        line = raw.count(b"\n", 0, fault.start) + 1
        raise Broken(f"it is no {encoding.upper()} text (byte {fault.start})", line) from fault
    except LookupError as fault:
        raise Broken(f"the encoding {encoding} is unknown") from fault
    return _with_one_end(text, encoding, mark)


def _with_one_end(text: str, encoding: str, mark: bytes) -> tuple[str, Script]:
    """A text with line feeds alone; raises Broken where its lines end in different ways."""
    windows, lone = text.count("\r\n"), text.count("\r")
    if lone and windows == lone == text.count("\n"):
        return text.replace("\r\n", "\n"), Script(encoding, mark, "\r\n")
    if lone and text.count("\n") == 0:
        return text.replace("\r", "\n"), Script(encoding, mark, "\r")
    if lone:
        raise Broken("its lines end in different ways", text.count("\n", 0, text.index("\r")) + 1)
    return text, Script(encoding, mark)
