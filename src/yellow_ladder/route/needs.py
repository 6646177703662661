"""What releases need of the machine, and where a route must land because no one state of the machine serves it all.

Pure: it is given what the machine has. A need is met by changing the machine once before the climb wherever one
version serves every release on the way; otherwise the climb lands as late as it can and changes it there.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.versions import Version, could_meet

KINDS = {
    "runtime": "the runtime",
    "database": "the database server",
    "tool": "the tool",
    "part": "the part",
    "package": "the package",
}


@dataclass(frozen=True, slots=True)
class Thing:
    """Something of the machine that releases need: which kind, and its name (none for the one runtime)."""

    kind: str
    name: str = ""

    def __str__(self) -> str:
        """As people say it."""
        return f"{KINDS[self.kind]} {self.name}".strip()


@dataclass(frozen=True, slots=True)
class Machine:
    """What is there: versions as they were told, empty where nothing told any; `runtime` is its name."""

    versions: Mapping[Thing, str] = field(default_factory=dict)
    runtime: str = ""


@dataclass(frozen=True, slots=True)
class MachineChange:
    """A change to the machine: to a version in `wanted`. `serves_both`: the release there runs before and after it."""

    thing: Thing
    wanted: str
    have: str
    serves_both: bool
    label: str = ""


@dataclass(frozen=True, slots=True)
class Landing:
    """A place where the climb stops: after `rungs` rungs, at `version`. What is to be done, and then it goes on."""

    rungs: int
    version: Version
    changes: tuple[MachineChange, ...] = ()
    rest_days: int = 0
    people: str = ""

    @property
    def instructions(self) -> tuple[str, ...]:
        """What the administrator does there, in order."""
        found = []
        for one in self.changes:
            have = f" (now {one.have})" if one.have else ""
            text = f"bring {one.label or one.thing} to {one.wanted}{have}"
            if not one.serves_both:
                text = f"stop the services, then {text}: no version serves {self.version} and what comes next"
            found.append(text)
        if self.rest_days:
            found.append(f"let people use {self.version} for {self.rest_days} days")
        if self.people:
            found.append(f"have this done: {self.people}")
        return tuple(found)


def needs_of(sheet: ReleaseSheet) -> dict[Thing, str]:
    """The ranges that a release asks for."""
    needs = sheet.needs
    found = {Thing("runtime"): needs.runtime} if needs.runtime else {}
    for kind, table in (("database", needs.database), ("tool", needs.tools), ("package", needs.packages)):
        found |= {Thing(kind, name.lower() if kind == "package" else name): wanted for name, wanted in table.items()}
    brought = sheet.release.parts
    return found | {Thing("part", name): wanted for name, wanted in needs.parts.items() if name not in brought}


def find_landings(
    present: tuple[Version, ReleaseSheet | None], way: Sequence[ReleaseSheet], machine: Machine
) -> list[Landing]:
    """Where the route through `way` must land. One after no rung at all is work before the climb begins.

    What the machine does not tell is not reckoned with: a check asks for a probe.
    """
    sheets = [present[1], *way]
    wants = [needs_of(sheet) if sheet else {} for sheet in sheets]
    versions = [present[0], *(sheet.version for sheet in way)]
    changes: dict[int, list[MachineChange]] = {}
    for thing in sorted({thing for want in wants[1:] for thing in want}, key=str):
        have = machine.versions.get(thing, "")
        if have:
            for station, change in _changes_of(thing, have, [want.get(thing, "") for want in wants]):
                label = f"the runtime {machine.runtime}" if thing.kind == "runtime" and machine.runtime else ""
                changes.setdefault(station, []).append(replace(change, label=label))
    found = []
    for station in range(len(way)):
        sheet = sheets[station]
        rest_days = sheet.reach.rest_days if sheet else 0
        people = way[station].needs.people
        if station in changes or rest_days or people:
            what = people.what if people else ""
            found.append(Landing(station, versions[station], tuple(changes.get(station, ())), rest_days, what))
    return found


def _changes_of(thing: Thing, have: str, ranges: Sequence[str]) -> Iterable[tuple[int, MachineChange]]:
    """The fewest changes to one thing along the stations; station 0 is where the site is now."""
    last = len(ranges) - 1
    if all(_meets(have, one) for one in ranges[1:]):
        return
    if could_meet(list(ranges)):
        # One version serves the whole way and where the site is now: nobody needs to land for it.
        yield 0, MachineChange(thing, joined(ranges), have, serves_both=True)
        return
    station = 0
    while station < last:
        end = station
        while end < last and _meets(have, ranges[end + 1]):
            end += 1
        if end == last:
            return
        reach = end + 1
        while reach < last and could_meet(list(ranges[end + 1 : reach + 2])):
            reach += 1
        wanted = list(ranges[end + 1 : reach + 1])
        serves_both = could_meet([ranges[end], *wanted])
        yield end, MachineChange(thing, joined([ranges[end], *wanted] if serves_both else wanted), have, serves_both)
        have, station = joined(wanted), reach
        if reach == last:
            return


def _meets(have: str, wanted: str) -> bool:
    """Whether a version (or, after a change, a range to be chosen from) meets a range."""
    if not wanted:
        return True
    try:
        return Version(have).is_in(wanted)
    except ValueError:
        return False


def joined(ranges: Iterable[str]) -> str:
    """Several ranges as one, without clauses said twice or made needless by another bound of the same kind."""
    clauses = list(dict.fromkeys(part.strip() for one in ranges for part in one.split(",") if part.strip()))
    lows = [one for one in clauses if one.startswith(">")]
    highs = [one for one in clauses if one.startswith("<")]
    others = [one for one in clauses if one[0] not in "<>"]
    kept = [max(lows, key=_bound)] if lows else []
    kept += [min(highs, key=_bound)] if highs else []
    return ", ".join([*kept, *others])


def _bound(clause: str) -> tuple[Version, bool]:
    """The bound of a clause; of two with the same bound, the one without it is the narrower below and above."""
    version = Version(clause.lstrip("<>="))
    return version, "=" not in clause if clause.startswith(">") else "=" in clause
