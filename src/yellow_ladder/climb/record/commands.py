"""Which commands of releases and of the site a climb runs, and when; read from the frozen plan alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.release.commands import CommandKeys, Point, SameAnswer
from yellow_ladder.release.versions import Version

OF_SITE = "the site"


@dataclass(frozen=True, slots=True)
class PlannedCommand:
    """One command of a climb: whose it is (a version, or the site's own), at which rung, at which point."""

    name: str
    at: Point
    rung: RungPlan
    whose: str
    keys: CommandKeys
    as_user: str

    @property
    def of(self) -> str:
        """What its step is about: no two of a climb are the same."""
        whose = "site" if self.whose == OF_SITE else "release"
        return f"{self.rung.number}/{self.at}/{whose}/{self.name}"

    @property
    def is_ours(self) -> bool:
        """Whether the administrator wrote it, and not the vendor."""
        return self.whose == OF_SITE


def commands_of(plan: Plan) -> list[PlannedCommand]:
    """Every command, from rung to rung; at each the release's come first."""
    record, found = plan.site.record, list[PlannedCommand]()
    for rung in plan.rungs:
        found += [
            PlannedCommand(one.name, one.at, rung, rung.to_version, one, record.run_as) for one in rung.parsed.commands
        ]
        for one in remade_at(plan, rung):
            found += [one for one in (one.export_by, one.import_by) if one is not None]
        version = Version(rung.to_version)
        ends = {"first": rung is plan.rungs[0], "last": rung is plan.rungs[-1]}
        found += [
            PlannedCommand(one.name, one.at, rung, OF_SITE, one, one.as_user)
            for one in record.commands
            if one.is_for(version, **ends)
        ]
    return found


@dataclass(frozen=True, slots=True)
class PlannedRemaking:
    """A data folder that is made anew at a rung: its tree paths before and after, and what exports and imports it.

    `copied`: it begins as a copy of the old one. `carries`: files of the old one that are put into it at the end.
    """

    rung: RungPlan
    number: int
    before: str
    after: str
    export_by: PlannedCommand | None
    import_by: PlannedCommand | None
    same: tuple[SameAnswer, ...]
    copied: bool = False
    carries: tuple[str, ...] = ()

    @property
    def of(self) -> str:
        """What its steps are about: no two of a climb are the same."""
        return f"{self.rung.number}/{self.number}"


def remade_at(plan: Plan, rung: RungPlan) -> list[PlannedRemaking]:
    """The data folders that a rung's release makes anew, in the order of its sheet."""
    paths = {after: before for before, after in rung.data}
    found = []
    for number, one in enumerate(rung.parsed.remade, start=1):
        before, whose, account = paths.get(one.folder, one.folder), rung.to_version, plan.site.record.run_as
        out = back_in = None
        if one.export_by is not None:  # by the release before, from its own folder
            keys = one.export_by.model_copy(update={"folder": one.export_by.folder or "{release}"})
            out = PlannedCommand(f"export {before}", Point.EXPORT, rung, whose, keys, account)
        if one.import_by is not None:
            back_in = PlannedCommand(f"import {one.folder}", Point.IMPORT, rung, whose, one.import_by, account)
        found.append(
            PlannedRemaking(
                rung, number, before, one.folder, out, back_in, tuple(one.same), one.copied, tuple(one.carries)
            )
        )
    return found


def all_remade(plan: Plan) -> list[PlannedRemaking]:
    """Every data folder that a climb makes anew, from rung to rung."""
    return [one for rung in plan.rungs for one in remade_at(plan, rung)]


def is_set_aside(plan: Plan, database: str) -> bool:
    """Whether a database goes back by its server's data folder, which is set aside and comes back as a whole."""
    made_anew = {one.before for one in all_remade(plan)}
    return any(database in one.holds and one.data_folder in made_anew for one in plan.site.record.servers)


def commands_at(plan: Plan, at: Point, rung: RungPlan | None = None) -> list[PlannedCommand]:
    """Those of one point, of one rung where it is a rung's."""
    return [one for one in commands_of(plan) if one.at is at and (rung is None or one.rung is rung)]


def written_by_commands(plan: Plan, up_to: RungPlan | None = None) -> Mapping[str, str]:
    """Paths below root that commands may write, or a release makes by itself, with the name of what may; up to a rung,
    or in all.
    """
    last = up_to.number if up_to else len(plan.rungs)
    found: dict[str, str] = {}
    for one in commands_of(plan):
        if one.rung.number <= last and one.at is not Point.GOING_BACK:
            found |= dict.fromkeys(one.keys.writes, one.name)
    for rung in plan.rungs[:last]:
        found |= {one.folder: f"import {one.folder}" for one in rung.parsed.remade if one.import_by is not None}
        found |= dict.fromkeys(generated_by(rung), f"{rung.to_version} itself")
        for migration in rung.migrations:
            does = migration.command or migration.by_start
            if does is not None:
                found |= dict.fromkeys(does.writes, migration.id)
    return found


def generated_by(rung: RungPlan) -> list[str]:
    """Paths below root that a release makes by itself in its tree, in a folder of its own where it has one."""
    named = rung.parsed.files.generated
    return [*named, *(f"{rung.folder}/{one}" for one in named if rung.folder)]


def mark_of(plan: Plan) -> str:
    """What all that a climb's commands start has in its environment."""
    return f"command-{plan.climb}@{plan.site.root}"
