"""Backs up files and databases and reads all of it back, before anything is changed."""

from __future__ import annotations

import time
from dataclasses import asdict, replace

from yellow_ladder.backup.catalog import MANIFEST_NAME, DatabaseBackup, below_root, read_backup, read_manifest
from yellow_ladder.backup.files import Making, first_base, write_files, write_first
from yellow_ladder.backup.make import finish, write_database
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, Inventory, ask_probes, write_inventory
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.archive_write import Archived
from yellow_ladder.files.manifest import count_files, tree_digest


def _making(run: Run) -> Making:
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell, closed=True)
    first = run.standing().up.get(StepName(StepKind.FIRST_COPY))
    if first and not making.final.is_dir():
        return replace(making, base=first_base(making, first["started_ns"]), started_ns=first["started_ns"])
    return replace(making, started_ns=time.time_ns())


def copy_first(run: Run) -> Facts:
    """Archive all files while the site serves, so that only what changes until it closes is left for the window."""
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell)
    started_ns = time.time_ns()
    archived = write_first(making)
    size = sum(entry.size for entry in archived.trees["root"].values())
    return {"started_ns": started_ns, "bytes": size, "files": count_files(archived.trees["root"])}


def back_up_files(run: Run) -> Facts:
    """Archive all files."""
    making = _making(run)
    if making.final.is_dir():
        return {"summary": "made already"}
    archived = write_files(making)
    tree = archived.trees["root"]
    if archived.unsteady:
        text = (
            f"{archived.unsteady[0]} is being written to while the site is closed; {len(archived.unsteady)} such files"
        )
        raise AnswerNo(Problem("still-written-to", text, "find and stop who writes there: fuser -v on the file"))
    total = sum(entry.size for entry in tree.values())
    packed = (making.folder / "files.tar.zst").stat().st_size
    facts = {"files": count_files(tree), "bytes": total, "packed_bytes": packed, "unsteady": archived.unsteady}
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
        tree = below_root(read_manifest(making.folder / MANIFEST_NAME))
        archived = Archived({"root": tree}, unsteady=list(done[StepName(StepKind.BACKUP_FILES)]["unsteady"]))
        copies = [facts["copy"] for step, facts in done.items() if step.kind is StepKind.BACKUP_DATABASE]
        backup = finish(making, archived, list(map(DatabaseBackup.from_record, copies)), run.now())
    return {"bytes": backup.size_bytes(), "backup": backup.name}


def take_inventory(run: Run) -> Facts:
    """Put together what is known of the data before: fingerprints from the backup, versions, the tree."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    prints = {name: backup.fingerprint(name) for name in run.site.databases()}
    manifest = below_root(backup.manifest())
    survey = Inventory(
        run.stamp(),
        ask_probes(run.site, served=False),
        prints,
        tree_digest(manifest),
        count_files(manifest),
    )
    write_inventory(run.plan, BEFORE_NAME, survey)
    return {"rows": survey.rows, "files": survey.files}
