"""The kinds of placement that are built, by their names in the site file. The only place that makes one."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from yellow_ladder.climb.placing.exchange import ExchangePlacement
from yellow_ladder.climb.placing.in_place import OverlayPlacement
from yellow_ladder.climb.placing.pointer import PointerPlacement
from yellow_ladder.climb.placing.port import Placement
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.site.site import Site

PLACEMENTS: Mapping[str, Placement] = {
    "exchange": ExchangePlacement(),
    "overlay": OverlayPlacement(),
    "pointer": PointerPlacement(),
}


def release_folder(plan: Plan, rung: RungPlan) -> Path:
    """Where a rung's release lies while it is the site's: a folder of its own, or root."""
    return plan.site.root / rung.folder


def release_before(plan: Plan, rung: RungPlan) -> Path:
    """Where the release lies that a rung leads away from: a folder of its own, or root while it is the site's."""
    if rung.number > 1:
        return release_folder(plan, plan.rungs[rung.number - 2])
    return plan.site.root / (plan.from_folder or plan.site.release_path)


def placement_of(site: Site) -> Placement:
    """How new files come into a site."""
    return PLACEMENTS[site.record.placement]
