"""Checks of the place for backups, and of what lies there."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import timedelta

from yellow_ladder.backup.catalog import list_backups
from yellow_ladder.backup.copies import names_at, passphrase_is_there
from yellow_ladder.checks.machine import existing
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import LadderError
from yellow_ladder.files.exchange import same_file_system
from yellow_ladder.words import count_of, moment_of

OLD_AFTER = timedelta(days=7)


def backup_place(at: Circumstances) -> Iterator[Finding]:
    """Can backups be written, and would they outlive the disk of the site?"""
    place = existing(at.site.state.backups)
    if not os.access(place, os.W_OK | os.X_OK):
        yield stop("backup place", f"this account cannot write in {place}", "give it the right, or correct `state`")
    elif same_file_system(place, at.site.root) and not at.site.record.backup.copy_to:
        seen = f"backups are on the same disk as the site ({at.site.state.backups})"
        yield warn("backup place", seen, "name a place for copies with [[backup.copy_to]]; a dead disk would take both")
    else:
        elsewhere = ", ".join(one.name for one in at.site.record.backup.copy_to)
        where = f"copies go to {elsewhere}" if elsewhere else "it is on another file system"
        yield ok("backup place", f"{at.site.state.backups} can be written, and {where}")


def copies_elsewhere(at: Circumstances) -> Iterator[Finding]:
    """Can every place for copies be reached now? In the window it would be too late to find out."""
    for target in at.site.record.backup.copy_to:
        if target.climb == "no":
            continue
        try:
            names = names_at(at.site, target)
            passphrase_is_there(at.site, target)
        except LadderError as fault:
            problem = fault.problems[0]
            found = stop if target.climb == "before" else warn
            yield found("copies elsewhere", problem.message, problem.remedy)
        else:
            yield ok("copies elsewhere", f"{target.name} answers and holds {count_of(len(names), 'copy', 'copies')}")


def backup_age(at: Circumstances) -> Iterator[Finding]:
    """Is there a recent backup, apart from the one that the climb makes?"""
    made = list_backups(at.site.state.backups)
    backups = [backup for backup in made if backup.read_back_at and backup.site == at.site.name]
    if not backups:
        yield ok("last backup", "there is none yet; the climb makes one and reads it back before anything changes")
        return
    newest = backups[-1]
    age = at.now - moment_of(newest.made_at)
    seen = f"{newest.name} is {age.days} days old"
    if age > OLD_AFTER:
        yield warn("last backup", seen, "yl backup make")
    else:
        yield ok("last backup", seen)
