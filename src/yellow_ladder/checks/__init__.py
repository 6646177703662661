"""Checks: one question each to machine, site or route, all asked in one pass."""

from yellow_ladder.checks.ask import ALL_CHECKS, run_checks
from yellow_ladder.checks.records import Circumstances, Finding, Level

__all__ = ["ALL_CHECKS", "Circumstances", "Finding", "Level", "run_checks"]
