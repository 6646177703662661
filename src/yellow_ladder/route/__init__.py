"""Routes: which releases to pass through, and why."""

from yellow_ladder.route.find import PassedOver, Route, Rung, Wishes, find_route

__all__ = ["PassedOver", "Route", "Rung", "Wishes", "find_route"]
