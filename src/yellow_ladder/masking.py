"""Keeps secrets out of what is shown or written down: a value whose key sounds like one is not told."""

from __future__ import annotations

import hashlib
import re

_SECRET = re.compile(
    r"(?i)pass(?:wor[dt]|wd|phrase)?(?![a-z])|pwd|secret|token(?!i[sz])|credential|private|salt|api_?-?key|auth_?-?key|_key\b|-key\b"
)
_SEPARATOR = re.compile(r"=>|[=:,]")
_ENCODED = re.compile(r"^[+\- ]?\s*[A-Za-z0-9+/=_-]{40,}\s*$")
_IN_URL = re.compile(r"(://[^:/@\s]*:)[^@\s]+@")
MASK = "•••"
# What passwords are kept as, signed tokens, and keys, by how such values begin.
_KEPT_AS = re.compile(
    r"\$(?:2[abxy]|argon2\w*|[156y]|pbkdf2[\w-]*|scrypt|P|H|S|bcrypt[\w-]*)\$|(?:pbkdf2|bcrypt|scrypt|argon2)[\w-]*[$:]"
    r"|\{(?:S?SHA\d*|S?MD5|CRYPT|PBKDF2)[\w-]*\}|-----BEGIN [A-Z ]*PRIVATE KEY|eyJ[\w-]{8,}\.eyJ[\w-]{8,}\."
)
_LONGEST_NAME = 100


def sounds_secret(key: str) -> bool:
    """Whether a key's name says that its value is not for everybody."""
    return _SECRET.search(key) is not None


def is_secret_by_itself(value: object) -> bool:
    """Whether a value is one that secrets are kept as: a password's hash, a signed token, a private key."""
    return isinstance(value, str) and _KEPT_AS.match(value) is not None


def names_a_secret(value: object) -> bool:
    """Whether a text is the name of something secret, such as a row of a table of settings has in its key."""
    return isinstance(value, str) and len(value) <= _LONGEST_NAME and sounds_secret(value)


def masked_url(url: str) -> str:
    """An address without the password in it."""
    return _IN_URL.sub(rf"\g<1>{MASK}@", url)


def masked_line(line: str) -> str:
    """A line of a file with everything replaced that may be a secret: all that follows a word for one, and encoded
    keys. Takes time in proportion to the line.
    """
    line = masked_url(line)
    if _ENCODED.match(line):
        return line[:1] + MASK
    word = _SECRET.search(line)
    if word is None:
        return line
    separator = _SEPARATOR.search(line, word.end())
    return line[: separator.end()] + f" {MASK}" if separator else line[:1] + MASK


def masked_value(key: str, value: str) -> str:
    """A value to be written down: a digest stands in for a secret, so that a change of it is still seen."""
    value = masked_url(value)
    if not sounds_secret(key):
        return value
    return f"{MASK} {hashlib.sha256(f'{key} {value}'.encode()).hexdigest()[:12]}"
