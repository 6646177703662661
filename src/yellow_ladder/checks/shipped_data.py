"""Check of what releases bring into the site's data folders, and of what they would have and the site has changed."""

from __future__ import annotations

import stat
from collections.abc import Iterator, Mapping

from yellow_ladder import nolinks
from yellow_ladder.checks.records import Circumstances, Finding, ok, warn
from yellow_ladder.files.archives.unpack import Content
from yellow_ladder.files.entry import within
from yellow_ladder.files.manifest import digest_file, with_what_is_below
from yellow_ladder.release.in_data import comes, folders_of
from yellow_ladder.release.source import Release
from yellow_ladder.route import Route
from yellow_ladder.survey.drift.reference import package_contents
from yellow_ladder.words import count_of, some_of

_CHECK = "data of releases"
_MOST_NAMED = 4


def shipped_data(at: Circumstances, route: Route) -> Iterator[Finding]:
    """What of the releases' own comes into data folders, and what stays as it is here although they changed it?"""
    folders, version = at.site.record.keep.data_paths, at.survey.version
    installed = at.releases.of(version) if version else None
    if (
        not any(nolinks.is_folder(at.site.root / one) for one in folders)
        or at.site.record.placement == "pointer"
        or not _is_at_hand(installed)
    ):
        return
    told = _told(at, route, _in_data(at, installed))
    if told["left"]:
        named = some_of(told["left"], _MOST_NAMED)
        seen = f"{count_of(len(told['left']), 'file')} in data folders changed here and by the releases: {named}"
        yield warn(_CHECK, seen, "they stay as they are here; compare them with those in the archive afterwards")
    if told["new"]:
        named = some_of(told["new"], _MOST_NAMED)
        yield ok(_CHECK, f"{count_of(len(told['new']), 'new file')} will come into data folders: {named}")
    if told["renewed"]:
        named = some_of(told["renewed"], _MOST_NAMED)
        count = count_of(len(told["renewed"]), "file")
        yield ok(_CHECK, f"{count} in data folders that nobody changed here will be renewed: {named}")


def _told(at: Circumstances, route: Route, earlier: Mapping[str, Content]) -> dict[str, dict[str, None]]:
    """The paths that are `new`, `renewed`, or changed on both sides and `left`."""
    told: dict[str, dict[str, None]] = {"new": {}, "renewed": {}, "left": {}}
    here: dict[str, str] = {}
    folders = set[str]()
    for rung in route.leg:
        now, known = _in_data(at, rung.release), folders_of(earlier)
        folders |= {one for one in folders_of(now) if one not in known or nolinks.is_folder(at.site.root / one)}
        for path, one in sorted(now.items()):
            had = earlier[path].what if path in earlier else ""
            if one.what == had or one.what.startswith("link:"):
                continue
            stands = here[path] if path in here else _digest_here(at, path)
            if comes(stands, had, is_folder_there=path.rpartition("/")[0] in folders):
                told["renewed" if stands and path not in told["new"] else "new"][path] = None
                here[path] = one.what
            elif stands not in ("", one.what):
                told["left"][path] = None
        earlier = now
    return told


def _is_at_hand(release: Release | None) -> bool:
    return release is not None and not release.is_built and release.archive.is_file()


def _in_data(at: Circumstances, release: Release | None) -> Mapping[str, Content]:
    if release is None or not _is_at_hand(release):
        return {}
    site, skip = at.site, with_what_is_below(at.site.skipped())
    keep = site.record.keep
    folders = [one for one in keep.data_paths if nolinks.is_folder(site.root / one)]  # a link is carried as it is
    apart = [*keep.logs, *keep.keys, *keep.licences, *keep.assets, *(one.file for one in keep.merged)]
    return {
        path: one
        for path, one in package_contents(release, site.state.memory).items()
        if within(path, folders) and not skip(path) and not within(path, apart)
    }


def _digest_here(at: Circumstances, path: str) -> str:
    """What the site has at a path: a digest, nothing, or what no release ships there."""
    location = at.site.root / path
    try:
        status = nolinks.status_or_none(location)
    except nolinks.LinkInTheWay:
        return "no file"
    if status is None:
        return ""
    return digest_file(location) if stat.S_ISREG(status.st_mode) else "no file"
