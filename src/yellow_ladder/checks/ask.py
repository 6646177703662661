"""Asks every check; one that fails is a finding of its own and keeps no other from being asked."""

from __future__ import annotations

from yellow_ladder.checks.data import database_reachable, schema_as_expected
from yellow_ladder.checks.machine import free_space, rights_to_place, state_on_same_disk
from yellow_ladder.checks.records import Check, Circumstances, Finding, Level, stop
from yellow_ladder.checks.releases import contracts_fit, packages_sound, sheets_in_source, unbuilt_moves
from yellow_ladder.checks.site import (
    core_edits,
    data_folders,
    maintenance_flag,
    services_controllable,
    settings_readable,
    unclaimed_files,
    witnesses_agree,
)
from yellow_ladder.errors import LadderError

ALL_CHECKS: dict[str, Check] = {
    "free space": free_space,
    "rights": rights_to_place,
    "work folder": state_on_same_disk,
    "database": database_reachable,
    "schema": schema_as_expected,
    "services": services_controllable,
    "packages": packages_sound,
    "release source": sheets_in_source,
    "contracts": contracts_fit,
    "moves": unbuilt_moves,
    "versions": witnesses_agree,
    "maintenance": maintenance_flag,
    "settings": settings_readable,
    "data folders": data_folders,
    "core edits": core_edits,
    "unclaimed files": unclaimed_files,
}
_ORDER = (Level.STOP, Level.WARN, Level.OK)


def run_checks(circumstances: Circumstances) -> list[Finding]:
    """All findings, what stops first."""
    findings: list[Finding] = []
    for name, check in ALL_CHECKS.items():
        try:
            findings += check(circumstances)
        except LadderError as fault:
            findings += [stop(name, problem.message, problem.remedy) for problem in fault.problems]
        except OSError as fault:
            findings.append(stop(name, f"could not be asked: {fault}", "correct that and check again"))
    return sorted(findings, key=lambda finding: _ORDER.index(finding.level))
