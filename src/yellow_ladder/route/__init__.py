"""Routes: which releases to pass through, and why."""

from yellow_ladder.route.find import Route, Rung, find_route

__all__ = ["Route", "Rung", "find_route"]
