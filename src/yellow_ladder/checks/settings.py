"""Checks of the settings: readable, what releases change in them, switches that no production site should have on."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.moves import moved
from yellow_ladder.release.sheet import Move
from yellow_ladder.route import Route
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.forecast import Forecast, Told
from yellow_ladder.settings.merging.outcomes import Fate
from yellow_ladder.settings.notes import note_of
from yellow_ladder.settings.reading import read_settings_file
from yellow_ladder.settings.shipped import secret_files
from yellow_ladder.settings.words import REQUIRED
from yellow_ladder.words import count_of, some_of

_SWITCHES = {"debug", "debug_mode", "debugging", "development", "develop", "dev", "dev_mode", "testing", "test_mode"}
_MODES = {"environment", "env", "mode", "app_env", "run_mode"}
_ON = {"1", "yes", "true", "on", "y"}
_NOT_FOR_PRODUCTION = {"development", "dev", "debug", "test", "testing", "staging"}
_LARGEST_SEARCHED_BYTES = 256 * 1024


def settings_readable(at: Circumstances) -> Iterator[Finding]:
    """Is every settings file there, and can it be read and merged with its comments kept?"""
    for spec in at.site.record.keep.merged:
        path = at.site.root / spec.file
        comes = at.forecast.of(spec.file) if at.forecast is not None else None
        if comes is not None and comes.is_new and comes.after:
            if spec.file.startswith("/") and not path.parent.is_dir():
                # Below root it comes with the release; elsewhere nobody knows whose it is to be.
                seen = f"{spec.file} comes with {next(iter(comes.after))}, and there is no folder {path.parent}"
                yield stop("settings", seen, f"make it, for those who are to read it: mkdir {path.parent}")
                continue
            yield ok("settings", f"{spec.file} is not there yet, and comes with {next(iter(comes.after))}")
            continue
        if not path.is_file():
            yield stop("settings", f"the settings file {path} is not there", "correct keep.settings in the site file")
            continue
        try:
            settings = read_settings_file(path, spec.format, spec.file, spec.encoding)
        except BadInput as fault:
            yield from (stop("settings", problem.placed, problem.remedy) for problem in fault.problems)
            continue
        form = settings.form.name
        what = "by lines" if form == "lines" else f"{count_of(len(settings.values()), 'key')}, as {form}"
        yield ok("settings", f"{spec.file} can be carried over ({what})")


def _readable(at: Circumstances) -> Iterator[tuple[str, Document]]:
    for spec in at.site.record.keep.settings:
        try:
            yield spec.file, read_settings_file(at.site.root / spec.file, spec.format, spec.file, spec.encoding)
        except (BadInput, OSError):
            continue  # told by the check above


def mode_switches(at: Circumstances) -> Iterator[Finding]:
    """Is a switch on that belongs to development?"""
    found = []
    for file, settings in _readable(at):
        for key, value in settings.values().items():
            name, value = key.rsplit(".", 1)[-1].lower(), value.strip().lower()
            if (name in _SWITCHES and value in _ON) or (name in _MODES and value in _NOT_FOR_PRODUCTION):
                found.append(f"{key} = {value} in {file}")
    if found:
        yield warn("mode switches", some_of(found), "turn it off, if this is a production site")
    else:
        yield ok("mode switches", "no switch for development is on")


def settings_changes(at: Circumstances, route: Route) -> Iterator[Finding]:
    """What do the releases on the way make of the site's settings, and is every conflict decided?"""
    check = "settings changes"
    for version, file in dict.fromkeys(_not_made(at, route)):
        seen = f"{version} changes settings in {file}, which keep.settings does not name: they would not be made"
        yield stop(check, seen, f'add {{ file = "{file}" }} to keep.settings')
    told = {problem.placed for problem in at.settings_troubles if problem.code != "settings-gone"}
    broken = {one.placed for one in _broken(at)}
    yield from (stop(check, one.placed, one.remedy) for one in at.settings_troubles if one.placed in told - broken)
    if at.forecast is None:
        return
    yield from _undecided(at, at.forecast)
    for one in at.forecast.files:
        if not one.base and any(key.is_open or key.outcome.took for key in one.told):
            seen = f"nothing tells how the installed release shipped {one.file}: whatever differs is asked"
            yield warn(check, seen, "put the installed release's archive into the release source, or name `shipped`")
    for key in at.forecast.told:
        yield from _told(check, key)
    counts = Counter(one.outcome.fate for one in at.forecast.summary)
    for what, words in _COUNTED.items():
        if counts[what]:
            yield ok(check, f"{count_of(counts[what], 'key')} {words}")


