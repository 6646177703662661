"""Looks at processes of this machine: what one is, and who uses files below a folder."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psutil

from yellow_ladder.services.mentions import having_open, near, opened_by
from yellow_ladder.services.port import MARK, About, ServiceState
from yellow_ladder.site.site import Site
from yellow_ladder.words import stamp_of


def about_process(process: psutil.Process) -> About:
    """What one process and its children are."""
    try:
        family = [process, *process.children(recursive=True)]
        with process.oneshot():
            since = datetime.fromtimestamp(process.create_time(), UTC)
            account, line = process.username(), " ".join(process.cmdline())
    except psutil.NoSuchProcess:
        return About(ServiceState.STOPPED)
    except psutil.AccessDenied:
        return About(ServiceState.RUNNING, (process.pid,))
    ports = sorted({port for one in family for port in listening_ports(one)})
    pids = tuple(one.pid for one in family)
    return About(ServiceState.RUNNING, pids, stamp_of(since), account, tuple(ports), line)


def works_for_another(process: psutil.Process, site: Site) -> Path | None:
    """The root of the site that a process works for, where that is a copy of this one, or what this is a copy of; None
    where nothing says so. Pid files and names of units are copied along with a site.
    """
    root, places = site.root, list[Path]()
    for ask in (process.cwd, process.exe):
        with contextlib.suppress(psutil.Error, OSError):
            places.append(Path(ask()))
    if any(one.is_relative_to(root) for one in places):
        return None
    with contextlib.suppress(psutil.Error, OSError):
        marked = process.environ().get(MARK, "").partition("@")[2]
        if marked and Path(marked) != root and Path(marked).is_dir():
            return Path(marked)
    inside = os.path.relpath(root, site.file.parent)
    for one in (parent for place in places for parent in (place, *place.parents)):
        beside = Path(str(one).removesuffix(inside))
        is_named_alike = str(one).endswith(f"/{inside}") and beside != site.file.parent
        if is_named_alike and (beside / site.file.name).is_file():
            return one
    return None


def listening_ports(process: psutil.Process) -> list[int]:
    """TCP ports that a process listens on."""
    try:
        found = process.net_connections("tcp")
    except (psutil.NoSuchProcess, psutil.AccessDenied):
        return []
    return [port_of(one) for one in found if one.status == psutil.CONN_LISTEN]


def port_of(connection: Any) -> int:
    """The local port of a connection."""
    return int(connection.laddr.port)


def name_of(pid: int) -> str:
    """A process as people name it; 0 stands for one that this account may not look at."""
    try:
        return f"process {pid} ({psutil.Process(pid).name()})" if pid else "another account's process"
    except psutil.Error:
        return f"process {pid}"


@dataclass(frozen=True, slots=True)
class Holder:
    """A process that uses something below a folder, and how."""

    pid: int
    name: str
    account: str
    what: str


def holders_below(root: Path, leave_out: Collection[int]) -> Iterator[Holder]:
    """Processes with a working folder, program or open file below `root`, as far as this account may see."""
    below = f"{root}/"
    for process in near(root):
        if process.pid in leave_out:
            continue
        try:
            with process.oneshot():
                what = _use_of(process, str(root), below)
                if what:
                    yield Holder(process.pid, process.name(), process.username(), what)
        except (psutil.NoSuchProcess, psutil.AccessDenied, psutil.ZombieProcess, OSError):
            continue


def _use_of(process: psutil.Process, root: str, below: str) -> str:
    folder = process.cwd()
    if folder == root or folder.startswith(below):
        return f"works in {folder}"
    if process.exe().startswith(below):
        return f"runs {process.exe()}"
    opened = next((name for name in opened_by(process.pid) if name.startswith(below)), "")
    return f"has {opened} open" if opened else ""


def written_below(root: Path) -> dict[str, Holder]:
    """Files below `root` that a process has open to write to, by their path relative to it, with that process."""
    below, found = f"{root}/", dict[str, Holder]()
    for process in having_open(root):
        try:
            with process.oneshot():
                opened = [one for one in process.open_files() if one.path.startswith(below) and one.mode != "r"]
                for path in (one.path for one in opened):
                    holder = Holder(process.pid, process.name(), process.username(), f"writes to {path}")
                    found.setdefault(path[len(below) :], holder)
        except (psutil.NoSuchProcess, psutil.AccessDenied, psutil.ZombieProcess, OSError):
            continue
    return found


def users_of_file(path: Path) -> list[Holder]:
    """Processes that have one file open, as far as this account may see; this one, and what it started, are none."""
    found = []
    for process in having_open(path):
        try:
            if os.getpid() in (process.pid, process.ppid()):
                continue
            if str(path) in opened_by(process.pid):
                found.append(Holder(process.pid, process.name(), process.username(), f"has {path} open"))
        except (psutil.NoSuchProcess, psutil.AccessDenied, psutil.ZombieProcess, OSError):
            continue
    return found
