"""The kinds of placement that are built, by their names in the site file. The only place that makes one."""

from __future__ import annotations

from collections.abc import Mapping

from yellow_ladder.climb.placing.exchange import ExchangePlacement
from yellow_ladder.climb.placing.port import Placement
from yellow_ladder.site.site import Site

PLACEMENTS: Mapping[str, Placement] = {"exchange": ExchangePlacement()}


def placement_of(site: Site) -> Placement:
    """How new files come into a site."""
    return PLACEMENTS[site.record.placement]
