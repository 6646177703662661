"""Asks every check; one that fails is a finding of its own and keeps no other from being asked."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from yellow_ladder.checks.backups import backup_age, backup_place, copies_elsewhere
from yellow_ladder.checks.data import (
    database_reachable,
    database_rights,
    long_transactions,
    objects_work,
    others_kept_out,
    schema_as_expected,
)
from yellow_ladder.checks.elsewhere import data_elsewhere
from yellow_ladder.checks.files import (
    core_edits,
    data_folders,
    restless_files,
    set_id_files,
    unclaimed_files,
    unreadable_files,
)
from yellow_ladder.checks.known_after import asked_whether_it_works, schema_told
from yellow_ladder.checks.machine import clock, free_space, rights_to_place, space_for_climb, state_on_same_disk
from yellow_ladder.checks.making import commands_fit, pointer_leads, releases_to_make
from yellow_ladder.checks.needs import addons_fit, landings_ahead, licences_there, machine_meets, rest_and_people
from yellow_ladder.checks.own import own_questions, questions_of_releases
from yellow_ladder.checks.records import Check, Circumstances, Finding, Level, RouteCheck, stop
from yellow_ladder.checks.releases import (
    contracts_fit,
    packages_sound,
    route_found,
    sheets_in_source,
    unbuilt_moves,
    warnings_of_releases,
)
from yellow_ladder.checks.servers import servers_apart, servers_climb
from yellow_ladder.checks.services import (
    accounts_fit,
    others_in_the_files,
    ports_right,
    services_controllable,
    timed_jobs,
    variables_kept,
)
from yellow_ladder.checks.settings import mode_switches, settings_changes, settings_elsewhere, settings_readable
from yellow_ladder.checks.shipped_data import shipped_data
from yellow_ladder.checks.site import climbs_of_others, left_over_work, maintenance_flag, probes_agree
from yellow_ladder.checks.trust import environment_sound, hidden_rights, state_folder_safe, what_root_runs
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.errors import LadderError
from yellow_ladder.services.mentions import one_look

SITE_CHECKS: dict[str, Check] = {
    "route": route_found,
    "earlier work": left_over_work,
    "climbs of others": climbs_of_others,
    "versions": probes_agree,
    "pointer": pointer_leads,
    "maintenance": maintenance_flag,
    "rights": rights_to_place,
    "work folder": state_on_same_disk,
    "free space": free_space,
    "clock": clock,
    "database": database_reachable,
    "database rights": database_rights,
    "database objects": objects_work,
    "transactions": long_transactions,
    "other writers": others_kept_out,
    "schema": schema_as_expected,
    "database servers": servers_apart,
    "services": services_controllable,
    "variables": variables_kept,
    "ports": ports_right,
    "accounts": accounts_fit,
    "others at work": others_in_the_files,
    "timed jobs": timed_jobs,
    "release source": sheets_in_source,
    "settings": settings_readable,
    "mode switches": mode_switches,
    "data folders": data_folders,
    "data elsewhere": data_elsewhere,
    "restless files": restless_files,
    "core edits": core_edits,
    "unreadable files": unreadable_files,
    "unclaimed files": unclaimed_files,
    "set-id files": set_id_files,
    "hidden rights": hidden_rights,
    "what root runs": what_root_runs,
    "environment": environment_sound,
    "state folder": state_folder_safe,
    "backup place": backup_place,
    "copies elsewhere": copies_elsewhere,
    "last backup": backup_age,
    "own questions": own_questions,
    "after the climb": asked_whether_it_works,
}
ROUTE_CHECKS: dict[str, RouteCheck] = {
    "free space": space_for_climb,
    "machine": machine_meets,
    "landings": landings_ahead,
    "rest": rest_and_people,
    "licence": licences_there,
    "add-ons": addons_fit,
    "packages": packages_sound,
    "releases": releases_to_make,
    "commands": commands_fit,
    "database servers": servers_climb,
    "contracts": contracts_fit,
    "schema told": schema_told,
    "questions of releases": questions_of_releases,
    "moves": unbuilt_moves,
    "settings changes": settings_changes,
    "settings elsewhere": settings_elsewhere,
    "data of releases": shipped_data,
    "what changes": warnings_of_releases,
}
_ORDER = (Level.STOP, Level.WARN, Level.OK)


@connections_kept()
@one_look()
def run_checks(at: Circumstances) -> list[Finding]:
    """All findings, what stops first. Without a route, only what needs none is asked."""
    findings: list[Finding] = []
    for name, check in SITE_CHECKS.items():
        findings += _answers(name, lambda check=check: check(at))  # type: ignore[misc]
    route = at.route
    if route is not None:
        for name, route_check in ROUTE_CHECKS.items():
            findings += _answers(name, lambda check=route_check: check(at, route))  # type: ignore[misc]
    return sorted(findings, key=lambda finding: _ORDER.index(finding.level))


def _answers(name: str, ask: Callable[[], Iterable[Finding]]) -> list[Finding]:
    try:
        return list(ask())
    except LadderError as fault:
        return [stop(name, problem.message, problem.remedy) for problem in fault.problems]
    except OSError as fault:
        return [stop(name, f"could not be asked: {fault}", "correct that and check again")]
    except (ValueError, KeyError, TypeError, AttributeError, LookupError) as fault:
        # A fault of one check must not hide the answers of all others; it still stops a climb.
        text = f"this check is at fault itself ({type(fault).__name__}: {fault})"
        return [stop(name, text, "report it to the makers of Yellow Ladder")]
