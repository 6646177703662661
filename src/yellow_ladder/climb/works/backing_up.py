"""Backs up files and databases and reads all of it back, before anything is changed."""

from __future__ import annotations

import time
from dataclasses import asdict, replace

from yellow_ladder.backup.catalog import ROOT_PREFIX, DatabaseBackup, compared_entries, read_backup
from yellow_ladder.backup.files import Making, first_base, write_files, write_first
from yellow_ladder.backup.make import finish, write_database
from yellow_ladder.climb.proving.accounts import note_accounts
from yellow_ladder.climb.proving.basis import read_what_will_be
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, Inventory, ask_probes, write_inventory
from yellow_ladder.climb.record.plan import LARGE_BYTES
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.archives.write import Archived, Counted
from yellow_ladder.files.manifest import tree_sum


def _making(run: Run) -> Making:
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell, closed=True)
    first = run.standing().up.get(StepName(StepKind.FIRST_COPY))
    if first and not making.final.is_dir():
        return replace(making, base=first_base(making, first["started_ns"]), started_ns=first["started_ns"])
    return replace(making, started_ns=time.time_ns(), expected_bytes=_expected_bytes(run))


def _expected_bytes(run: Run) -> int:
    """About what all files hold, where data are nearly all of it; 0 where that is not so."""
    return run.plan.data_bytes if run.plan.data_bytes >= LARGE_BYTES else 0


def copy_first(run: Run) -> Facts:
    """Archive all files while the site serves, so that only what changes until it closes is left for the window."""
    expected = _expected_bytes(run)
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell, expected_bytes=expected)
    started_ns = time.time_ns()
    archived = write_first(making)
    counted = archived.in_all
    return {"started_ns": started_ns, "bytes": counted.bytes, "files": counted.files + counted.links}


def back_up_files(run: Run) -> Facts:
    """Archive all files."""
    making = _making(run)
    if making.final.is_dir():
        return {"summary": "made already"}
    archived = write_files(making)
    counted = archived.in_all
    if archived.unsteady:
        text = (
            f"{archived.unsteady[0]} is being written to while the site is closed; {len(archived.unsteady)} such files"
        )
        raise AnswerNo(Problem("still-written-to", text, "find and stop who writes there: fuser -v on the file"))
    packed = (making.folder / "files.tar.zst").stat().st_size
    facts = {
        "files": counted.files + counted.links,
        "links": counted.links,
        "bytes": counted.bytes,
        "packed_bytes": packed,
        "unsteady": archived.unsteady,
    }
    return {**facts, "copied_before": archived.known_bytes} if making.base else facts


def back_up(name: str) -> Work:
    """The work of copying one database."""

    def do(run: Run) -> Facts:
        making = _making(run)
        if making.final.is_dir():
            return {"summary": "made already"}
        made = write_database(making, run.site.databases()[name])
        return {"copy": asdict(made), "bytes": made.size_bytes}

    return do


def read_backup_back(run: Run) -> Facts:
    """Read the backup back and give it its name."""
    making, done = _making(run), run.standing().up
    if making.final.is_dir():
        backup = finish(making, Archived(), [], run.now())
    else:
        facts = done[StepName(StepKind.BACKUP_FILES)]
        links = facts.get("links", 0)  # an earlier build did not count them apart
        counted = Counted(facts["files"] - links, links, facts["bytes"])
        archived = Archived(counted={ROOT_PREFIX: counted}, unsteady=list(facts["unsteady"]))
        copies = [facts["copy"] for step, facts in done.items() if step.kind is StepKind.BACKUP_DATABASE]
        backup = finish(making, archived, list(map(DatabaseBackup.from_record, copies)), run.now())
    return {"bytes": backup.size_bytes(), "backup": backup.name}


def take_inventory(run: Run) -> Facts:
    """Put together what is known of the data before: fingerprints from the backup, versions, the tree."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    prints = {name: backup.fingerprint(name) for name in run.site.databases()}
    files = tree_sum(compared_entries(backup.manifest(), backup.data))
    survey = Inventory(
        run.stamp(),
        ask_probes(run.site, served=False),
        prints,
        files.digest(),
        files.files,
    )
    write_inventory(run.plan, BEFORE_NAME, survey)
    note_accounts(run.plan)
    read_what_will_be(run, run.plan.rungs[0])
    return {"rows": survey.rows, "files": survey.files}
