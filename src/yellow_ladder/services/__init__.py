"""Services of a site: supervised processes and services run by commands, started in order, stopped in reverse."""

from __future__ import annotations

from yellow_ladder.services.commands import CommandService
from yellow_ladder.services.port import About, Service, State
from yellow_ladder.services.process import ProcessService
from yellow_ladder.site.service_records import ServiceSpec
from yellow_ladder.site.site import Site

__all__ = ["About", "CommandService", "ProcessService", "Service", "State", "services_of"]


def services_of(site: Site) -> list[Service]:
    """The services in the order of starting."""
    return [_service(site, spec) for spec in site.record.services]


def _service(site: Site, spec: ServiceSpec) -> Service:
    return ProcessService(site, spec) if spec.kind == "process" else CommandService(site, spec)
