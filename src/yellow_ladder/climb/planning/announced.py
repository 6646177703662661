"""What a plan will make, run and start, and under which account: what somebody should read before agreeing to it."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from yellow_ladder.accounts import account_for, account_name
from yellow_ladder.climb.placing.kinds import release_before, release_folder
from yellow_ladder.climb.record.commands import PlannedCommand, commands_of, remade_at
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.errors import BadInput
from yellow_ladder.masking import masked_line
from yellow_ladder.release.commands import CommandKeys, Point
from yellow_ladder.release.moves import moved

_BUILT, _MIGRATES, _CONVERTS = "is built, while the site serves", "migrates", "has converted a copy"


@dataclass(frozen=True, slots=True)
class Announced:
    """One command: at which rung and point, whose it is, its name and words, the account, how long it may take."""

    rung: str
    at: str
    whose: str
    name: str
    words: str
    account: str
    within_s: float


def announced(plan: Plan) -> list[Announced]:
    """Every command of a climb in the order in which they come, those of going back last."""
    return [
        *_converters(plan),
        *_builds(plan),
        *(one for rung in plan.rungs for one in _at(plan, Point.SETTINGS, rung)),
        *_at(plan, Point.BEFORE_CLOSE),
        *_at(plan, Point.CLOSED),
        *(one for rung in plan.rungs for one in _of_rung(plan, rung)),
        *(one for point in (Point.BEFORE_START, Point.STARTED, Point.OPENED) for one in _at(plan, point)),
        *_at(plan, Point.GOING_BACK),
    ]


def _of_rung(plan: Plan, rung: RungPlan) -> Iterator[Announced]:
    made_anew = remade_at(plan, rung)
    for one in made_anew:
        if one.export_by is not None:
            yield _announced(plan, one.export_by, Point.EXPORT, {"folder": str(plan.site.root / one.before)})
    yield from _at(plan, Point.PLACED, rung)
    for one in made_anew:
        if one.import_by is not None:
            values = {
                "folder": str(plan.site.root / one.after),
                "release_before": str(release_before(plan, rung)),
            }
            yield _announced(plan, one.import_by, Point.IMPORT, values)
    yield from _at(plan, Point.BEFORE_MIGRATIONS, rung)
    yield from _migrations(plan, rung)
    yield from _at(plan, Point.AFTER_MIGRATIONS, rung)


def _at(plan: Plan, point: Point, rung: RungPlan | None = None) -> Iterator[Announced]:
    for one in commands_of(plan):
        if one.at is point and rung in (None, one.rung):
            yield _announced(plan, one, str(point))


def _converters(plan: Plan) -> Iterator[Announced]:
    files = [spec.in_release for spec in plan.site.record.keep.merged]
    for rung in plan.rungs:
        files = [moved(file, rung.parsed.files.moved) for file in files]
        for one in rung.parsed.settings:
            if one.converter is not None and one.file in files:
                keys = CommandKeys(run=one.converter.run, within_s=one.converter.within_s)
                yield _announced(plan, _theirs(plan, rung, f"converter of {one.file}", keys), _CONVERTS)


def _builds(plan: Plan) -> Iterator[Announced]:
    for rung in plan.rungs:
        build = rung.parsed.archive.build if rung.folder else None
        if build is not None:
            for number, words in enumerate([*build.commands, *plan.site.record.build.more], start=1):
                keys = CommandKeys(run=words, within_s=build.within_s)
                one = replace(_theirs(plan, rung, f"command {number}", keys), as_user=plan.site.record.builder)
                yield _announced(plan, one, _BUILT)


def _migrations(plan: Plan, rung: RungPlan) -> Iterator[Announced]:
    for one in rung.migrations:
        if one.command is not None:
            yield _announced(plan, _theirs(plan, rung, one.id, one.command), _MIGRATES)
        elif one.by_start is not None:
            by = one.by_start
            words = f"start {by.service or 'the services'}, shut away from users, and stop again"
            version = rung.to_version
            yield Announced(version, _MIGRATES, version, one.id, words, "their own accounts", by.within_s)


def _theirs(plan: Plan, rung: RungPlan, name: str, keys: CommandKeys) -> PlannedCommand:
    return PlannedCommand(name, Point.PLACED, rung, rung.to_version, keys, plan.site.record.run_as)


def _announced(plan: Plan, one: PlannedCommand, at: str, more: Mapping[str, str] | None = None) -> Announced:
    """With paths as they will be, as far as they are known; `{source}` and other braces stay."""
    site, rung, folder = plan.site, one.rung, release_folder(plan, one.rung)
    if one.at is Point.EXPORT:
        folder = release_before(plan, rung)
    values = {"release": str(folder), "version": rung.to_version, "from_version": rung.from_version, **(more or {})}
    values["settings"] = "{settings}" if one.at is Point.SETTINGS else str(site.root)
    argv = [site.filled(word, {**values, "runtime": rung.runtime or "{runtime}"}) for word in one.keys.run]
    # A release's own folder is not there yet; whoever owns the folder that holds it will own it.
    looked = Path("/") if at == _CONVERTS else folder if folder.is_dir() else folder.parent
    try:
        account = account_for(one.as_user, argv, looked, folder_counts=True)
        who = account.name if account else account_name(os.geteuid())
    except BadInput as unknown:
        who = unknown.problems[0].message
    words = masked_line(" ".join(word.replace(f"{site.root}/", "") for word in argv))
    return Announced(rung.to_version, at, one.whose, one.name, words, who, one.keys.within_s)
