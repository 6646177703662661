"""Versions and ranges of versions, in the order of PEP 440 and its specifiers."""

from __future__ import annotations

from functools import total_ordering

from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import InvalidVersion
from packaging.version import Version as _Parsed


@total_ordering
class Version:
    """A version that keeps the text it was written in; `3.0` and `3.0.0` are equal."""

    __slots__ = ("_parsed", "text")

    def __init__(self, text: str) -> None:
        """Parse; raises ValueError with a sentence for people."""
        try:
            self._parsed = _Parsed(text)
        except InvalidVersion as fault:
            raise ValueError(f"should be a version like 3.0 or 3.0.1 (it is {text!r})") from fault
        self.text = text

    def __eq__(self, other: object) -> bool:
        """Equal where the order says so."""
        return isinstance(other, Version) and self._parsed == other._parsed

    def __lt__(self, other: Version) -> bool:
        """Older."""
        return self._parsed < other._parsed

    def __hash__(self) -> int:
        """Agrees with equality."""
        return hash(self._parsed)

    def __str__(self) -> str:
        """As it was written."""
        return self.text

    def __repr__(self) -> str:
        """As code."""
        return f"Version({self.text!r})"

    @property
    def parsed(self) -> _Parsed:
        """The version as the library orders it."""
        return self._parsed

    @property
    def is_preview(self) -> bool:
        """Whether it is a pre-release."""
        return self._parsed.is_prerelease

    def is_in(self, versions: str) -> bool:
        """Whether it lies in a range such as `>=2.4,<3.0`; previews count as what they are."""
        return parse_range(versions).contains(self._parsed, prereleases=True)


def parse_range(text: str) -> SpecifierSet:
    """Parse a range; raises ValueError with a sentence for people."""
    try:
        return SpecifierSet(text)
    except InvalidSpecifier as fault:
        raise ValueError(f"should be a range like >=2.4,<3.0 (it is {text!r})") from fault
