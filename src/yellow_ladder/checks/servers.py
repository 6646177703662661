"""Checks of database servers: where their data folders lie, and what becomes of those that climb with the site."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.database.clusters import clusters_among
from yellow_ladder.errors import LadderError
from yellow_ladder.route import Route
from yellow_ladder.services.port import ServiceState
from yellow_ladder.site.service_records import AnyService
from yellow_ladder.words import some_of


def servers_apart(at: Circumstances) -> Iterator[Finding]:
    """Is the data folder of a database server among the files of the site, or its server among what is stopped?"""
    root, outside = at.site.root, list(map(Path, at.site.outside))
    among = [(root, at.survey.manifest), *((Path(one.path), one.marks) for one in at.survey.data_outside)]
    found = {one.folder: one.is_live for place, paths in among for one in clusters_among(place, paths)}
    known = {root / spec.data_folder: spec for spec in at.site.record.servers}
    for name, database in at.site.databases().items():
        with contextlib.suppress(LadderError):  # told by the check of the database
            folder = database.data_folder()
            if folder is not None and any(folder.is_relative_to(place) for place in (root, *outside)):
                found[folder] = True
        yield from _holders_stopped(at, name)
    for folder, spec in known.items():
        yield from _climbs_along(at, folder, spec)
    for folder, is_live in found.items():
        if folder in known:
            continue
        if is_live:
            seen = f"a database server is at work in {folder}, which lies among the files of the site"
            remedy = (
                "if it climbs with the site, say so: data_folder in its [[services]]; otherwise move that folder "
                "elsewhere: its databases are dumped and loaded, its files never touched"
            )
            yield stop("database servers", seen, remedy)
        else:
            seen = f"{folder} looks like the data folder of a database server that does not run: it counts as files"
            yield warn("database servers", seen, "see that nobody starts that server before the climb has ended")


def _climbs_along(at: Circumstances, folder: Path, spec: AnyService) -> Iterator[Finding]:
    """A server of the site itself: it has to run, from that folder, and what it has besides is compared by nobody."""
    if at.survey.services[spec.name].state is not ServiceState.RUNNING:
        seen = f"`{spec.name}`, the server of {some_of(spec.holds)}, does not run: its databases cannot be dumped"
        yield stop("database servers", seen, "start it; a climb stops and starts it by itself")
        return
    databases = at.site.databases()
    for name in spec.holds:
        with contextlib.suppress(LadderError):
            serves_from = databases[name].data_folder()
            if serves_from is not None and serves_from != folder:
                seen = f"the server of `{name}` works in {serves_from}, and not in {folder}, as the site file says"
                yield stop("database servers", seen, f"correct `data_folder` of `{spec.name}`")
                return
    named = {databases[name].address.database for name in spec.holds}
    with contextlib.suppress(LadderError):
        others = [one for one in databases[spec.holds[0]].others_of_server() if one not in named]
        if others:
            seen = f"`{spec.name}` has databases that are not named, and not compared: {some_of(others)}"
            yield warn("database servers", seen, f"name them in [[databases]] and in `holds` of `{spec.name}`")
    yield ok("database servers", f"`{spec.name}` climbs with the site: it is stopped and started with each release")


def servers_climb(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Does every release say what becomes of the data folders of the site's own servers?"""
    for spec in at.site.record.servers:
        folder = spec.data_folder
        for rung in route.leg:
            sheet, version = rung.release.sheet, str(rung.to_version)
            made_anew = [one for one in sheet.remade if one.folder == folder]
            if not made_anew and folder not in sheet.files.same_format:
                seen = f"{version} does not say what becomes of {folder}, the data folder of `{spec.name}`"
                remedy = (
                    f'in its sheet: [[remade]] with folder = "{folder}" (copied = true, or export_by and import_by), '
                    f'or same_format = ["{folder}"] under [files], where {rung.from_version} can open it again'
                )
                yield stop("database servers", seen, remedy)
            if any(one.same for one in made_anew):
                seen = f"{version} asks questions of {folder} by `same`, and its server does not run by then"
                remedy = "take `same` out: every row of its databases is compared"
                yield stop("database servers", seen, remedy)
            if sheet.reach.passage and made_anew:
                seen = f"{version} is a passage and is never placed: its server is never started"
                yield stop("database servers", seen, "let it be an ordinary release; users do not meet it either")


def _holders_stopped(at: Circumstances, name: str) -> Iterator[Finding]:
    """A server that is stopped with the site could not be dumped."""
    address = next(one for one in at.site.addresses() if one.name == name)
    for spec in at.site.record.services:
        about = at.survey.services.get(spec.name)
        if about is not None and address.port and address.port in about.ports and not spec.holds:
            seen = f"`{spec.name}` is the server of the database `{name}`, and would be stopped before its dump"
            yield stop("database servers", seen, f'say so in the site file: holds = "{name}" of `{spec.name}`')