_COUNTED = {
    Fate.KEPT: "set here and kept",
    Fate.FOLLOWS: "not changed here, and taken from the releases",
    Fate.NEW: "new, with the releases",
    Fate.GONE: "not changed here, and gone with the releases",
}
_MOST_CONFLICTS = 10


def _undecided(at: Circumstances, forecast: Forecast) -> Iterator[Finding]:
    """Conflicts that nobody has decided: these stop."""
    secret = secret_files(at.site)
    for one in forecast.open[:_MOST_CONFLICTS]:
        seen = f"{one.outcome.key} in {one.file}, at {one.version}: {note_of(one, secret=one.file in secret).detail}"
        yield stop("settings conflict", seen, "decide it with `yl settings`")
    if len(forecast.open) > _MOST_CONFLICTS:
        yield stop("settings conflict", f"and {len(forecast.open) - _MOST_CONFLICTS} more", "see `yl settings`")


def _broken(at: Circumstances) -> Iterator[Problem]:
    """Faults of files that the check above has told already."""
    for spec in at.site.record.keep.merged:
        with contextlib.suppress(OSError):
            try:
                read_settings_file(at.site.root / spec.file, spec.format, spec.file, spec.encoding)
            except BadInput as fault:
                yield from fault.problems


def _told(check: str, one: Told) -> Iterator[Finding]:
    """What somebody should look at."""
    outcome = one.outcome
    if outcome.fate is Fate.RENAMED:
        yield ok(check, f"{one.version} renames {outcome.old_key or outcome.key} to {outcome.key} in {one.file}")
    elif outcome.fate is Fate.RETIRED and "its new name" in outcome.why:
        seen = f"{one.version} renames {outcome.key}, and both names are set in {one.file}: {outcome.why}"
        yield warn(check, seen, f"{outcome.key} is made a comment; correct it before")
    elif outcome.fate is Fate.RETIRED:
        why = f" ({outcome.why})" if outcome.why else ""
        seen = f"{one.version} no longer accepts {outcome.key}{why}, which is set in {one.file}"
        yield warn(check, seen, "it is made a comment; see whether something replaces it")
    elif outcome.fate is Fate.NEW and outcome.why == REQUIRED:
        seen = f"{one.version} requires {outcome.key}, which is not set in {one.file}"
        yield warn(check, seen, f"the default {outcome.result!r} is put in; correct it after")


def _not_made(at: Circumstances, route: Route) -> Iterator[tuple[str, str]]:
    """(version, path here) of settings files that releases on the way change and that nobody carries as settings."""
    named = {spec.in_release for spec in at.site.record.keep.merged}
    back: list[list[Move]] = []
    for rung in route.rungs:
        back.append([Move.model_validate({"from": one.to, "to": one.from_}) for one in rung.release.sheet.files.moved])
        for change in rung.release.sheet.settings:
            path = change.file
            for moves in reversed(back):
                path = moved(path, moves)
            is_put_in = change.added or change.switched_off
            if path not in named and (path in at.survey.manifest or is_put_in):
                yield str(rung.to_version), path


def settings_elsewhere(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Do files that no release changes (scripts, templates, edited or unclaimed files) name a key that goes?"""
    gone: dict[str, str] = {}
    for rung in route.rungs:
        for change in rung.release.sheet.settings:
            names = (
                [one.key for one in change.retired]
                + [one.from_ for one in change.renamed]
                + [one.from_ for one in change.moved]
            )
            gone |= {name.rsplit(".", 1)[-1]: f"{name}, which {rung.to_version} drops or renames" for name in names}
    if not gone:
        return
    pattern = re.compile(r"\b(" + "|".join(map(re.escape, gone)) + r")\s*['\"\]]*\s*[=:]")
    files, keep = at.survey.files, at.site.record.keep
    paths = [*files.edited, *files.unclaimed, *(p for kind, ps in files.kept.items() if kind != "settings" for p in ps)]
    for path in [*(at.site.root / one for one in paths), *map(at.site.resolve, keep.outside)]:
        try:
            if path.is_symlink() or not path.is_file() or path.stat().st_size > _LARGEST_SEARCHED_BYTES:
                continue
            lines = read_regular(path, _LARGEST_SEARCHED_BYTES).decode().splitlines()
        except (OSError, UnicodeDecodeError):
            continue
        for number, line in enumerate(lines, start=1):
            found = pattern.search(line)
            if found:
                seen = f"{at.site.short(path)}, line {number}, names {gone[found[1]]}"
                yield warn("settings elsewhere", seen, "change it by hand after the climb")
                break
