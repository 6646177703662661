"""Removes what a climb or a way back needs no more."""

from __future__ import annotations

from yellow_ladder.backup.catalog import UNFINISHED
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.planning.sources import drop_lent
from yellow_ladder.climb.proving.price import drop_left, drop_scratch
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.climb.works.clones import drop_clones
from yellow_ladder.climb.works.remaking import drop_exported
from yellow_ladder.files.copying import remove_entry


def tidy(run: Run) -> Facts:
    """Remove trees of versions in between; the tree of the old version stays until the climb is settled."""
    drop_lent(run.plan.folder)
    drop_exported(run.plan)
    placement_of(run.site).drop_passed(run.plan)
    return {}


def tidy_back(run: Run) -> Facts:
    """Remove staged trees and the newer tree; the backup and what was written since stay."""
    drop_lent(run.plan.folder)
    drop_exported(run.plan)
    drop_scratch(run.plan)
    drop_left(run.plan)
    drop_clones(run.plan)
    remove_entry(run.site.state.backups / (run.plan.backup_name + UNFINISHED))
    placement_of(run.site).drop_newer(run.plan)
    return {}
