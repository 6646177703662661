"""Takes a survey of a live site."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from yellow_ladder.database.kept import connections_kept
from yellow_ladder.database.port import OF_APPLICATION
from yellow_ladder.errors import LadderError
from yellow_ladder.release.source import Release, Releases
from yellow_ladder.release.versions import Version
from yellow_ladder.services import About, ServiceState, services_of
from yellow_ladder.settings.shipped import Installed
from yellow_ladder.site.site import Site
from yellow_ladder.survey.addons import introduce
from yellow_ladder.survey.databases import look_at_database
from yellow_ladder.survey.drift.look import SiteFiles, look_at_files
from yellow_ladder.survey.drift.reference import Reference, package_contents
from yellow_ladder.survey.outside import count_outside
from yellow_ladder.survey.own_settings import own_settings
from yellow_ladder.survey.probes import (
    ask_all,
    ask_programs,
    each_asked_once,
    packages_of,
    parts_on_disk,
    version_on_disk,
)
from yellow_ladder.survey.records import AddOn, ProbeAnswer, Survey
from yellow_ladder.survey.versions import VersionVerdict, judge_versions


@dataclass(frozen=True, slots=True)
class RecordFinder:
    """Finds what an earlier day recorded of a version: a key that changes with the record, and how to read it."""

    find: Callable[[Site, Version], tuple[str, Callable[[], Reference]] | None]


@dataclass(frozen=True, slots=True)
class Depth:
    """How much is looked at: every file read again, every constraint checked however long a reader then stays.

    `records` stand in, in order, where the installed release's package is not at hand.
    """

    read_files: bool = False
    check_constraints: bool = False
    records: Sequence[RecordFinder] = field(default=())


@connections_kept()
@each_asked_once()
def take_survey(site: Site, releases: Releases | None, depth: Depth | None = None) -> Survey:
    """Look at everything; what cannot be read becomes a finding and stops nothing else."""
    depth = depth or Depth()
    version = version_on_disk(site)
    findings: list[str] = []
    release = releases.of(version) if releases and version else None
    files = _look_at_files(site, releases, version, depth, findings)
    elsewhere = count_outside(site)
    answers = ask_all(site)
    programs = ask_programs(site)
    surveyed = tuple(look_at_database(n, db, thorough=depth.check_constraints) for n, db in site.databases().items())
    offered = releases.addons if releases else ()
    is_closed = bool(site.flag and site.flag.exists())
    findings += compare_answers(version, answers, release)
    findings += [
        f"{one.part} ({one.where}) does not tell its version: {one.trouble}" for one in programs if one.trouble
    ]
    findings += [f"cannot be read: {trouble}" for trouble in files.tree.troubles]
    for one in surveyed:
        findings += [
            f"database {one.name}: {text}" for text in (*one.broken, *one.invalid) if not text.endswith(OF_APPLICATION)
        ]
    if is_closed:
        findings.append(f"the site is closed to its users: the flag {site.flag} is there")
    return Survey(
        site=site.name,
        product=site.record.product,
        root=str(site.root),
        version=version,
        answers=tuple(answers),
        programs=tuple(programs),
        parts=parts_on_disk(site),
        packages=_packages(site, findings),
        tree=files,
        data_outside=elsewhere,
        addons=tuple(introduce(site, AddOn(path, origin), offered) for path, origin in files.classes.addons.items()),
        databases=surveyed,
        services=_services(site),
        is_closed=is_closed,
        findings=tuple(findings),
        settings=own_settings(site, _installed(releases, version)),
    )


def _installed(releases: Releases | None, version: Version | None) -> Installed | None:
    if version is None:
        return None
    return Installed(str(version), releases.of(version) if releases else None)


def _look_at_files(
    site: Site, releases: Releases | None, version: Version | None, depth: Depth, findings: list[str]
) -> SiteFiles:
    """Hold the files against the installed release's package, or against a record of it."""
    release = releases.of(version) if releases and version else None
    older = [one for one in reversed(releases.found) if version and one.version <= version] if releases else []
    made = release.sheet.files.generated if release is not None else []
    # What commands have made is known from a record alone.
    if release is not None and not release.is_built and release.archive.is_file():
        status = release.archive.stat()
        key = f"package {release.archive} {status.st_size} {status.st_mtime_ns} {status.st_ino}"
        installed, name = release, f"the package {release.archive.name}"

        def read_package() -> Reference:
            return Reference(name, package_contents(installed, site.state.memory), is_package=True)

        try:
            return look_at_files(site, key, read_package, older, generated=made, thorough=depth.read_files)
        except LadderError as fault:
            findings.append(fault.problems[0].message)
    for finder in depth.records:
        found = finder.find(site, version) if version else None
        if found is not None:
            key, read = found
            if release is None or not release.is_built:
                findings.append(f"the package of {version} is not at hand: files are held against {key}")
            return look_at_files(site, key, read, generated=made, thorough=depth.read_files)
    if release is not None and release.is_built:
        findings.append(f"{version} was made by commands, and nothing recorded what: edits of its files are not seen")
    elif version is not None and not findings:
        findings.append(f"the package of {version} is not in the release source: edits of its files are not seen")
    return look_at_files(site, "nobody knows", lambda: None, generated=made, thorough=depth.read_files)


def _packages(site: Site, findings: list[str]) -> Mapping[str, str]:
    try:
        return packages_of(site)
    except LadderError as fault:
        findings.append(f"the packages of the runtime cannot be listed: {fault.problems[0].message}")
        return {}


def _services(site: Site) -> Mapping[str, About]:
    states = {}
    for service in services_of(site):
        try:
            states[service.name] = service.about()
        except LadderError as fault:
            states[service.name] = About(ServiceState.UNKNOWN, command_line=fault.problems[0].message)
    return states


def compare_answers(version: Version | None, answers: list[ProbeAnswer], release: Release | None) -> list[str]:
    """Where answers disagree, with the likely cause."""
    found = ["no version could be read on disk: see the probes below"] if version is None else []
    for one in judge_versions(answers, str(version or ""), release.sheet if release else None):
        if one.is_silent:
            found.append(f"the {one.answer.of} probe ({one.answer.where}) says nothing: {one.answer.trouble}")
        elif not one.is_right:
            found.append(_likely_cause(one, str(version)))
    return found


def _likely_cause(verdict: VersionVerdict, version: str) -> str:
    """What probes that disagree most likely mean."""
    one, wanted = verdict.answer, verdict.wanted
    if one.part:
        seen = f"{one.part} is at {one.says} ({one.where}) and release {version} comes with {wanted}"
        return f"{seen}: likely only one of the two was upgraded"
    if one.of == "served":
        seen = f"files are at {version} and the site serves {one.says}"
        return f"{seen}: likely the service was not restarted after its files changed"
    if one.of == "schema":
        seen = f"the schema says {one.says} and release {version} has {wanted}"
        return f"{seen}: likely files were placed and the database was not migrated"
    return f"{one.where} says {one.says}, other files say {version}: likely new files were copied over old"
