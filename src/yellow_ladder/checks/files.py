"""Checks of the files: edits that would be lost, what nobody claims, data folders."""

from __future__ import annotations

import os
import shlex
from collections.abc import Iterator
from pathlib import Path

import psutil

from yellow_ladder import nolinks
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.files.entry import Kind, within
from yellow_ladder.files.mounts import mounts_below
from yellow_ladder.files.reading import read_regular
from yellow_ladder.services.looking import written_below
from yellow_ladder.survey.drift.packages import look_at_packages
from yellow_ladder.words import count_of, some_of

_MOST_NAMED = 12
# What installers of packages fill: nothing of a site's own.
LIBRARY_FOLDERS = ("node_modules", "vendor", "venv", ".venv", "env")


def data_folders(at: Circumstances) -> Iterator[Finding]:
    """Can every data folder be renamed into the new tree, where the tree is exchanged?"""
    is_renamed = at.site.record.placement == "exchange"
    mounts = mounts_below(at.site.root)
    yield from _data_elsewhere(at)
    for folder in (one for one in at.site.record.keep.data if not one.startswith("/")):
        path = at.site.root / folder
        if not os.path.lexists(path):
            yield warn("data folders", f"the data folder {folder} is not there", "correct keep.data, or make it")
        elif is_renamed and folder in mounts:
            seen = f"the data folder {path} is a mount point and cannot be renamed"
            yield stop("data folders", seen, "mount it outside root and leave a link in its place")
        elif path.is_symlink():
            seen = f"the data folder {folder} is a link: the link is carried, what it points to is not backed up"
            yield warn("data folders", seen, f'add to keep: outside = ["{path.resolve()}"]')
        elif is_renamed and path.lstat().st_dev != at.site.root.stat().st_dev:
            yield stop("data folders", f"{path} lies on another file system than root", "leave a link in its place")
    for one in mounts if is_renamed else ():
        if within(one, at.site.record.keep.data_paths):
            continue  # its folder is renamed with it, or is told above
        seen = f"{at.site.root / one} is mounted inside root, and would stay with the old tree when a new one comes"
        yield stop("data folders", seen, "mount it outside root and leave a link in its place")
    yield from _settings_among_data(at)
    how = "moved in place by renaming" if is_renamed else "which stay where they are"
    elsewhere = sum(one.files for one in at.survey.data_outside)
    beside = f"; {elsewhere:,} outside root, which stay where they are" if at.survey.data_outside else ""
    yield ok("data folders", f"{at.survey.files.data_files:,} files of the site's own, {how}{beside}")


def _settings_among_data(at: Circumstances) -> Iterator[Finding]:
    keep = at.site.record.keep
    for file in (one.file for one in keep.merged):
        for above in (one for one in keep.data if within(file, [one])):
            seen = f"{file} is settings, which releases may change, and lies in the data folder {above}, which none may"
            yield stop("data folders", seen, _apart(at, above, file))


def _data_elsewhere(at: Circumstances) -> Iterator[Finding]:
    for one in at.survey.data_outside:
        if one.trouble:
            seen = f"the data folder {one.path} cannot be looked at: {one.trouble}"
            level = stop if nolinks.is_there(one.path) else warn
            yield level("data folders", seen, "correct keep.data, or make it")


def _apart(at: Circumstances, folder: str, file: str) -> str:
    """What to write under keep.data in a folder's place, so that a file in it is none of the data."""
    if folder == file:
        return f"take {file} out of keep.data"
    named, above = list[str](), folder
    while above != file and len(named) <= _MOST_NAMED:
        below = file[len(above) + 1 :].split("/", 1)[0]
        try:
            names = [one for one in nolinks.names_in(at.site.root / above) if one != below]
        except OSError:
            break
        named += [f"{above}/{one}" for one in names if not at.site.skipped()(f"{above}/{one}")]
        above = f"{above}/{below}"
    kept = {one.file for one in at.site.record.keep.merged}
    named = [one for one in named if one not in kept]
    listed = ", ".join(f'"{one}"' for one in named[:_MOST_NAMED]) + (", …" if len(named) > _MOST_NAMED else "")
    return f"name what is data in it in its place: data = [{listed}]"


