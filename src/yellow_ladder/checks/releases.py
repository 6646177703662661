"""Checks of the releases on the route."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.database import Table
from yellow_ladder.database.port import OF_APPLICATION
from yellow_ladder.errors import LadderError
from yellow_ladder.events import Listener, Progress, Unit
from yellow_ladder.files.entry import within
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.records import ColumnSums, DatabasePrint, TablePrint
from yellow_ladder.fingerprints.told import readings
from yellow_ladder.release.contract import for_engine
from yellow_ladder.release.index import OnBytes, bring_here
from yellow_ladder.release.source import Release, check_digest
from yellow_ladder.route import Route
from yellow_ladder.survey.drift.reference import package_contents
from yellow_ladder.words import count_of


def packages_sound(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Is every package the one that was published, and does it hold nothing but plain content?"""
    required = at.site.record.releases.digests == "required"
    for rung in route.leg:
        release = rung.release
        try:
            bring_here(release, fetching(release, at.tell))
            digest = check_digest(release)
            if release.has_archive:
                package_contents(release, at.site.state.memory)
        except LadderError as fault:
            yield from (stop("packages", problem.placed, problem.remedy) for problem in fault.problems)
            continue
        if release.published_sha256:
            yield ok("packages", f"{release.archive.name} is as published ({digest[:12]}…)")
            continue
        seen = f"{release.archive.name} has no published digest to be held against"
        remedy = f"add its line to {release.archive.parent}/SHA256SUMS"
        yield stop("packages", seen, remedy) if required else warn("packages", seen, remedy)


def fetching(release: Release, tell: Listener) -> OnBytes:
    """Tells how far the fetching of a package is."""
    return lambda done, total: tell(Progress(f"fetch {release.archive.name}", done, total, Unit.BYTES))


def sheets_in_source(at: Circumstances) -> Iterator[Finding]:
    """Could every release in the source be read?"""
    for problem in at.releases.problems:
        yield warn("release source", problem.placed, problem.remedy)
    if not at.releases.problems and at.releases.found:
        yield ok("release source", f"{len(at.releases.found)} releases in {at.releases.source}, all readable")


def route_found(at: Circumstances) -> Iterator[Finding]:
    """Is there a way at all?"""
    unread = len(at.releases.problems)
    first = (
        f"{count_of(unread, 'release')} in the source cannot be read, see below; apart from that: " if unread else ""
    )
    for problem in at.troubles:
        yield stop("route", problem.placed, first + problem.remedy)
    if at.route is not None:
        count = len(at.route.rungs)
        yield ok("route", f"{count} rung{'' if count == 1 else 's'} from {at.route.present} to {at.route.target}")


def warnings_of_releases(_at: Circumstances, route: Route) -> Iterator[Finding]:
    """What do the releases on the way say that people should know beforehand?"""
    for rung in route.rungs:
        notes = rung.release.sheet.notes
        for text in notes.one_way:
            yield warn("what changes", f"{rung.to_version}, one way: {text}", "going back restores the backup")
        for change in (change for contract in rung.release.sheet.contract for change in contract.tables):
            if change.rows == "any" or change.kept_where or change.gone_where or change.loses:
                what = f": {change.loses}" if change.loses else ""
                seen = f"{rung.to_version} may drop rows of {change.name} on purpose{what}"
                yield warn("what changes", seen, "keep a copy of what you need of them")


def contracts_fit(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Do the releases' contracts speak of tables and columns that are there?"""
    for surveyed in at.survey.databases:
        if surveyed.trouble:
            continue  # what cannot be read is a finding of its own
        before = DatabasePrint({table.name: _empty_print(table) for table in surveyed.columns})
        contracts = [
            (str(rung.to_version), contract)
            for rung in route.rungs
            for contract in rung.release.sheet.contract
            if contract.database == surveyed.name
        ]
        found = compose(before, contracts).contradictions
        found += list(_unreadable(at, route, surveyed.name, before)) if not found else []
        for text in found:
            yield stop(
                "contracts", text, "report it to the release's publisher; the database may have been changed by hand"
            )
        if not found:
            yield ok("contracts", f"what the releases declare of the database {surveyed.name} fits it")
    yield from _own_to_the_application(at, route)
    for rung in route.rungs:
        needed = {one.needed_database for one in rung.release.sheet.migrations}
        for name in sorted(needed - {"", *(one.name for one in at.survey.databases)}):
            seen = f"{rung.to_version} migrates the database `{name}`, which the site file does not have"
            yield stop("contracts", seen, "add it to [[databases]]")


def _own_to_the_application(at: Circumstances, route: Route) -> Iterator[Finding]:
    """A release's SQL runs in this program's engine, which lacks what only the application's own has."""
    for surveyed in at.survey.databases:
        own = [text for text in surveyed.broken if text.endswith(OF_APPLICATION)]
        by_file = [
            str(rung.to_version)
            for rung in route.rungs
            if any(one.file and one.database == surveyed.name for one in rung.release.sheet.migrations)
        ]
        if own and by_file:
            seen = f"{by_file[0]} migrates {surveyed.name} by SQL, and there {own[0]}"
            remedy = (
                "a statement that needs it is refused, and the climb goes back; a command of the application's is not"
            )
            yield warn("contracts", seen, remedy)


def _unreadable(at: Circumstances, route: Route, name: str, before: DatabasePrint) -> Iterator[str]:
    """SQL of the first release's contracts that this database does not take; later ones find another database."""
    if not route.rungs:
        return
    rung, database = route.rungs[0], at.site.databases()[name]
    contracts = [one for one in rung.release.sheet.contract if one.database == name]
    line = compose(before, [(str(rung.to_version), one) for one in contracts])
    try:
        for reading in readings(
            line, before, database.address.engine, lambda _table, query: database.query_columns(query)
        ):
            database.selected_columns(reading.selection)
        for same in (same for one in contracts for same in one.same_answers):
            text = for_engine(same.before, database.address.engine)
            if text:
                database.query_columns(text)
    except LadderError as fault:
        yield f"{rung.to_version} tells of the data with SQL that {name} does not take: {fault.problems[0].message}"


def _empty_print(table: Table) -> TablePrint:
    return TablePrint(0, table.key, dict.fromkeys(table.columns, ColumnSums()))


def unbuilt_moves(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Does a release move a folder that holds a database, the flag or a pid file?"""
    fixed = [at.site.tree_path(address.path) for address in at.site.addresses() if address.is_file]
    fixed += [at.site.tree_path(at.site.flag)] if at.site.flag else []
    fixed += [at.site.tree_path(at.site.resolve(s.pid_file)) for s in at.site.record.services if s.pid_file]
    for rung in route.rungs:
        for move in rung.release.sheet.files.moved:
            held = [path for path in fixed if within(path, [move.from_])]
            if held:
                seen = f"{rung.to_version} moves {move.from_}, which holds {held[0]}"
                yield stop(
                    "moves",
                    seen,
                    "moving a database, flag or pid file is not built yet; keep them outside root",
                )
