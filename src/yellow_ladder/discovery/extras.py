"""Tells with which extras a Python package was installed, as in `quaybook[postgresql]`, which no environment records.

What is there and neither asked for nor needed by anything else came with one of them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from email.parser import HeaderParser
from pathlib import Path

from packaging.markers import UndefinedComparison, UndefinedEnvironmentName
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from yellow_ladder.files.reading import read_regular

_LARGEST_BYTES = 1024 * 1024
# It is written into a list that an installer is given: anything else could begin a line of its own there.
_EXTRA = re.compile(r"[A-Za-z0-9][\w.-]*\Z", re.ASCII)


@dataclass(frozen=True, slots=True)
class _Package:
    requirements: tuple[Requirement, ...]
    extras: tuple[str, ...]
    was_asked_for: bool

    def needs(self, extra: str = "") -> set[str]:
        """Names of what it needs here by itself, or what an extra of it adds to that."""
        plain = {_name_of(one) for one in self.requirements if _holds(one, "")}
        return {_name_of(one) for one in self.requirements if _holds(one, extra)} - plain if extra else plain


def _name_of(one: Requirement) -> str:
    return canonicalize_name(one.name)


def _holds(one: Requirement, extra: str) -> bool:
    try:
        return one.marker is None or one.marker.evaluate({"extra": extra})
    except (UndefinedComparison, UndefinedEnvironmentName):
        return False


def extras_in(environment: Path, name: str) -> tuple[str, ...]:
    """The extras of an installed package that tell where other packages came from, the smallest first; sorted."""
    there = dict(_installed(environment))
    ours = there.get(canonicalize_name(name))
    if ours is None:
        return ()
    explained = {key for key, one in there.items() if one.was_asked_for} | {canonicalize_name(name)}
    for other in there.values():
        explained |= other.needs()
        for needed in other.requirements:  # what others ask for with an extra of its own: `letters[fast]`
            brought = there.get(_name_of(needed)) if _holds(needed, "") else None
            if brought is not None:
                explained |= {one for extra in needed.extras for one in brought.needs(extra)}
    brings = {extra: ours.needs(extra) for extra in ours.extras}
    found = []
    for extra, names in sorted(brings.items(), key=lambda one: (len(one[1]), one[0])):
        if names <= there.keys() and names - explained:
            found.append(extra)
            explained |= names
    return tuple(sorted(found))


def _installed(environment: Path) -> Iterator[tuple[str, _Package]]:
    for about in environment.glob("lib/*/site-packages/*.dist-info"):
        try:
            text = read_regular(about / "METADATA", _LARGEST_BYTES, cut=True).decode(errors="replace")
        except OSError:
            continue
        facts = HeaderParser().parsestr(text)
        requirements = tuple(_parsed(facts.get_all("Requires-Dist") or []))
        extras = tuple(one for one in facts.get_all("Provides-Extra") or [] if _EXTRA.match(one))
        was_asked_for = (about / "REQUESTED").exists()
        yield canonicalize_name(str(facts["Name"])), _Package(requirements, extras, was_asked_for)


def _parsed(lines: list[str]) -> Iterator[Requirement]:
    for line in lines:
        try:
            yield Requirement(line)
        except InvalidRequirement:
            continue
