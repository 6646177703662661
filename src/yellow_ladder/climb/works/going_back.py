"""Gives the site back what it was: the newer kept, the old tree, every file, every database."""

from __future__ import annotations

from dataclasses import replace

from yellow_ladder.backup.catalog import Ground, read_backup
from yellow_ladder.backup.restore import restore_files
from yellow_ladder.climb.placing.elsewhere import take_back_elsewhere
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.proving.price import keep_newer, kept_ground, left_copy
from yellow_ladder.climb.proving.written import NOTHING_ASIDE, keep_written
from yellow_ladder.climb.record.commands import is_set_aside
from yellow_ladder.climb.record.step_names import StepKind
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.clones import put_back
from yellow_ladder.climb.works.door import close_site, close_tree
from yellow_ladder.words import count_of

_BY_COMMANDS = (StepKind.COMMAND, StepKind.MIGRATE_BY_COMMAND, StepKind.MIGRATE_BY_START)


def keep_what_is_newer(run: Run) -> Facts:
    """Count and keep rows and files written since the climb; the services have stopped."""
    price, folder = keep_newer(run.plan)
    kept = f"kept in {run.site.short(folder)}"
    what = f"{count_of(price.rows, 'row')} and {count_of(len(price.files), 'file')},"
    if price.is_nothing:
        what = "nothing has come, changed or gone; the databases are"
    return {"summary": f"{what} {kept}", "price": price.as_record()}


def put_tree_back(run: Run) -> Facts:
    """Put the old tree back in its place. Where it is gone, every file then comes from the backup."""
    were_placed = any(step.kind is StepKind.PLACE for step in run.standing().begun)
    is_back = placement_of(run.site).bring_back(run.plan, lambda tree: close_tree(run.site, tree, run.plan))
    take_back_elsewhere(run.plan, kept_ground(run.plan), were_placed=were_placed)
    if not is_back:
        return {"summary": "the old tree is gone; every file will come from the backup"}
    close_site(run.site, run.plan)
    return {"summary": "the old tree is in its place"}


def restore_all_files(run: Run) -> Facts:
    """Make every file what the backup says; unchanged ones are not read."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    # Whatever others wrote while the site was closed is kept before it is written over.
    rescue = kept_ground(run.plan)
    site = run.site
    done = restore_files(backup, Ground(site.root), site.skipped(), rescue=rescue, caches=site.caches(), tell=run.tell)
    # Restoring may have taken the flag away: it was not there when the backup was made.
    close_site(run.site, run.plan)
    return {"written": done.written, "removed": done.removed, "rights": done.rights_set}


def keep_what_was_written(name: str) -> Work:
    """The work of keeping the rows that others wrote to one database before it was put back."""

    def do(run: Run) -> Facts:
        written = keep_written(run.plan, name)
        if written is None:
            came = is_set_aside(run.plan, name)
            return {"summary": "it came back with its server's folder" if came else NOTHING_ASIDE}
        if any(step.kind in _BY_COMMANDS for step in run.standing().begun) and not left_copy(run.plan, name).exists():
            written = replace(written, with_commands=True)
        return {"summary": written.in_words(), "written": written.as_record()}

    return do


def restore_database(name: str) -> Work:
    """The work of giving one database the backup's content."""

    def do(run: Run) -> Facts:
        return put_back(run, read_backup(run.site.state.backups / run.plan.backup_name), name)

    return do
