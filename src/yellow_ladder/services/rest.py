"""Whether a site is at rest: what still runs of it, whatever a stop command said."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Collection, Iterator
from itertools import chain
from pathlib import Path

import psutil

from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.services.looking import Holder
from yellow_ladder.services.mentions import listeners_on, near, opened_by
from yellow_ladder.services.port import MARK
from yellow_ladder.site.site import Site

_LOOK_EVERY_S = 0.2


def still_at_work(site: Site, leave_out: Collection[int] = ()) -> list[Holder]:
    """Processes that are the site's: started from here, run from below root, with its files open or in its ports.

    Whoever only looks, from a terminal, does not count. Not this process and those above it.
    """
    me = psutil.Process()
    apart = {me.pid, *(one.pid for one in me.parents()), *leave_out}
    ports = {port for spec in site.record.services if not spec.holds for port in spec.ports}
    listening = {pid: port for port, pids in listeners_on(ports).items() for pid in pids if pid not in apart}
    places = [site.root, *map(Path, site.data_outside)]
    asked = {one.pid: one for place in places for one in near(place) if one.pid not in apart}
    for pid in listening.keys() - asked.keys() - {0}:
        with contextlib.suppress(psutil.NoSuchProcess):
            asked[pid] = psutil.Process(pid)
    if asked:
        apart |= {one.pid for one in me.children(recursive=True)}
    found = []
    for process in asked.values():
        if process.pid in apart:
            continue
        try:
            with process.oneshot():
                what = _work_of(process, site, listening.get(process.pid, 0))
                if what and process.status() != psutil.STATUS_ZOMBIE:
                    found.append(Holder(process.pid, process.name(), process.username(), what))
        except (psutil.NoSuchProcess, psutil.AccessDenied, psutil.ZombieProcess, OSError):
            continue
    return found


def _work_of(process: psutil.Process, site: Site, port: int) -> str:
    if port:
        return f"listens on {port}"
    elsewhere = (sign for one in site.data_outside for sign in _uses(process, one))
    return next(chain(_signs(process, str(site.root)), elsewhere), "")


def _signs(process: psutil.Process, root: str) -> Iterator[str]:
    below = f"{root}/"
    if process.exe().startswith(below):
        yield f"runs {process.exe()}"
    named = next((word for word in process.cmdline() if word.startswith(below)), "")
    if named and not process.terminal():
        yield f"runs {named}"
    if process.environ().get(MARK, "").endswith(f"@{root}"):
        yield "was started as a service of the site"
    yield from _uses(process, root)


def _uses(process: psutil.Process, folder: str) -> Iterator[str]:
    """How a process uses a folder. Somebody at a terminal who reads along is no work; what is started there by hand is
    told by its program.
    """
    if process.terminal():
        return
    works_in, below = process.cwd(), f"{folder}/"
    if works_in == folder or works_in.startswith(below):
        yield f"works in {works_in}"
    opened = next((one for one in opened_by(process.pid) if one.startswith(below)), "")
    if opened:
        yield f"has {opened} open"


def wait_for_rest(site: Site, within_s: float, leave_out: Collection[int] = ()) -> None:
    """Return when nothing of the site is at work any more; raises AnswerNo with the process that is, and a remedy."""
    end = time.monotonic() + within_s
    while True:
        found = still_at_work(site, leave_out)
        if not found:
            return
        if time.monotonic() > end:
            first = found[0]
            more = f", and {len(found) - 1} more" if len(found) > 1 else ""
            who = f"process {first.pid} ({first.name}, {first.account})"
            text = f"the services were stopped, and {who} still {first.what}{more}"
            remedy = f"see what it is (ps -fp {first.pid}) and end it, then go on; or name it in [[services]]"
            raise AnswerNo(Problem("not-at-rest", text, remedy, str(first.pid)))
        time.sleep(_LOOK_EVERY_S)