def restless_files(at: Circumstances) -> Iterator[Finding]:
    """Does anything change by itself that a climb takes for fixed: a log, a pid file, a socket, an unnamed database?"""
    site, check = at.site, "restless files"
    skip, told = site.skipped(), 0
    for path, holder in sorted(written_below(site.root).items()):
        if skip(path) or site.is_data(path) or path not in at.survey.manifest:
            continue
        told += 1
        seen = f"{path} is being written to by {holder.name} ({holder.pid}), and would be another when the site closes"
        remedy = "name it under keep.logs where it only grows, else its folder under keep.data, or a database as one"
        yield stop(check, seen, remedy)
    for path, entry in at.survey.manifest.items():
        if skip(path) or site.is_data(path):
            continue
        is_socket = entry.kind is Kind.OTHER and (site.root / path).is_socket()
        if is_socket or (path.endswith(".pid") and _is_pid_file(site.root / path)):
            told += 1
            what = "is a socket" if is_socket else "has the number of a running process"
            seen = f"{path} {what}, and will be gone when the application is stopped"
            yield stop(check, seen, f'name it: caches = ["{path.rpartition("/")[2]}"] in [keep], or its folder as data')
    if not told:
        yield ok(check, "nothing changes by itself beside data, logs and databases")


def _is_pid_file(path: Path) -> bool:
    try:
        text = read_regular(path, 32).strip()
    except OSError:
        return False
    return text.isdigit() and psutil.pid_exists(int(text))


def _edited_packages(at: Circumstances) -> Iterator[Finding]:
    """What the installer of a release's packages has written down tells of edits; nothing where there is none of it."""
    path = at.site.release_path
    found = look_at_packages(at.site.root / path)
    if found.edited:
        seen = f"{count_of(len(found.edited), 'file')} of installed packages edited here: {some_of(found.edited)}"
        remedy = f"do the same in the new release once it is made, where it is still wanted; {path} keeps yours"
        yield warn("core edits", seen, remedy)
    elif found.files:
        yield ok("core edits", f"{found.files:,} files of installed packages are as they were installed")


def core_edits(at: Circumstances) -> Iterator[Finding]:
    """Would an edit of one of the release's own files be lost?"""
    files, version = at.survey.files, at.survey.version
    installed = at.releases.of(version) if version else None
    is_made = at.site.record.placement == "pointer" and not files.release_known
    if not files.reference and (is_made or (installed is not None and installed.is_built)):
        seen_of_packages = list(_edited_packages(at))
        if seen_of_packages:
            yield from seen_of_packages
            return
    if not files.reference and installed is not None and installed.is_built:
        seen = f"{version} was made by commands, and nothing recorded what: edits of its files cannot be seen"
        yield warn(
            "core edits", seen, f"what was edited in {at.site.release_path} has to be done again after the climb"
        )
        return
    if not files.release_known and not files.reference:
        whose = f"the package of {version}" if version else "the installed release's package"
        seen = f"{whose} is not in the source: edits of its files cannot be seen"
        yield warn(
            "core edits",
            seen,
            f"put the archive of {version} into {at.releases.source}" if version else "see `versions`",
        )
        return
    edits = [*files.edited, *files.turned]
    if edits and at.site.record.keep.edited == "stop":
        seen = f"{count_of(len(edits), 'file')} of the release edited here: {some_of(edits)}"
        remedy = (
            "see them with `yl survey --detail`; list them under keep.assets to keep yours,"
            ' or set keep.edited = "replace" (the backup has them)'
        )
        yield stop("core edits", seen, remedy)
    elif edits:
        seen = f"{count_of(len(edits), 'file')} edited here, to be replaced: {some_of(edits)}"
        yield warn("core edits", seen, "they stay in the backup")
    else:
        yield ok("core edits", f"{files.unchanged:,} files are as released")
    if files.missing:
        seen = f"{count_of(len(files.missing), 'file')} of the release removed here: {some_of(files.missing)}"
        named = ", ".join(f'"{one}"' for one in files.missing[:_MOST_NAMED])
        remedy = f"the new release brings its own; where that was on purpose, name them: left_out = [{named}] in [keep]"
        yield warn("core edits", seen, remedy)
    if files.rights:
        told = [f"{path} {why}" for path, why in files.rights.items()]
        yield warn("core edits", some_of(told, 3), "see that it is meant; owners and modes stay as they are here")


