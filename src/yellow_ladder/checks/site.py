"""Checks of the site itself: versions that agree, a flag or work left over."""

from __future__ import annotations

import os
from collections.abc import Iterator

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import LadderError
from yellow_ladder.masking import masked_url
from yellow_ladder.settings.reading import read_settings_file
from yellow_ladder.site.maintenance_records import ClosingKey
from yellow_ladder.survey.versions import judge_versions


def _how_to_agree(says: str, wanted: str) -> str:
    is_longer = says.startswith(f"{wanted}.")
    return "restart the service, then check again" + (
        "; or take with `pattern` as much of its answer as the files tell" if is_longer else ""
    )


def probes_agree(at: Circumstances) -> Iterator[Finding]:
    """Do disk and service tell the same version?"""
    version = at.survey.version
    if version is None:
        trouble = "; ".join(w.trouble for w in at.survey.answers if w.of == "disk" and w.trouble)
        seen = f"the version on disk cannot be read: {trouble or 'no probe of the files is valid for it'}"
        yield stop("versions", seen, "correct [[versions]] in the site file")
    installed = at.releases.of(version) if version else None
    for one in judge_versions(at.survey.answers, str(version or ""), installed.sheet if installed else None):
        answer = one.answer
        if answer.of == "schema" and not answer.part:
            continue  # a question of its own, whether files and database fit each other
        if one.is_silent:
            yield warn("versions", f"the {answer.of} probe says nothing: {answer.trouble}", "see `yl survey`")
        elif not one.is_right:
            seen = f"{answer.where} says {answer.says}, the files say {one.wanted}"
            remedy = _how_to_agree(str(answer.says), str(one.wanted))
            if answer.part:
                seen = f"{answer.part} is at {answer.says}, and {version} comes with {one.wanted}"
                remedy = "bring the two together first"
            elif answer.of == "disk":
                remedy = "find out which is right: new files may have been copied over old ones"
            yield stop("versions", seen, remedy)
        else:
            yield ok("versions", f"{answer.where} says {answer.says}")
    for answer in at.survey.programs:
        if answer.trouble:
            yield warn("versions", f"{answer.part} does not tell its version: {answer.trouble}", "see `yl survey`")


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
    elif at.site.record.maintenance.setting is not None and _is_closed_by(at, at.site.record.maintenance.setting):
        by = at.site.record.maintenance.setting
        seen = f"the site is closed already: {by.key} = {by.closed} in {by.file}"
        yield stop("maintenance", seen, f"find out who closed it; when nobody needs it: set it to {by.open}")
    elif at.site.record.maintenance.closed is None:
        seen = "the site is open and can be closed, and nothing says that it is closed then"
        yield warn("maintenance", seen, 'name a page that users meet then: maintenance.closed = { url = "…" }')
    else:
        page = at.site.record.maintenance.closed
        yield ok(
            "maintenance", f"the site is open; closed, {masked_url(at.site.filled(page.url))} will answer {page.status}"
        )


def _is_closed_by(at: Circumstances, by: ClosingKey) -> bool:
    """Whether a settings key shuts users out now; a file that cannot be read is told by another check."""
    spec = next(one for one in at.site.record.keep.settings if one.file == by.file)
    try:
        return read_settings_file(at.site.root / by.file, spec.format, "", spec.encoding).get(by.key) == by.closed
    except (LadderError, OSError):
        return False


def left_over_work(at: Circumstances) -> Iterator[Finding]:
    """Is another run at work, or a climb not finished?"""
    busy = at.site.state.is_busy()
    if busy and f"(process {os.getpid()}," not in busy:
        yield stop("earlier work", f"{busy} is at work on this site", "wait until it ends; see `yl history`")
    if at.past.trouble:
        seen = f"what earlier climbs left cannot be read: {at.past.trouble}"
        yield stop("earlier work", seen, "run yl as the account that climbed, or put the original file back")
    elif at.past.unfinished:
        seen = f"the climb {at.past.unfinished} is not finished"
        yield stop("earlier work", seen, "go on with `yl climb --continue`, or go back with `yl descend`")
    elif not busy:
        yield ok("earlier work", "no other run is at work, and no climb is unfinished")


def climbs_of_others(at: Circumstances) -> Iterator[Finding]:
    """Is the state folder this site's alone, and did it come from nowhere in the middle of a climb?"""
    shared = next((one for one in at.past.others if one.state == at.site.state.path), None)
    torn = next((one for one in at.past.others if one.is_open), None)
    if shared is not None:
        seen = f"the state folder {at.site.state.path} is also that of {shared.root} ({shared.site_file})"
        yield stop("climbs of others", seen, f'give this site one of its own: state = ".ladder-{at.site.name}"')
    elif torn is not None:
        seen = f"the climb {torn.climb} of {torn.root} was under way when this was copied from there"
        yield warn("climbs of others", seen, "see whether its files are all of one release: yl survey")
    else:
        yield ok("climbs of others", f"{at.site.state.path} is no other site's")
