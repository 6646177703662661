"""Checks of the settings: readable, what releases change in them, switches that no production site should have on."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import BadInput
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.moves import moved
from yellow_ladder.release.sheet import Move
from yellow_ladder.route import Route
from yellow_ladder.settings.decide import Fate, decide_along
from yellow_ladder.settings.formats import read_settings_file
from yellow_ladder.settings.port import SettingsText
from yellow_ladder.words import some_of

_SWITCHES = {"debug", "debug_mode", "debugging", "development", "develop", "dev", "dev_mode", "testing", "test_mode"}
_MODES = {"environment", "env", "mode", "app_env", "run_mode"}
_ON = {"1", "yes", "true", "on", "y"}
_NOT_FOR_PRODUCTION = {"development", "dev", "debug", "test", "testing", "staging"}
_LARGEST_SEARCHED_BYTES = 256 * 1024


def settings_readable(at: Circumstances) -> Iterator[Finding]:
    """Is every settings file there, and can it be changed with its comments kept?"""
    for spec in at.site.record.keep.settings:
        path = at.site.root / spec.file
        if not path.is_file():
            yield stop("settings", f"the settings file {path} is not there", "correct keep.settings in the site file")
            continue
        try:
            settings = read_settings_file(path, spec.format)
        except BadInput as fault:
            yield from (stop("settings", problem.placed, problem.remedy) for problem in fault.problems)
            continue
        yield ok("settings", f"{spec.file} has {len(settings.values())} keys and can be carried over")


def _readable(at: Circumstances) -> Iterator[tuple[str, SettingsText]]:
    for spec in at.site.record.keep.settings:
        try:
            yield spec.file, read_settings_file(at.site.root / spec.file, spec.format)
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
    """Which of the site's settings do the releases on the way retire, rename or newly require?"""
    keys = {file: settings.values().keys() for file, settings in _readable(at)}
    for version, file in _not_made(at, route):
        seen = f"{version} changes settings in {file}, which keep.settings does not name: they would not be made"
        yield stop("settings changes", seen, f'add {{ file = "{file}" }} to keep.settings')
    way = [(str(rung.to_version), rung.release.sheet) for rung in route.rungs]
    for one in decide_along(keys, way):
        if one.fate is Fate.RENAMED:
            yield ok("settings changes", f"{one.version} renames {one.old_key} to {one.key} in {one.file}")
        elif one.fate is Fate.RETIRED and one.superseded_by:
            seen = f"{one.version} renames {one.key} to {one.superseded_by}, and both are set in {one.file}"
            remedy = f"the value of {one.superseded_by} will count, {one.key} is made a comment; correct it before"
            yield warn("settings changes", seen, remedy)
        elif one.fate is Fate.RETIRED:
            why = f" ({one.comment})" if one.comment else ""
            seen = f"{one.version} no longer accepts {one.key}{why}, which is set in {one.file}"
            yield warn("settings changes", seen, "it is made a comment; see whether something replaces it")
        elif one.fate is Fate.ADDED:
            seen = f"{one.version} requires {one.key}, which is not set in {one.file}"
            yield warn("settings changes", seen, f"the default {one.value!r} is put in; correct it after")


def _not_made(at: Circumstances, route: Route) -> Iterator[tuple[str, str]]:
    """(version, path here) of settings files that releases on the way change and that nobody carries as settings."""
    named = {spec.file for spec in at.site.record.keep.settings}
    back: list[list[Move]] = []
    for rung in route.rungs:
        back.append([Move.model_validate({"from": one.to, "to": one.from_}) for one in rung.release.sheet.files.moved])
        for change in rung.release.sheet.settings:
            path = change.file
            for moves in reversed(back):
                path = moved(path, moves)
            if path not in named and path in at.survey.manifest:
                yield str(rung.to_version), path


def settings_elsewhere(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Do files that no release changes (scripts, templates, edited or unclaimed files) name a key that goes?"""
    gone: dict[str, str] = {}
    for rung in route.rungs:
        for change in rung.release.sheet.settings:
            names = [one.key for one in change.retired] + [one.from_ for one in change.renamed]
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