def unreadable_files(at: Circumstances) -> Iterator[Finding]:
    """Could everything be read? What cannot be read cannot be backed up."""
    troubles = at.survey.tree.tree.troubles
    if troubles:
        yield stop("unreadable files", some_of(troubles, 3), "give this account the right to read, or run yl as root")


def set_id_files(at: Circumstances) -> Iterator[Finding]:
    """Are there programs among the data and add-ons that run with their owner's rights, whoever starts them?"""
    places = (*at.site.record.keep.data, *at.site.record.keep.addons)
    manifest = at.survey.manifest.items()
    found = [path for path, one in manifest if one.kind is Kind.FILE and one.mode & 0o6000 and within(path, places)]
    found += [f"{one.path}/{path}" for one in at.survey.data_outside for path in one.set_id]
    if found:
        remedy = f"see what put them there, then: chmod ug-s {shlex.quote(str(at.site.root / found[0]))}"
        yield warn("set-id files", f"{count_of(len(found), 'file')} with set-id bits: {some_of(found, 3)}", remedy)


def unclaimed_files(at: Circumstances) -> Iterator[Finding]:
    """Is there anything below root of which nobody has said what it is?"""
    files, rule = at.survey.files, at.site.record.keep.unclaimed
    if not files.unclaimed:
        yield ok("unclaimed files", "every file below root is the release's or named in the site file")
        return
    if not files.release_known and not files.reference:
        # Without the old package everything looks unclaimed; the new tree then has what the new release brings.
        seen = f"{len(files.unclaimed):,} files cannot be told apart from the release's own"
        what = f"the archive of {at.survey.version}" if at.survey.version else "the installed release's archive"
        remedy = f"put {what} into {at.releases.source}"
        yield stop("unclaimed files", seen, remedy)
        return
    if files.leftover:
        told = [f"{path} ({version})" for path, version in files.leftover.items()]
        seen = f"{count_of(len(told), 'file')} left over from older releases: {some_of(told)}"
        there = shlex.quote(at.site.short(at.site.root))
        remedy = f"remove them: cd {there} && rm -- {shlex.join(list(files.leftover)[:5])}"
        yield from _unclaimed(seen, remedy, rule)
    for folder, paths in files.foreign.items():
        seen = f"the folder {folder} ({count_of(len(paths), 'file')}) has nothing of this product: whose is it?"
        remedy = f'move it out of root, or name it: keep.data = [..., "{folder}"]'
        if folder in LIBRARY_FOLDERS:
            remedy = (
                f'where libraries are installed, each release needs its own: generated = ["{folder}"] under [files] of'
                " its sheet, and a command that makes it, which `yl sheet` drafts"
            )
        yield from _unclaimed(seen, remedy, rule)
    if files.added:
        count = count_of(len(files.added), "file")
        seen = f"{count} neither the release's nor named in the site file: {some_of(files.added)}"
        remedy = 'name them under [keep], or set keep.unclaimed = "carry" or "leave"'
        inside = at.site.release_path
        if inside and all(within(path, [inside]) for path in files.added):
            # They go with the folder of their release, and what is the site's own does not lie there.
            remedy = (
                f"if {at.survey.version} makes them by itself, its sheet says so (generated under [files]); otherwise "
                'move them out of its folder, or set keep.unclaimed = "leave"'
            )
        yield from _unclaimed(seen, remedy, rule)


def _unclaimed(seen: str, remedy: str, rule: str) -> Iterator[Finding]:
    if rule == "stop":
        yield stop("unclaimed files", seen, remedy)
    else:
        yield warn("unclaimed files", seen, "they are carried over" if rule == "carry" else "they stay in the backup")
