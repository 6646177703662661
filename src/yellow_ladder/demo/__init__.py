"""Quaybook, the demonstration site: an invented harbour's berth bookings, in several releases."""

from yellow_ladder.demo.build import DEMO_VERSIONS, build_releases
from yellow_ladder.demo.prepare import DemoSite, prepare_demo

__all__ = ["DEMO_VERSIONS", "DemoSite", "build_releases", "prepare_demo"]
