"""Checks of the databases."""

from __future__ import annotations

import time
from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.database.port import OF_APPLICATION
from yellow_ladder.services.looking import name_of
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import some_of

_LOOKS, _BETWEEN_LOOKS_S = 4, 0.15
_LONG_S = 5.0


def database_reachable(at: Circumstances) -> Iterator[Finding]:
    """Does every database answer?"""
    for surveyed in at.survey.databases:
        if surveyed.trouble:
            remedy = surveyed.remedy or f"look into the database `{surveyed.name}`"
            yield stop("database", surveyed.trouble, f"{remedy}; then check again")
        else:
            rows = sum(surveyed.tables.values())
            yield ok("database", f"{surveyed.name}: {surveyed.engine}, {len(surveyed.tables)} tables, {rows:,} rows")
    for address in at.site.addresses():
        if not address.is_file:
            continue
        release = at.site.release_path if at.site.record.pointing is not None else ""
        if release and address.path.is_relative_to(at.site.root / release):
            seen = f"the database `{address.name}` lies in the folder of the release in use: it would stay behind"
            yield stop("database", seen, f"move it out of {at.site.root / release}, and say so in the settings")
    for spec in at.site.record.databases:
        known = next((surveyed.tables for surveyed in at.survey.databases if surveyed.name == spec.name), {})
        for table in spec.volatile:
            if known and table not in known:
                seen = f"databases.volatile names {table}, which `{spec.name}` does not have"
                yield warn("database", seen, "correct the site file")


def database_rights(at: Circumstances) -> Iterator[Finding]:
    """May this account change every database, and is its text encoding one that is compared without loss?"""
    for surveyed in at.survey.databases:
        if surveyed.trouble:
            continue
        for seen, remedy in surveyed.lacks:
            yield stop("database rights", f"{surveyed.name}: {seen}", remedy)
        address = next(one for one in at.site.addresses() if one.name == surveyed.name)
        uid, _ = at.site.wanted_owner()
        if uid and address.is_file and address.path.is_relative_to(at.site.root) and not address.path.stat().st_uid:
            seen = f"{address.path} belongs to root, and {at.site.record.owner}, who will own root, cannot write it"
            remedy = f"chown -R {at.site.record.owner} {address.path.parent}"
            yield stop("database rights", seen, remedy)
        elif not surveyed.lacks:
            why, remedy = at.site.databases()[surveyed.name].why_only_counted()
            if why:
                seen = f"{surveyed.name}: rows that differ, or were written since, could only be counted: {why}"
                yield warn("database rights", seen, remedy)
            yield ok("database rights", f"{surveyed.name} can be changed and put back; its text is {surveyed.encoding}")


def objects_work(at: Circumstances) -> Iterator[Finding]:
    """Is there a view or trigger that no longer works, or a constraint that rows break? A migration may trip on it."""
    for surveyed in at.survey.databases:
        for text in surveyed.broken:
            if text.endswith(OF_APPLICATION):
                yield ok("database objects", f"{surveyed.name}: {text}")
                continue
            remedy = "mend or drop it before the climb; a migration that touches it would fail"
            yield warn("database objects", f"{surveyed.name}: {text}", remedy)
        for text in surveyed.invalid:
            is_unchecked = "not checked" in text
            remedy = "yl survey --thorough checks them" if is_unchecked else "mend these rows; a migration may refuse"
            yield warn("database objects", f"{surveyed.name}: {text}", remedy)
        if not surveyed.trouble:
            for text in at.site.databases()[surveyed.name].beyond_backups():
                yield warn("database objects", f"{surveyed.name}: {text}", "see whether that may be; keep them by hand")
        if not surveyed.broken and not surveyed.invalid and not surveyed.trouble:
            count = sum(surveyed.objects.values())
            yield ok("database objects", f"{surveyed.name}: {count} views, triggers and indexes work, constraints hold")


def others_kept_out(at: Circumstances) -> Iterator[Finding]:
    """May somebody write to a database on a server while the site is closed?"""
    for surveyed in at.survey.databases:
        if surveyed.trouble:
            continue
        why, remedy = at.site.databases()[surveyed.name].why_others_get_in()
        if why:
            seen = f"others may write to {surveyed.name} while the site is closed: {why}"
            yield warn("other writers", seen, f"{remedy}; what they write is kept")
        elif not at.site.databases()[surveyed.name].address.is_file:
            yield ok("other writers", f"nobody else writes to {surveyed.name} while the site is closed")


def long_transactions(at: Circumstances) -> Iterator[Finding]:
    """Does somebody hold a write transaction open, or has a crash left one unfinished?"""
    reachable = {surveyed.name for surveyed in at.survey.databases if not surveyed.trouble}
    services = {pid for about in at.survey.services.values() for pid in about.pids}
    for name, database in at.site.databases().items():
        if name not in reachable and not database.address.is_file:
            continue
        held = set(database.writers())
        for _ in range(_LOOKS - 1):
            if held:
                time.sleep(_BETWEEN_LOOKS_S)
                held &= set(database.writers())
        unfinished = database.unfinished()
        busy = [one for one in database.sessions() if (one.transaction_s or 0) > _LONG_S]
        if busy:
            longest = max(busy, key=lambda one: one.transaction_s or 0)
            seen = f"{longest.who} has had a write transaction on {name} open for {longest.transaction_s:,.0f} s"
            yield warn("transactions", seen, "see what it waits for; the climb waits for locks half a minute at most")
        elif held:
            who = some_of([name_of(pid) for pid in sorted(held)])
            seen = f"a write transaction on {name} stays open: {who}"
            if held <= services:
                yield warn("transactions", seen, "see what the service is busy with")
            else:
                yield stop("transactions", seen, f"end it: ps -fp {','.join(map(str, sorted(held)))}")
        elif unfinished:
            yield warn("transactions", unfinished, "let the service write once, or look into it with sqlite3")
        else:
            yield ok("transactions", f"nobody holds a write transaction on {name} open")


def schema_as_expected(at: Circumstances) -> Iterator[Finding]:
    """Is the database at the schema of the installed release?"""
    version = at.survey.version
    installed = at.releases.of(version) if version else None
    for one in judge_versions(at.survey.answers, str(version or ""), installed.sheet if installed else None):
        answer = one.answer
        if answer.of != "schema" or answer.part:
            continue
        if one.is_silent:
            yield stop("schema", f"the schema probe says nothing: {answer.trouble}", "correct [[versions]]")
        elif not one.is_right:
            seen = f"the database is at schema {answer.says}, and release {version} has {one.wanted}"
            yield stop("schema", seen, "finish the earlier upgrade, or restore the database that fits")
        else:
            yield ok("schema", f"the database is at schema {answer.says}")
