"""Services of a site, each behind one port by its kind; started in order, stopped in reverse."""

from __future__ import annotations

from yellow_ladder.errors import OwnFault, Problem
from yellow_ladder.services.commands import CommandService
from yellow_ladder.services.cron import CronService
from yellow_ladder.services.port import About, Service, ServiceState
from yellow_ladder.services.process import ProcessService
from yellow_ladder.services.unit import UnitService
from yellow_ladder.site.service_records import CommandsRecord, CronRecord, ProcessRecord, ServiceRecord, UnitRecord
from yellow_ladder.site.site import Site

__all__ = [
    "About",
    "CommandService",
    "CronService",
    "ProcessService",
    "Service",
    "ServiceState",
    "UnitService",
    "service_of",
    "services_of",
]


def services_of(site: Site) -> list[Service]:
    """The services in the order of starting."""
    return [service_of(site, record) for record in site.record.services]


def service_of(site: Site, record: ServiceRecord) -> Service:
    """The one place that knows which class stands for which kind."""
    if isinstance(record, ProcessRecord):
        return ProcessService(site, record)
    if isinstance(record, CommandsRecord):
        return CommandService(site, record)
    if isinstance(record, UnitRecord):
        return UnitService(site, record)
    if isinstance(record, CronRecord):
        return CronService(site, record)
    raise OwnFault(Problem("unknown-kind", f"the service {record.name} is of an unknown kind"))
