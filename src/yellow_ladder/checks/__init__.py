"""Checks: one question each to machine, site or route, asked in one pass. A module for each kind of thing asked."""

from yellow_ladder.checks.ask import ROUTE_CHECKS, SITE_CHECKS, run_checks
from yellow_ladder.checks.records import Circumstances, Finding, Level, Past

__all__ = ["ROUTE_CHECKS", "SITE_CHECKS", "Circumstances", "Finding", "Level", "Past", "run_checks"]
