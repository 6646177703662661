"""Takes a survey of a live site."""

from __future__ import annotations

from collections.abc import Mapping

from yellow_ladder.database import Database
from yellow_ladder.errors import LadderError
from yellow_ladder.files.manifest import Entry, Kind, Manifest, Skip, take_manifest
from yellow_ladder.files.unpack import read_contents
from yellow_ladder.release.source import Release, Releases
from yellow_ladder.release.versions import Version
from yellow_ladder.services import services_of
from yellow_ladder.site.site import Site
from yellow_ladder.survey.drift import classify, find_addons
from yellow_ladder.survey.probes import ask_all, version_on_disk
from yellow_ladder.survey.records import DatabaseFacts, Survey, Witness


def take_survey(site: Site, releases: Releases | None) -> Survey:
    """Look at everything; what cannot be read becomes a finding and stops nothing else."""
    version = version_on_disk(site)
    findings: list[str] = []
    installed = _contents_of(releases, version, findings)
    manifest = site_manifest(site)
    keep = site.record.keep
    witnesses = ask_all(site)
    facts = tuple(look_at_database(name, database) for name, database in site.databases().items())
    release = releases.of(version) if releases and version else None
    is_closed = bool(site.flag and site.flag.exists())
    findings += compare_witnesses(version, witnesses, release)
    if is_closed:
        findings.append(f"the site is closed to its users: the flag {site.flag} is there")
    return Survey(
        site=site.name,
        product=site.record.product,
        root=str(site.root),
        version=version,
        witnesses=tuple(witnesses),
        files=classify(manifest, installed, keep),
        manifest=manifest,
        addons=tuple(find_addons(manifest, installed, keep)),
        databases=facts,
        services=_service_states(site),
        is_closed=is_closed,
        findings=tuple(findings),
    )


def site_manifest(site: Site, known: Manifest | None = None) -> dict[str, Entry]:
    """Every entry below root that is the site's; files in data folders, and untouched `known` ones, are not read."""
    skip = site.skipped()
    manifest = take_manifest(site.root, lambda path: skip(path) or site.is_data(path), known=known)
    for folder in site.record.keep.data:
        if (site.root / folder).is_dir() and not (site.root / folder).is_symlink():
            below = take_manifest(site.root / folder, _below(skip, folder), with_digests=False)
            manifest.update({f"{folder}/{path}": entry for path, entry in below.items()})
    return manifest


def _below(skip: Skip, folder: str) -> Skip:
    return lambda path: skip(f"{folder}/{path}")


def _contents_of(releases: Releases | None, version: Version | None, findings: list[str]) -> Mapping[str, str] | None:
    release = releases.of(version) if releases and version else None
    if release is None:
        if version is not None:
            findings.append(f"the package of {version} is not in the release source: edits of its files are not seen")
        return None
    try:
        return read_contents(release.archive, release.limits, release.sheet.archive.top)
    except LadderError as fault:
        findings.append(fault.problems[0].message)
        return None


def look_at_database(name: str, database: Database) -> DatabaseFacts:
    """A database's facts, or why there are none."""
    try:
        engine = database.probe()
        tables = database.tables()
        rows = {table.name: database.count_rows(table.name) for table in tables}
        migrations = len(database.ledger())
        return DatabaseFacts(name, engine, database.size_bytes(), rows, tuple(tables), migrations)
    except LadderError as fault:
        return DatabaseFacts(name, trouble=fault.problems[0].message)


def _service_states(site: Site) -> dict[str, str]:
    states = {}
    for service in services_of(site):
        try:
            states[service.name] = str(service.state())
        except LadderError as fault:
            states[service.name] = f"unknown: {fault.problems[0].message}"
    return states


def compare_witnesses(version: Version | None, witnesses: list[Witness], release: Release | None) -> list[str]:
    """Where witnesses disagree, with the likely cause."""
    found = []
    if version is None:
        found.append("no version could be read on disk: see the probes below")
    for witness in witnesses:
        if witness.trouble:
            found.append(f"the {witness.of} probe ({witness.where}) says nothing: {witness.trouble}")
        elif witness.of == "served" and version is not None and witness.says != str(version):
            found.append(
                f"files are at {version} and the site serves {witness.says}:"
                " likely the service was not restarted after its files changed"
            )
        elif witness.of == "schema" and release is not None:
            wanted = release.sheet.release.schema_version
            if wanted and witness.says != wanted:
                found.append(
                    f"the schema says {witness.says} and release {version} has {wanted}:"
                    " likely files were placed and the database was not migrated"
                )
    return found


def count_files(manifest: Mapping[str, Entry]) -> int:
    """Files and links of a manifest."""
    return sum(entry.kind is not Kind.FOLDER for entry in manifest.values())
