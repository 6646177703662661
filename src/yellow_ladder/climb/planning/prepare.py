"""Prepares a climb while the site serves: makes every rung up to the first landing ready beside it."""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from pathlib import Path

from yellow_ladder import __version__
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.planning.in_place import (
    Staying,
    begin_staying,
    expected_overlay,
    stage_overlay,
    stage_pointer,
)
from yellow_ladder.climb.planning.prospect import Prospect
from yellow_ladder.climb.planning.sources import keep_migrations, keep_sources
from yellow_ladder.climb.planning.staging import Carried, renamed_paths, stage_rung, staged_entries
from yellow_ladder.climb.planning.ways_back import way_back
from yellow_ladder.climb.record.plan import BEFORE, LARGE_BYTES, MERGED, Beyond, Plan, RungPlan, Seen
from yellow_ladder.database import Database
from yellow_ladder.durable import private_folder, write_json, write_whole
from yellow_ladder.events import Listener, Progress, Unit
from yellow_ladder.files.archives.unpack import Content
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.entry import Manifest, below_any
from yellow_ladder.files.listing import Chosen, in_order, write_listing
from yellow_ladder.files.manifest import tree_digest
from yellow_ladder.release.source import check_digest
from yellow_ladder.services import ServiceState
from yellow_ladder.settings.notes import notes_of, patch_of
from yellow_ladder.settings.shipped import secret_files
from yellow_ladder.site.moves import moved_text
from yellow_ladder.site.site import Site, site_from_text
from yellow_ladder.survey.drift.reference import package_contents
from yellow_ladder.survey.machine import fitting_runtime


def stage_climb(prospect: Prospect, now: datetime, tell: Listener) -> Plan:
    """Make every rung ready beside the site and return the plan, not yet frozen; the site is not touched.

    Raises BadInput or AnswerNo and leaves nothing behind.
    """
    site, route = prospect.site, prospect.route
    while list(site.state.climbs.glob(f"{now:%Y%m%dT%H%M%SZ}-*")):
        now += timedelta(seconds=1)  # ids and backups' names go by the second, and no two may share one
    climb = f"{now:%Y%m%dT%H%M%SZ}-{route.present}-to-{route.leg[-1].to_version}"
    folder = private_folder(site.state.climbs / climb)
    placement = placement_of(site)
    work = placement.work_folder(site.root, folder)
    try:
        private_folder(work)
        carried = Carried(site, prospect.survey, prospect.settings, shipped=_shipped(prospect))
        rungs: list[RungPlan] = []
        staying: Staying | None = None
        for number, rung in enumerate(route.leg, start=1):
            tell(Progress(f"make {rung.to_version} ready", number, len(route.leg), Unit.RELEASES))
            staged = work / f"staged-{number}-{rung.to_version}"
            sheet, own_folder = rung.release.sheet, ""
            if site.record.placement == "exchange":
                data = stage_rung(rung, number, staged, folder, carried)
                skip = _site_after(site, renamed_paths(site, carried)).skipped()
                write_listing(folder / f"expected-{number}.jsonl", in_order(staged_entries(staged, data, skip)))
            else:
                staying = staying or begin_staying(carried, prospect.releases)
                data = staying.data
                if site.record.placement == "overlay":
                    stage_overlay(rung, number, staged, folder, staying)
                    write_listing(folder / f"expected-{number}.jsonl", expected_overlay(folder, number, site.skipped()))
                else:
                    own_folder = stage_pointer(rung, number, staged, folder, staying)
            if own_folder:
                keep_sources(folder, number, rung.release)
            else:
                keep_migrations(folder, number, staged, rung.release)
            rungs.append(
                RungPlan(
                    number=number,
                    from_version=str(rung.from_version),
                    to_version=str(rung.to_version),
                    archive=str(rung.release.archive),
                    sha256=check_digest(rung.release),
                    staged=str(staged),
                    mark=placement.mark_of(staged),
                    data=data,
                    renamed=renamed_paths(site, carried),
                    sheet=sheet.model_dump(mode="json", by_alias=True),
                    folder=own_folder,
                    runtime=fitting_runtime(sheet.needs.runtime, prospect.survey.runtimes),
                )
            )
        os.sync()  # the staged trees must be whole on disk before one of them becomes the site
        return _plan(prospect, folder, climb, work, tuple(rungs), carried)
    except BaseException:
        remove_entry(work)
        remove_entry(folder)
        raise


def _shipped(prospect: Prospect) -> Mapping[str, Content] | None:
    """What the installed release shipped; None where its package is not at hand."""
    version = prospect.survey.version
    installed = prospect.releases.of(version) if version else None
    if installed is None or installed.is_built or not installed.archive.is_file():
        return None
    return package_contents(installed, prospect.site.state.memory)


