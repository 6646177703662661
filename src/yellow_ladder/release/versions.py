"""Versions and ranges of versions: PEP 440 and its specifiers, after the other usual ways of writing are translated."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache, total_ordering

from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.version import InvalidVersion
from packaging.version import Version as _Parsed

# A word that products put before a number: release-3.0, REL_3, version 2.6, quaybook-2.4.
_LEAD = re.compile(r"^(?:(?!v\d)[A-Za-z][A-Za-z0-9]*[-_]|[A-Za-z]+\.)*(?:release|rel|version|ver|v|r)?(?=\d)", re.I)
_MOMENT = re.compile(
    r"^(?P<day>(?:19|20)\d\d(?P<sep>[-./]?)(?:0[1-9]|1[0-2])(?P=sep)(?:0[1-9]|[12]\d|3[01]))"
    r"(?:[T_.-](?P<time>\d\d[-:.]?\d\d(?:[-:.]?\d\d)?)Z?)?(?P<rest>.*)$"
)
_MONTH = re.compile(r"^(?P<year>(?:19|20)\d\d)-(?P<month>0[1-9]|1[0-2])(?P<rest>(?:[.+].*)?)$")
_LETTER = re.compile(r"[A-Za-z]")
# Before `d` a letter may mean alpha, beta or candidate.
_REPAIR = re.compile(r"(\d+(?:\.\d+){2,})([d-zD-Z])")
_PREVIEW_WORDS = {"milestone": "alpha", "m": "alpha", "snapshot": "dev", "nightly": "dev", "final": "", "ga": ""}
_PREVIEW = re.compile(r"[-._](milestone|m|snapshot|nightly|final|ga)(?=$|[-._+\d])", re.IGNORECASE)
_OPERATORS = ("===", "==", "!=", "~=", ">=", "<=", ">", "<")


def told_by(found: re.Match[str]) -> str:
    """What a pattern took: groups with names joined by dots, as where major and minor stand apart; else the first
    group, or the whole.
    """
    if found.re.groupindex:
        return ".".join(one for one in found.groupdict().values() if one)
    return (found.group(1) if found.groups() else found.group(0)) or ""


@lru_cache(maxsize=65_536)
def _parsed(text: str) -> _Parsed:
    return _Parsed(normalised(text))


def normalised(text: str) -> str:
    """The text as PEP 440 would have written it: tags lose their lead, dates and times become dotted numbers.

    `2026-01-20` is 2026.1.20, `v2026-01-20T10-33-05Z` is 2026.1.20.10.33.5, `3.0-SNAPSHOT` is 3.0.dev. A single letter
    is a repair of what it follows where it cannot be a preview: `2026-01-20a` comes after `2026-01-20`, and `1.0.2k`
    after `1.0.2`. What is not recognised comes back as it was.
    """
    bare = _LEAD.sub("", text.strip(), count=1)
    bare = re.sub(r"(?<=\d)_(?=\d)", ".", bare)
    month, moment = _MONTH.match(bare), _MOMENT.match(bare)
    if moment:
        digits = re.sub(r"\D", "", moment["day"])
        parts = [digits[:4], digits[4:6], digits[6:]]
        clock = re.sub(r"\D", "", moment["time"] or "")
        parts += [clock[at : at + 2] for at in range(0, len(clock), 2)]
        rest = moment["rest"]
        if _LETTER.fullmatch(rest):  # before the day's first second is over
            parts, rest = [*parts, *"000"[len(parts) - 3 :], str(_place_of(rest))], ""
        bare = ".".join(str(int(part)) for part in parts) + rest
    elif month:
        bare = f"{month['year']}.{int(month['month'])}{month['rest']}"
    elif repair := _REPAIR.fullmatch(bare):
        bare = f"{repair[1]}.0.{_place_of(repair[2])}"
    return _PREVIEW.sub(lambda found: _preview_word(found[1]), bare)


def _place_of(letter: str) -> int:
    return ord(letter.lower()) - ord("a") + 1


def _preview_word(word: str) -> str:
    meaning = _PREVIEW_WORDS[word.lower()]
    return f".{meaning}" if meaning else ""


@total_ordering
class Version:
    """A version that keeps the text it was written in; `3.0` and `3.0.0` are equal."""

    __slots__ = ("_parsed", "text")

    def __init__(self, text: str) -> None:
        """Parse; raises ValueError with a sentence for people."""
        try:
            self._parsed = _parsed(text)
        except InvalidVersion as fault:
            raise ValueError(f"should be a version like 3.0, 3.0.1, 3.0rc1 or 2026-01-20 (it is {text!r})") from fault
        self.text = text.strip()

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


@lru_cache(maxsize=65_536)
def parse_range(text: str) -> SpecifierSet:
    """Parse a range; raises ValueError with a sentence for people."""
    try:
        return SpecifierSet(",".join(_clause(part) for part in text.split(",")))
    except InvalidSpecifier as fault:
        raise ValueError(f"should be a range like >=2.4,<3.0 (it is {text!r})") from fault


def _clause(part: str) -> str:
    part = part.strip()
    operator = next((one for one in _OPERATORS if part.startswith(one)), "")
    return operator + normalised(part[len(operator) :]) if operator else part


def could_meet(ranges: list[str]) -> bool:
    """Whether some version lies in all of the ranges.

    Tried at the bounds and just above and below each of them: an interval that is not empty holds one of these.
    """
    wanted = parse_range(",".join(one for one in ranges if one))
    return any(wanted.contains(one, prereleases=True) for one in _candidates(wanted))


def _candidates(wanted: SpecifierSet) -> Iterator[_Parsed]:
    """The bounds themselves first: nearly every range that can be met holds one of its own."""
    bounds = []
    for one in wanted:
        try:
            bounds.append(_Parsed(one.version.removesuffix(".*")))
        except InvalidVersion:
            continue
    yield from bounds
    yield from (_Parsed("0"), _Parsed("999999"))
    for bound in bounds:
        base, head, last = bound.base_version, bound.release[:-1], bound.release[-1]
        yield from (_Parsed(f"{base}.0.0.1"), _Parsed(f"{base}.dev0"), _Parsed(f"{base}.999999"))
        if last:
            yield _Parsed(".".join(map(str, (*head, last - 1, 999999))))
