"""Checks of what the application keeps outside root: whoever forgets to name it loses it when going back."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.accounts import may_write
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.discovery.elsewhere import Elsewhere, named_elsewhere, used_elsewhere
from yellow_ladder.discovery.readers import read_settings
from yellow_ladder.errors import LadderError
from yellow_ladder.files.entry import within
from yellow_ladder.site.site import Site

_CHECK = "data elsewhere"


def data_elsewhere(at: Circumstances) -> Iterator[Finding]:
    """Do settings name, or services write to, what lies outside root and nobody has named here?"""
    known, told = _named_here(at.site), list[str]()
    for one in sorted(_found(at), key=lambda each: (not each.is_database, not each.is_folder, each.path)):
        is_named = within(one.path, known) or any(within(other, [one.path]) for other in known)
        if is_named or within(one.path, told):
            continue
        told.append(one.path)
        yield _finding(one)
    if not told and any(about.pids for about in at.survey.services.values()):
        yield ok(_CHECK, "nothing that runs or is set writes outside root to what is not named here")


def _finding(one: Elsewhere) -> Finding:
    without = "it is neither backed up nor compared, and going back leaves it as it is by then"
    may_be_lost = f'or, where it may be lost, caches = ["{one.path}"]'
    if one.is_database:
        seen = f"{one.path} is a database outside root that is not named here ({one.why}): {without}"
        remedy = f'name it: [[databases]] url = "sqlite:///{one.path}"; {may_be_lost}'
        # Who serves several applications has the databases of the others open as well.
        return warn(_CHECK, seen, f"{remedy}; or see whose it is") if one.is_shared else stop(_CHECK, seen, remedy)
    folder = one.path if one.is_folder else str(Path(one.path).parent)
    seen = f"{one.path} lies outside root and is not named here ({one.why}): {without}"
    return warn(_CHECK, seen, f'name it in [keep]: data = ["{folder}"]; {may_be_lost}')


def _found(at: Circumstances) -> Iterator[Elsewhere]:
    root = at.site.root
    accounts = [spec.wanted_account or at.survey.services[spec.name].account for spec in at.site.record.services]
    for spec in at.site.record.keep.merged:
        for one in named_elsewhere(root, spec.file, read_settings(root / spec.file, is_told=True).pairs):
            if not accounts or any(may_write(Path(one.path), account) for account in accounts):
                yield one
    for spec_ in at.site.record.services:
        if not spec_.holds:  # a database server has its data folder
            account = spec_.wanted_account or at.survey.services[spec_.name].account
            for one in used_elsewhere(root, at.survey.services[spec_.name].pids):
                if one.is_open or may_write(Path(one.path), account):
                    yield one


def _named_here(site: Site) -> list[str]:
    """What the site file names, or the tool itself writes, by whole paths."""
    keep = site.record.keep
    found = [*site.outside, *(one for one in keep.caches if one.startswith("/"))]
    for spec in site.record.services:
        found += [site.filled(one) for one in (spec.log, spec.pid_file) if one]
    places = [site.state.path, site.file.parent / site.record.state, *(site.resolve(one) for one in found)]
    for database in site.databases().values():
        places += database.own_files()
    with contextlib.suppress(LadderError):
        places += [site.flag] if site.flag else []
    source = site.source
    places += [] if isinstance(source, str) else [source]
    return [str(nolinks.trusted(one)) for one in places]
