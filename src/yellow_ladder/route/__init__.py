"""Routes: which releases to pass through, and why."""

from yellow_ladder.route.find import PassedOver, Route, Rung, Wishes, find_route
from yellow_ladder.route.needs import Landing, Machine, MachineChange, Thing
from yellow_ladder.route.order import order_of

__all__ = [
    "Landing",
    "Machine",
    "MachineChange",
    "PassedOver",
    "Route",
    "Rung",
    "Thing",
    "Wishes",
    "find_route",
    "order_of",
]
