"""Shuts users out and lets them in again."""

from __future__ import annotations

import contextlib
import os
import re
import stat
import time
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder import nolinks, web
from yellow_ladder.climb.proving.closed import close_settings, open_settings
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.masking import masked_url
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import run_started, started

_COMMAND_WITHIN_S = 60.0
_ANSWER_WITHIN_S, _MOST_BYTES = 5.0, 100_000


def close(run: Run) -> Facts:
    """The work of closing the site, and of seeing that it is closed."""
    done = close_site(run.site, run.plan, must=True)
    seen = see_closed(run.site) if run.plan.serves else ""
    return {"summary": f"{done}; {seen}" if seen else done}


def see_closed(site: Site) -> str:
    """Ask the page that must say that the site is closed; raises AnswerNo where it goes on as if nothing were.

    A flag that nobody looks for closes nothing. Without such a page, nothing is seen, and nothing said.
    """
    page = site.record.maintenance.closed if site.record.maintenance else None
    if page is None:
        return ""
    url, end, said = masked_url(site.filled(page.url)), time.monotonic() + page.within_s, ""
    while True:
        try:
            status, text = _page(site.filled(page.url))
        except web.faults():
            return f"{url} does not answer any more"
        if status == page.status and re.search(page.pattern, text):
            return f"{url} says so ({status})"
        said = f"it answers with {status}"
        if time.monotonic() > end:
            break
        time.sleep(0.2)
    text = f"the site was closed, and {url} does not say so: {said}"
    remedy = "see that the application looks for what closes it, or correct [maintenance]; nothing was changed yet"
    raise AnswerNo(Problem("not-closed", text, remedy, url))


def _page(url: str) -> tuple[int, str]:
    """Status and beginning of a page, which may have no end."""
    end, body = time.monotonic() + _ANSWER_WITHIN_S, b""
    with web.client_of_page(url, _ANSWER_WITHIN_S) as client, client.stream("GET", url) as answer:
        for block in answer.iter_bytes():
            body += block
            if len(body) > _MOST_BYTES or time.monotonic() > end:
                break
        return answer.status_code, body.decode(errors="replace")


def close_part_way(run: Run) -> Facts:
    """The work of closing the site from wherever a climb has come to."""
    return {"summary": close_site(run.site, run.plan, part_way=True)}


def open_up(run: Run) -> Facts:
    """The work of opening the site."""
    return {"summary": open_site(run.site, run.plan)}


def close_site(site: Site, plan: Plan | None = None, *, part_way: bool = False, must: bool = False) -> str:
    """Shut users out; may be repeated. Returns what was done, for people.

    `part_way`: a kill may have left the folder of the flag on its way between two trees, where no flag can be. Settings
    that cannot be read are an error where the site `must` be closed; later they block no way.
    """
    maintenance = site.record.maintenance
    if maintenance is None:
        return "no [maintenance] in the site file"
    if site.flag is not None:
        if part_way and not nolinks.is_folder(site.flag.parent):
            return "the flag moves with its folder"
        _write_flag(site, site.flag)
        return f"flag {site.short(site.flag)}"
    if maintenance.setting is not None:
        done = f"{maintenance.setting.key} = {maintenance.setting.closed} in {maintenance.setting.file}"
        with _blocking(must=must) as troubles:
            close_settings(site.root, plan, site)
        return troubles[0] if troubles else done
    _run(site, maintenance.close, "close")
    return "closed by command"


@contextlib.contextmanager
def _blocking(*, must: bool) -> Iterator[list[str]]:
    """Gathers what keeps a settings file from being changed, unless it `must` be."""
    found: list[str] = []
    try:
        yield found
    except (LadderError, OSError) as fault:
        if must:
            raise
        found.append(f"left as it is: {fault.problems[0].message if isinstance(fault, LadderError) else fault}")


def close_tree(site: Site, tree: Path, plan: Plan | None = None) -> None:
    """Put the flag into a tree that is about to become root, so that it is never open for an instant."""
    with _blocking(must=False):
        close_settings(tree, plan, site)
    if site.flag is not None and site.flag.is_relative_to(site.root):
        target = tree / site.flag.relative_to(site.root)
        if nolinks.is_folder(target.parent):
            _write_flag(site, target)


def open_site(site: Site, plan: Plan | None = None) -> str:
    """Let users in; may be repeated."""
    maintenance = site.record.maintenance
    if maintenance is None:
        return "no [maintenance] in the site file"
    if site.flag is not None:
        if nolinks.is_there(site.flag):
            nolinks.remove_file(site.flag, missing_ok=True)
            nolinks.sync_folder(site.flag.parent)
        return "flag removed"
    if maintenance.setting is not None:
        open_settings(site.root, plan, site)  # what cannot be done is an error: a closed site is not called open
        return f"{maintenance.setting.key} is as it was in {maintenance.setting.file}"
    _run(site, maintenance.open, "open")
    return "opened by command"


def _write_flag(site: Site, flag: Path) -> None:
    """Write the flag so that the application can read it, owned like the folder it lies in.

    In place and not by a rename: that it is there is what counts, and a kill must leave no second file in the tree.
    """
    maintenance = site.record.maintenance
    if maintenance is None:
        return
    there = nolinks.status_or_none(flag)
    if there is not None and stat.S_ISREG(there.st_mode) and there.st_size:
        return
    if there is not None:
        # Empty, because a kill came before its text did; or something else under its name.
        nolinks.remove_all(flag)
    folder = nolinks.status_of(flag.parent)
    descriptor = nolinks.open_file(flag, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)
    with os.fdopen(descriptor, "w") as stream:
        os.fchmod(descriptor, 0o644)
        if os.geteuid() == 0:
            os.fchown(descriptor, folder.st_uid, folder.st_gid)
        stream.write(maintenance.message + "\n")
        stream.flush()
        os.fsync(descriptor)
    nolinks.sync_folder(flag.parent)


def _run(site: Site, argv: list[str], what: str) -> None:
    filled = [site.filled(word) for word in argv]
    as_user = site.record.maintenance.as_user if site.record.maintenance else ""
    folder = site.file.parent
    done = run_started(started(site, as_user, filled, folder), filled, folder, _COMMAND_WITHIN_S)
    if done.status != 0:
        text = f"maintenance.{what} ended with {done.status}: {done.output.strip()[-300:]}"
        raise AnswerNo(Problem("maintenance-failed", text, f"run it by hand: {' '.join(argv)}", f"maintenance.{what}"))