def _site_after(site: Site, moves: Mapping[str, str]) -> Site:
    return site_from_text(site.file, moved_text(site.text.decode(), moves).encode()) if moves else site


def _plan(
    prospect: Prospect, folder: Path, climb: str, work: Path, rungs: tuple[RungPlan, ...], carried: Carried
) -> Plan:
    site, survey = prospect.site, prospect.survey
    stable = stable_manifest(site, survey.manifest)
    write_listing(folder / "seen.jsonl", in_order(stable))
    _keep_settings(folder, rungs, carried)
    return Plan(
        folder=folder,
        climb=climb,
        tool=__version__,
        site_file=str(site.file),
        site_text=site.text.decode(),
        from_version=str(prospect.route.present),
        to_version=str(prospect.route.leg[-1].to_version),
        made_at=climb.split("-", 1)[0],
        root_mark=placement_of(site).mark_of(site.root),
        work=str(work),
        seen=Seen(
            hashlib.sha256(site.text).hexdigest(),
            tree_digest(stable),
            {name: schema_digest(database) for name, database in site.databases().items()},
        ),
        rungs=rungs,
        running=tuple(
            spec.name
            for spec in site.record.services
            if not spec.holds and survey.services[spec.name].state is ServiceState.RUNNING
        ),
        settings=notes_of(carried.forecast, secret_files(site)),
        beyond=_beyond(prospect),
        first_copy=_wants_first_copy(prospect),
        from_folder=site.release_path,
        data_bytes=survey.data_bytes,
        answered=all(one.says for one in survey.answers if one.of == "served"),
        ways_back=tuple(way_back(site, one, _set_aside(site, rungs, one.name)) for one in survey.databases),
    )


def _set_aside(site: Site, rungs: Sequence[RungPlan], database: str) -> str:
    """The data folder of a database's server, where a release makes it anew and the old one stays aside."""
    made_anew = {one.folder for rung in rungs for one in rung.parsed.remade}
    held = [one.data_folder for one in site.record.servers if database in one.holds]
    return next((one for one in held if one in made_anew), "")


def _keep_settings(folder: Path, rungs: Sequence[RungPlan], carried: Carried) -> None:
    """The settings as they are and as they will be, the difference of the two, and what becomes of each key."""
    forecast, site = carried.forecast, carried.site
    patches = []
    for one in forecast.files:
        there = {} if one.is_new else {BEFORE: one.before}
        there |= {
            f"{MERGED}/{rung.number}": one.after[rung.to_version] for rung in rungs if rung.to_version in one.after
        }
        for place, raw in there.items():
            kept = folder / place / below_any(one.file)
            private_folder(kept.parent)
            write_whole(kept, raw)
        patches.append(patch_of(one, rungs[-1].to_version, carried.where(one.file)))
    write_whole(folder / "settings.patch", b"".join(patches))
    notes = notes_of(forecast, secret_files(site))
    write_json(folder / "settings.json", {"format": 1, "keys": [asdict(one) for one in notes]})


def _wants_first_copy(prospect: Prospect) -> bool:
    """Whether the files are copied once before the window: what is small is copied sooner than compared."""
    wish = prospect.site.record.backup.first_copy
    if wish != "large":
        return wish == "always"
    if prospect.survey.data_bytes >= LARGE_BYTES:
        return True
    # A release in use is backed up as well, and some are larger than all data.
    return sum(entry.size for entry in prospect.survey.manifest.values()) >= LARGE_BYTES


def _beyond(prospect: Prospect) -> Beyond | None:
    """Where the way leads after the landing that this climb ends at."""
    landing = prospect.route.landing
    if landing is None:
        return None
    wishes = prospect.wishes
    return Beyond(str(prospect.route.target), landing.instructions, wishes.previews, wishes.withdrawn)


def stable_manifest(site: Site, manifest: Manifest) -> Manifest:
    """The entries that must not change between plan and window: everything but the content of data folders."""
    return Chosen(manifest, lambda path: not site.is_data(path))


def schema_digest(database: Database) -> str:
    """A digest of tables, columns, keys and other objects; rows may come and go."""
    tables = [[table.name, table.columns, table.key] for table in database.tables()]
    return hashlib.sha256(json.dumps([tables, database.objects()], sort_keys=True).encode()).hexdigest()


def drop_plan(plan: Plan) -> None:
    """Let go of a plan that was not agreed to."""
    remove_entry(Path(plan.work))
    remove_entry(plan.folder)
