"""Gives the site back what it was: the newer kept, the old tree, every file, every database."""

from __future__ import annotations

import os
from pathlib import Path

from yellow_ladder.backup.catalog import Ground, read_backup
from yellow_ladder.backup.restore import restore_files
from yellow_ladder.climb.placing.exchange import move_folders, put_in_place
from yellow_ladder.climb.proving.price import keep_newer, kept_ground
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.clones import put_back
from yellow_ladder.climb.works.door import close_site, close_tree
from yellow_ladder.climb.works.rungs import aside_of
from yellow_ladder.files.exchange import inode_of
from yellow_ladder.words import count_of


def keep_what_is_newer(run: Run) -> Facts:
    """Count and keep rows and files written since the climb; the services have stopped."""
    price, folder = keep_newer(run.plan)
    kept = f"kept in {run.site.short(folder)}"
    what = f"{count_of(price.rows, 'row')} and {count_of(len(price.files), 'file')},"
    if price.is_nothing:
        what = "nothing has come, changed or gone; the databases are"
    return {"summary": f"{what} {kept}", "price": price.as_record()}


def put_tree_back(run: Run) -> Facts:
    """Find the old tree by its inode and make it root again, with the data folders back in it.

    Where it is gone, nothing is done here: every file then comes from the backup.
    """
    plan, root = run.plan, run.site.root
    places = [aside_of(plan, rung) for rung in plan.rungs] + [Path(rung.staged) for rung in plan.rungs]
    original = next((place for place in [root, *places] if inode_of(place) == plan.root_inode), None)
    if original is None:
        return {"summary": "the old tree is gone; every file will come from the backup"}
    _bring_data_home(plan, original, [root, *places])
    if original != root:
        close_tree(run.site, original)
        newer = plan.aside / f"newer-{plan.to_version}"
        put_in_place(root, original, plan.root_inode, newer)
    close_site(run.site)
    return {"summary": "the old tree is in its place"}


def _bring_data_home(plan: Plan, original: Path, places: list[Path]) -> None:
    """Rename each data folder from wherever the climb has brought it into the old tree."""
    for first, later in plan.data_folders():
        if os.path.lexists(original / first):
            continue
        found = [place / name for place in places if place != original for name in dict.fromkeys((first, *later))]
        there = next((path for path in found if os.path.lexists(path)), None)
        if there is not None:
            move_folders([(there, original / first)])


def restore_all_files(run: Run) -> Facts:
    """Make every file what the backup says; unchanged ones are not read."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    # Whatever others wrote while the site was closed is kept before it is written over.
    rescue = kept_ground(run.plan)
    done = restore_files(backup, Ground(run.site.root), run.site.skipped(), rescue=rescue)
    close_site(run.site)
    return {"written": done.written, "removed": done.removed, "rights": done.rights_set}


def restore_database(name: str) -> Work:
    """The work of giving one database the backup's content."""

    def do(run: Run) -> Facts:
        return put_back(run, read_backup(run.site.state.backups / run.plan.backup_name), name)

    return do
