"""Checks of the databases."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn


def database_reachable(at: Circumstances) -> Iterator[Finding]:
    """Does every database answer?"""
    for facts in at.survey.databases:
        if facts.trouble:
            yield stop("database", facts.trouble, f"see to the database `{facts.name}`, then check again")
        else:
            rows = sum(facts.tables.values())
            yield ok("database", f"{facts.name}: {facts.engine}, {len(facts.tables)} tables, {rows:,} rows")
    for address in at.site.addresses():
        if address.path.is_relative_to(at.site.root) and not at.site.is_data(at.site.tree_path(address.path)):
            seen = f"the database `{address.name}` lies inside root and in no data folder: it would stay behind"
            yield stop("database", seen, f"add {at.site.tree_path(address.path.parent)} to keep.data, or move it out")
    for spec in at.site.record.databases:
        known = next((facts.tables for facts in at.survey.databases if facts.name == spec.name), {})
        for table in spec.volatile:
            if known and table not in known:
                seen = f"databases.volatile names {table}, which `{spec.name}` does not have"
                yield warn("database", seen, "correct the site file")


def schema_as_expected(at: Circumstances) -> Iterator[Finding]:
    """Is the database at the schema of the installed release?"""
    installed = at.releases.of(at.route.present)
    wanted = installed.sheet.release.schema_version if installed else ""
    for witness in at.survey.witnesses:
        if witness.of != "schema":
            continue
        if witness.trouble:
            yield stop("schema", f"the schema probe says nothing: {witness.trouble}", "correct [[versions]]")
        elif wanted and witness.says != wanted:
            seen = f"the database is at schema {witness.says}, and release {at.route.present} has {wanted}"
            yield stop("schema", seen, "finish the earlier upgrade, or restore the database that fits")
        else:
            yield ok("schema", f"the database is at schema {witness.says}")
