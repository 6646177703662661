"""What the machine has of the things that releases ask for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from yellow_ladder.release.versions import Version
from yellow_ladder.route import Machine, Thing
from yellow_ladder.survey.records import ProbeAnswer, Survey


def machine_of(
    programs: Iterable[ProbeAnswer],
    parts: Mapping[str, Version],
    packages: Mapping[str, str],
    databases: Iterable[tuple[str, str]],
) -> Machine:
    """Versions as answers told them; `databases` are (engine, version)."""
    versions: dict[Thing, str] = {}
    runtime = ""
    for one in programs:
        if one.of == "runtime":
            runtime = one.part
        if one.says and one.of != "runtimes":
            versions[Thing("runtime") if one.of == "runtime" else Thing("tool", one.part)] = one.says
    versions |= {Thing("part", name): str(version) for name, version in parts.items()}
    versions |= {Thing("package", name): version for name, version in packages.items()}
    versions |= {Thing("database", engine): version for engine, version in databases if version}
    return Machine(versions, runtime)


def fitting_runtime(wanted: str, versions: Iterable[tuple[str, str]]) -> str:
    """The program of the first runtime, of (program, version), that is in a range; empty where none is."""
    for program, says in versions:
        try:
            if not wanted or Version(says).is_in(wanted):
                return program
        except ValueError:
            continue
    return ""


def surveyed_machine(survey: Survey) -> Machine:
    """The machine as a survey saw it."""
    databases = [(one.kind, one.version) for one in survey.databases]
    return machine_of(survey.programs, survey.parts, survey.packages, databases)
