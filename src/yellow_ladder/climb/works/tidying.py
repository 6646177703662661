"""Removes what a climb or a way back needs no more."""

from __future__ import annotations

import contextlib
from pathlib import Path

from yellow_ladder.backup.catalog import UNFINISHED
from yellow_ladder.climb.proving.price import drop_scratch
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.climb.works.clones import drop_clones
from yellow_ladder.climb.works.rungs import aside_of
from yellow_ladder.errors import LadderError
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.exchange import inode_of


def tidy(run: Run) -> Facts:
    """Remove trees of versions in between; the tree of the old version stays aside until the climb is settled."""
    for rung in run.plan.rungs[1:]:
        remove_entry(aside_of(run.plan, rung))
    return {}


def tidy_back(run: Run) -> Facts:
    """Remove staged trees and the newer tree; the backup and what was written since stay."""
    for rung in run.plan.rungs:
        remove_entry(Path(rung.staged))
        if inode_of(aside_of(run.plan, rung)) != run.plan.root_inode:
            remove_entry(aside_of(run.plan, rung))
    remove_entry(run.plan.aside)
    drop_scratch(run.plan)
    drop_clones(run.plan)
    for database in run.site.databases().values():
        with contextlib.suppress(LadderError):  # it takes room and is otherwise harmless
            database.drop_leftovers()
    remove_entry(run.site.state.backups / (run.plan.backup_name + UNFINISHED))
    if Path(run.plan.work) != run.plan.folder:
        remove_entry(Path(run.plan.work))
    return {}
