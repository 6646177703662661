"""Checks of the site itself."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.services import services_of
from yellow_ladder.settings.ini import IniSettings

_NAMED = 5


def witnesses_agree(at: Circumstances) -> Iterator[Finding]:
    """Do disk and service tell the same version?"""
    for witness in at.survey.witnesses:
        if witness.of == "schema":
            continue
        if witness.trouble:
            yield warn("versions", f"the {witness.of} probe says nothing: {witness.trouble}", "see `yl survey`")
        elif witness.says != str(at.route.present):
            seen = f"{witness.where} says {witness.says}, the files say {at.route.present}"
            yield stop("versions", seen, "restart the service, then check again")
        else:
            yield ok("versions", f"{witness.where} says {witness.says}")


def maintenance_flag(at: Circumstances) -> Iterator[Finding]:
    """Is the site open now, so that it was not left closed by something else?"""
    flag = at.site.flag
    if at.site.record.maintenance is None:
        yield warn("maintenance", "the site file has no [maintenance]: users meet a stopped site", "add it")
    elif flag is not None and flag.exists():
        remedy = f"find out who closed the site; when nobody needs it: rm {flag}"
        yield stop("maintenance", f"a maintenance flag is left over: {flag}", remedy)
    elif flag is not None and not os.access(flag.parent, os.W_OK):
        yield stop("maintenance", f"the maintenance flag {flag} cannot be written", "correct maintenance.flag")
    else:
        yield ok("maintenance", "the site is open and can be closed")


def services_controllable(at: Circumstances) -> Iterator[Finding]:
    """Can every service be started and stopped from here?"""
    for spec in at.site.record.services:
        pid_file = at.site.resolve(at.site.filled(spec.pid_file)) if spec.pid_file else None
        if pid_file and pid_file.is_relative_to(at.site.root) and not at.site.is_data(at.site.tree_path(pid_file)):
            seen = f"the pid file of `{spec.name}` lies inside root and in no data folder"
            yield stop("services", seen, "put it outside root")
    for service in services_of(at.site):
        trouble = service.trouble()
        if trouble:
            yield stop("services", f"the service `{service.name}` cannot be controlled: {trouble}", "correct it")
        else:
            yield ok("services", f"{service.name} is {at.survey.services.get(service.name, 'unknown')}")


def settings_readable(at: Circumstances) -> Iterator[Finding]:
    """Is every settings file there, and can it be changed with its comments kept?"""
    for spec in at.site.record.keep.settings:
        path = at.site.root / spec.file
        if not path.is_file():
            yield stop("settings", f"the settings file {path} is not there", "correct keep.settings in the site file")
            continue
        settings = IniSettings(path.read_bytes().decode(), str(path))
        yield ok("settings", f"{spec.file} has {len(settings.values())} keys and can be carried over")


def data_folders(at: Circumstances) -> Iterator[Finding]:
    """Can every data folder be renamed into the new tree?"""
    for folder in at.site.record.keep.data:
        path = at.site.root / folder
        if not os.path.lexists(path):
            yield warn("data folders", f"the data folder {folder} is not there", "correct keep.data, or make it")
        elif os.path.ismount(path):
            seen = f"the data folder {path} is a mount point and cannot be renamed"
            yield stop("data folders", seen, "mount it outside root and leave a link in its place")
        elif path.is_symlink():
            seen = f"the data folder {folder} is a link: the link is carried, what it points to is not backed up"
            yield warn("data folders", seen, f'add to keep: outside = ["{path.resolve()}"]')
        elif path.lstat().st_dev != at.site.root.stat().st_dev:
            yield stop("data folders", f"{path} lies on another file system than root", "leave a link in its place")
    files = at.survey.files
    yield ok("data folders", f"{files.data_files:,} files of the site's own, moved in place by renaming")


def core_edits(at: Circumstances) -> Iterator[Finding]:
    """Would an edit of one of the release's own files be lost?"""
    files = at.survey.files
    if not files.release_known:
        seen = f"the package of {at.route.present} is not in the source: edits of its files cannot be told"
        yield warn("core edits", seen, f"put the archive of {at.route.present} into {at.releases.source}")
    elif files.edited and at.site.record.keep.edited == "stop":
        seen = f"{_count(files.edited)} of the release edited here: {_some(files.edited)}"
        remedy = 'list them under keep.assets to keep yours, or set keep.edited = "replace" (the backup has them)'
        yield stop("core edits", seen, remedy)
    elif files.edited:
        seen = f"{_count(files.edited)} edited here, to be replaced: {_some(files.edited)}"
        yield warn("core edits", seen, "they stay in the backup")
    else:
        yield ok("core edits", f"{files.unchanged:,} files are as released")
    if files.missing:
        seen = f"{_count(files.missing)} of the release removed here: {_some(files.missing)}"
        yield warn("core edits", seen, "the new release brings its own; remove them again where that was on purpose")


def unclaimed_files(at: Circumstances) -> Iterator[Finding]:
    """Is there anything below root of which nobody has said what it is?"""
    files, rule = at.survey.files, at.site.record.keep.unclaimed
    if not files.unclaimed:
        yield ok("unclaimed files", "every file below root is the release's or named in the site file")
        return
    if not files.release_known:
        # Without the old package everything looks unclaimed; the new tree then has what the new release brings.
        seen = f"{len(files.unclaimed):,} files cannot be told from the release's own"
        remedy = f"put the archive of {at.route.present} into {at.releases.source}"
        yield stop("unclaimed files", seen, remedy)
        return
    seen = f"{_count(files.unclaimed)} neither the release's nor named in the site file: {_some(files.unclaimed)}"
    if rule == "stop":
        remedy = 'name them under [keep], or set keep.unclaimed = "carry" or "leave"'
        yield stop("unclaimed files", seen, remedy)
    else:
        yield warn("unclaimed files", seen, "they are carried over" if rule == "carry" else "they stay in the backup")


def _count(paths: Sequence[str]) -> str:
    return "1 file" if len(paths) == 1 else f"{len(paths):,} files"


def _some(paths: Sequence[str]) -> str:
    more = f" and {len(paths) - _NAMED} more" if len(paths) > _NAMED else ""
    return ", ".join(paths[:_NAMED]) + more
