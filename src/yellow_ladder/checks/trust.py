"""Checks of what other accounts may write: code that root would run, the state folder, rights hidden in files."""

from __future__ import annotations

import contextlib
import os
import shlex
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks, whose
from yellow_ladder.accounts import ROOT, writer_of
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.files.attributes import read_attributes
from yellow_ladder.files.entry import Entry, Kind, within
from yellow_ladder.services import About, ServiceState
from yellow_ladder.site.service_records import CommandsRecord, ProcessRecord
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import started, surroundings_of
from yellow_ladder.words import count_of, some_of

_EXECUTE_BITS = 0o111


@dataclass(frozen=True, slots=True)
class Run:
    """A command of the site file, and what is known of how it will be run."""

    key: str
    argv: list[str]
    folder: Path
    as_user: str
    folder_counts: bool = False


def runs_of(site: Site) -> Iterator[Run]:
    """Every command that a climb, a check or a look may run."""
    record, here = site.record, site.file.parent
    commands: list[tuple[str, list[str], str]] = [
        *(("versions.command", probe.command, probe.as_user) for probe in record.versions),
        *((f"tools.{tool.name}", tool.command, tool.as_user) for tool in record.tools),
        *((f"checks.{check.name}", check.command, check.as_user) for check in record.checks),
    ]
    commands += [(f"commands.{one.name}", one.run, one.as_user) for one in record.commands]
    commands += [(f"shipped_by of {one.file}", one.shipped_by, record.run_as) for one in record.keep.settings]
    if record.runtime is not None:
        commands += [
            ("runtime", words, record.runtime.as_user) for words in (record.runtime.command, record.runtime.packages)
        ]
    if record.maintenance is not None:
        kept = record.maintenance
        commands += [("maintenance", words, kept.as_user) for words in (kept.close, kept.open)]
    yield from (Run(key, words, here, as_user) for key, words, as_user in commands if words)
    for spec in record.services:
        if spec.ready is not None and spec.ready.command:
            yield Run(f"services.ready of {spec.name}", spec.ready.command, here, spec.ready.as_user)
        folder = site.resolve(site.filled(spec.folder)) if spec.folder else None
        if isinstance(spec, ProcessRecord):
            yield Run(f"service {spec.name}", spec.run, folder or site.root, spec.as_user, folder_counts=True)
        elif isinstance(spec, CommandsRecord):
            for words in filter(None, (spec.start, spec.stop, spec.status)):
                yield Run(f"service {spec.name}", words, folder or here, spec.as_user, folder_counts=bool(folder))


def what_root_runs(at: Circumstances) -> Iterator[Finding]:
    """Would root run what another account can write?"""
    if os.geteuid() != 0:
        return
    told: set[str] = set()
    for run in runs_of(at.site):
        argv = [at.site.filled(word) for word in run.argv]
        account = started(at.site, run.as_user, argv, run.folder, folder_counts=run.folder_counts).account
        if account is not None:
            told.add(f"{run.key} runs as {account.name} ({account.why})")
        elif run.as_user == ROOT:
            other = started(at.site, "", argv, run.folder, folder_counts=run.folder_counts).account
            why = f", though {other.name} can write it: {other.why}" if other else ""
            yield warn(
                "what root runs", f"{run.key} runs as root, as the site file says{why}", "name another `as_user`"
            )
    if at.site.record.build.as_user == ROOT:
        seen = "releases are built by root, as the site file says: their publisher's commands have all its rights"
        yield warn("what root runs", seen, "name another account: as_user of [build]")
    for spec in at.site.record.services:
        about = at.survey.services.get(spec.name, About(ServiceState.UNKNOWN))
        if about.account == ROOT and (spec.ports or about.ports or spec.ready):
            seen = f"`{spec.name}` faces the network and runs as root"
            yield warn("what root runs", seen, f"give it an account of its own: as_user of `{spec.name}`")
    if told:
        yield ok("what root runs", some_of(sorted(told), 4))


def environment_sound(at: Circumstances) -> Iterator[Finding]:
    """Can the environment files be read, by nobody else, and will they be there when the new release starts?"""
    record = at.site.record.environment
    if not record.files and not record.path:
        return
    around = surroundings_of(at.site)
    files = around.places[: len(record.files)]
    keep = at.site.record.keep
    goes = at.site.record.placement == "exchange"  # elsewhere, what is the site's own stays where it lies
    carried = [*keep.data_paths, *keep.keys, *keep.assets, *(one.file for one in keep.merged)]
    for file in files:
        if nolinks.status_of(nolinks.trusted(file)).st_mode & 0o004:
            yield warn("environment", f"{file} can be read by every account", f"chmod o-r {shlex.quote(str(file))}")
        if goes and file.is_relative_to(at.site.root) and not within(at.site.tree_path(file), carried):
            seen = f"{file} lies inside root and is not kept: it would stay behind"
            yield stop("environment", seen, f'add "{at.site.tree_path(file)}" to keep.keys')
    for folder in map(Path, around.path):
        if not folder.is_dir() and not folder.is_relative_to(at.site.root):
            yield warn("environment", f"{folder} in environment.path is not there", "correct the site file")
    count = len(around.variables)
    yield ok("environment", f"{count_of(count, 'variable')} from {count_of(len(files), 'file')} and the site file")


def state_folder_safe(at: Circumstances) -> Iterator[Finding]:
    """Could another account exchange the state folder, with backups and plans in it, for one of its own?"""
    if os.geteuid() != 0:
        return
    writer = writer_of(at.site.state.path)
    if writer is not None and not whose.is_ours_alone(at.site.state.path, to_be_made=True):
        seen = (
            f"{writer[2]} can be written by another account, which could exchange the state folder {at.site.state.path}"
        )
        remedy = f"chown root:root {writer[2]} && chmod go-w {writer[2]}; or name a state folder elsewhere with `state`"
        yield stop("state folder", seen, remedy)


def hidden_rights(at: Circumstances) -> Iterator[Finding]:
    """Do data or add-ons hold devices, or programs that the kernel gives more rights than their user has?"""
    places = (*at.site.record.keep.data, *at.site.record.keep.addons)
    devices, capable = [], []
    for path, entry in at.survey.manifest.items():
        if not within(path, places):
            continue
        with contextlib.suppress(OSError):
            if entry.kind is Kind.OTHER and _is_device(at.site.root / path):
                devices.append(path)
            elif _may_be_program(entry) and _has_capabilities(at.site.root / path):
                capable.append(path)
    devices += [f"{one.path}/{path}" for one in at.survey.data_outside for path in one.devices]
    if devices:
        remedy = f"see what put them there, then: rm {shlex.quote(str(at.site.root / devices[0]))}"
        yield warn("set-id files", f"{count_of(len(devices), 'device')} among the data: {some_of(devices, 3)}", remedy)
    if capable:
        remedy = f"see what put them there, then: setcap -r {shlex.quote(str(at.site.root / capable[0]))}"
        seen = f"{count_of(len(capable), 'file')} with capabilities: {some_of(capable, 3)}"
        yield warn("set-id files", seen, remedy)


def _may_be_program(entry: Entry) -> bool:
    return entry.kind is Kind.FILE and bool(entry.mode & _EXECUTE_BITS)


def _is_device(path: Path) -> bool:
    mode = nolinks.status_of(path).st_mode
    return stat.S_ISCHR(mode) or stat.S_ISBLK(mode)


def _has_capabilities(path: Path) -> bool:
    return any(name == "security.capability" for name, _ in read_attributes(path))
