"""Starts and stops services, on the way up and on the way back."""

from __future__ import annotations

from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.services import services_of


def stop_service(name: str) -> Work:
    """The work of stopping one service."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).stop()
        return {}

    return do


def start_service(name: str) -> Work:
    """The work of starting one service and waiting until it is ready."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).start()
        return {}

    return do
