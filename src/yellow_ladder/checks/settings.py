"""Checks of the settings: readable, what releases change in them, switches that no production site should have on."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import BadInput
from yellow_ladder.release.moves import moved
from yellow_ladder.route import Route
from yellow_ladder.settings.ini import IniSettings
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
            settings = _read(at, spec.file)
        except BadInput as fault:
            yield from (stop("settings", problem.message, problem.remedy) for problem in fault.problems)
            continue
        yield ok("settings", f"{spec.file} has {len(settings.values())} keys and can be carried over")


def _read(at: Circumstances, file: str) -> IniSettings:
    path = at.site.root / file
    return IniSettings(path.read_bytes().decode(errors="replace"), str(path))


def _readable(at: Circumstances) -> Iterator[tuple[str, IniSettings]]:
    for spec in at.site.record.keep.settings:
        try:
            yield spec.file, _read(at, spec.file)
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
        yield warn("mode switches", some_of(found), "turn it off unless this is no production site")
    else:
        yield ok("mode switches", "no switch for development is on")


def settings_changes(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Which of the site's settings do the releases on the way retire, rename or newly require?"""
    for file, settings in _readable(at):
        have, where = set(settings.values()), file
        for rung in route.rungs:
            sheet = rung.release.sheet
            where = moved(where, sheet.files.moved)
            for change in (one for one in sheet.settings if one.file == where):
                for rename in change.renamed:
                    if rename.from_ in have:
                        have = (have - {rename.from_}) | {rename.to}
                        yield ok("settings changes", f"{rung.to_version} renames {rename.from_} to {rename.to}")
                for retired in change.retired:
                    if retired.key in have:
                        why = f" ({retired.why})" if retired.why else ""
                        seen = f"{rung.to_version} no longer accepts {retired.key}{why}, which is set in {file}"
                        yield warn("settings changes", seen, "it is made a comment; see whether something replaces it")
                for added in change.added:
                    if added.key not in have:
                        have.add(added.key)
                        seen = f"{rung.to_version} requires {added.key}, which is not set here"
                        yield warn("settings changes", seen, f"the default {added.value!r} is put in; correct it after")


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
            lines = path.read_bytes().decode().splitlines()
        except (OSError, UnicodeDecodeError):
            continue
        for number, line in enumerate(lines, start=1):
            found = pattern.search(line)
            if found:
                seen = f"{at.site.short(path)}, line {number}, names {gone[found[1]]}"
                yield warn("settings elsewhere", seen, "change it by hand after the climb")
                break
