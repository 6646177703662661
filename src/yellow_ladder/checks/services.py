"""Checks of services, their ports and accounts, and of others who use the files."""

from __future__ import annotations

import contextlib
import grp
import os
import pwd
import shlex
from collections.abc import Collection, Iterator, Sequence
from functools import cache
from pathlib import Path
from urllib.parse import urlsplit

import psutil

from yellow_ladder.accounts import mode_lets_write
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.files.entry import Entry, Kind, within
from yellow_ladder.masking import masked_line
from yellow_ladder.services import About, ProcessService, Service, ServiceState, services_of
from yellow_ladder.services.commands import CommandService
from yellow_ladder.services.cron import folders_of, pattern_of
from yellow_ladder.services.looking import holders_below, name_of, works_for_another
from yellow_ladder.services.mentions import listeners_on
from yellow_ladder.services.timetables import Job, jobs_of
from yellow_ladder.site.pointer import parent_of
from yellow_ladder.site.service_records import CronRecord, ProcessRecord, ServiceRecord, StartedRecord, UnitRecord
from yellow_ladder.words import count_of, some_of

_MOST_JOBS, _LONGEST_LINE = 5, 120
_HERE = ("localhost", "127.0.0.1", "::1")


def services_controllable(at: Circumstances) -> Iterator[Finding]:
    """Can every service be started, stopped and asked from here?"""
    pointing = at.site.record.pointing  # with a pointer, all stays where it lies but for the releases themselves
    moving = [parent_of(pointing), pointing.turns] if pointing is not None else None
    for spec in at.site.record.services:
        pid_file = at.site.resolve(at.site.filled(spec.pid_file)) if spec.pid_file else None
        stays = [*at.site.record.keep.data_paths, *(one.data_folder for one in at.site.record.servers)]
        if not pid_file or not pid_file.is_relative_to(at.site.root) or within(at.site.tree_path(pid_file), stays):
            continue
        if moving is None or within(at.site.tree_path(pid_file), moving):
            seen = f"the pid file of `{spec.name}` lies inside root and in no data folder"
            yield stop("services", seen, "put it outside root")
    for service in services_of(at.site):
        about = at.survey.services.get(service.name, About(ServiceState.UNKNOWN))
        trouble = service.trouble()
        if trouble:
            yield stop(
                "services",
                f"the service `{service.name}` cannot be controlled: {trouble}",
                "put that right, or correct [[services]]",
            )
        elif about.state is ServiceState.UNKNOWN:
            yield stop("services", f"the service `{service.name}` does not answer: {about.command_line}", "correct it")
        elif other := _of_another_site(at, about):
            seen = f"the service `{service.name}` runs for {other}, and this site is {at.site.root}"
            remedy = "this is a copy: name a unit, commands or a pid file of its own, or take it out of [[services]]"
            yield stop("services", seen, remedy)
        elif denied := _denied(service, about):
            seen = f"the service `{service.name}` is said to be stopped: {denied}"
            yield stop("services", seen, 'where it tells that otherwise: running = "a pattern of what it prints"')
        else:
            account = f" as {about.account}" if about.account else ""
            yield ok("services", f"{service.name} is {about.state}{account}")


def _of_another_site(at: Circumstances, about: About) -> Path | None:
    """For which other site the processes of a service work, of which this one is a copy."""
    for pid in about.pids:
        with contextlib.suppress(psutil.NoSuchProcess):
            other = works_for_another(psutil.Process(pid), at.site)
            if other is not None:
                return other
    return None


def variables_kept(at: Circumstances) -> Iterator[Finding]:
    """Will every process that is started from here have the variables that it has now?

    One that lacks what it needs ends at once, after a climb and after going back.
    """
    places = [str(at.site.root), *at.site.record.keep.data_elsewhere]
    for service in services_of(at.site):
        if not isinstance(service, ProcessService):
            continue
        lacking = service.left_out()
        own = [name for name, value in lacking.items() if within(value, places)]
        # What is here as well is most likely of the machine, or of whoever started both.
        others = [name for name, value in lacking.items() if name not in own and os.environ.get(name) != value]
        if not own and not others:
            continue
        seen = f"`{service.name}` runs with variables that it would not be started with: {some_of([*own, *others])}"
        remedy = "name those that it needs in environment of its [[services]], secrets in a file of [environment]"
        yield warn("variables", seen, remedy)


def _denied(service: Service, about: About) -> str:
    """What speaks against a service's being stopped: commands may tell that by other words than how they end."""
    if about.state is not ServiceState.STOPPED or not isinstance(service, CommandService):
        return ""
    return service.denied()


def ports_right(at: Circumstances) -> Iterator[Finding]:
    """Is every port held by its service while it runs, and by nobody while it does not?"""
    listening = listeners_on({port for spec in at.site.record.services for port in spec.ports})
    for spec in at.site.record.services:
        about = at.survey.services.get(spec.name, About(ServiceState.UNKNOWN))
        for port in spec.ports:
            holders = listening.get(port, [])
            # Only root sees whose every port is: while the service runs, an unseen holder is most likely it.
            others = [pid for pid in holders if pid not in about.pids and (pid or not about.pids)]
            if others and about.pids:
                seen = f"port {port} of `{spec.name}` is held by {name_of(others[0])}"
                yield stop("ports", seen, f"see who it is: ss -ltnp 'sport = :{port}'", "the service itself")
            elif others and about.state is ServiceState.STOPPED:
                seen = f"`{spec.name}` is stopped and its port {port} is held by {name_of(others[0])}"
                look = f"see who it is: ss -ltnp 'sport = :{port}'"
                yield stop("ports", seen, _taken_over(at, spec, others) or look, "a free port")
            elif about.pids and not holders:
                yield warn("ports", f"`{spec.name}` runs and does not listen on {port}", "correct services.ports")
            else:
                yield ok("ports", f"{port} is {'held by ' + spec.name if holders else 'free'}")
        yield from _asked_port_is_free(at, spec, about)


def _asked_port_is_free(at: Circumstances, spec: ServiceRecord, about: About) -> Iterator[Finding]:
    """Is a process that is to be started from here already there, started by somebody else?"""
    if not isinstance(spec, StartedRecord) or spec.ready is None or about.state is not ServiceState.STOPPED:
        return
    asked = spec.ready.port or _port_here(at.site.filled(spec.ready.url))
    holders = listeners_on({asked}).get(asked, []) if asked is not None and asked not in spec.ports else []
    if holders:
        seen = f"`{spec.name}` is stopped, and {name_of(holders[0])} listens where it is asked whether it is ready"
        taken_over = _taken_over(at, spec, holders)
        remedy = "end that, if it is the same program started otherwise; or say in [[services]] how it is started"
        # Whoever is at work in root when the services are stopped would end the climb there.
        yield (stop if taken_over else warn)("ports", f"{seen} (port {asked})", taken_over or remedy)


def _taken_over(at: Circumstances, spec: ServiceRecord, pids: Sequence[int]) -> str:
    """How a process that works below root, and was started otherwise, becomes a service; nothing where none does.

    Children of a server listen with it, and would be started anew by it: it is the one that is named.
    """
    below = {one.pid for one in holders_below(at.site.root, set())}
    known = [pid for pid in pids if pid in below]
    if not isinstance(spec, ProcessRecord) or not known:
        return ""
    pid = _server_of(known[0], below)
    number = at.site.resolve(at.site.filled(spec.pid_file))
    place, file = shlex.quote(str(number.parent)), shlex.quote(str(number))
    told = f"if it is that program, started otherwise, say so: mkdir -p {place}; echo {pid} > {file}"
    return f"{told}; else end it, or say in [[services]] how it is started"


def _server_of(pid: int, below: Collection[int]) -> int:
    """The process that a child of the same program descends from, which works below root as well: neither a shell that
    has started it is that, nor who supervises it with the same interpreter.
    """
    with contextlib.suppress(psutil.Error):
        process = psutil.Process(pid)
        while (parent := process.parent()) and parent.pid in below and parent.exe() == process.exe():
            process = parent
        return process.pid
    return pid


def accounts_fit(at: Circumstances) -> Iterator[Finding]:
    """May the accounts of the services write where data is, and does this machine know the files' owners?"""
    unknown = sorted({one.uid for one in at.survey.manifest.values() if not _account_of(one.uid)})
    if unknown:
        seen = f"files belong to accounts that this machine does not know: {some_of(map(str, unknown))}"
        yield warn("accounts", seen, "see whom they should belong to; they stay as they are")
    fine = []
    for spec in at.site.record.services:
        name = spec.wanted_account or at.survey.services.get(spec.name, About(ServiceState.UNKNOWN)).account
        try:
            account = pwd.getpwnam(name) if name else None
        except KeyError:
            continue  # told by the check of the services
        if account is None or account.pw_uid == 0:
            continue
        groups = _groups_of(spec, account)
        closed = [p for p, e in at.survey.manifest.items() if at.site.is_data(p) and not _may_write(e, account, groups)]
        if closed:
            seen = f"`{spec.name}` runs as {name} and cannot write {len(closed):,} of its data: {some_of(closed, 3)}"
            yield warn("accounts", seen, f"where it has to write there: chown -R {name} {at.site.root / closed[0]}")
        else:
            fine.append(f"{spec.name} as {name}")
    if fine and not unknown:
        yield ok("accounts", f"data can be written by {some_of(fine)}")


def _groups_of(spec: ServiceRecord, account: pwd.struct_passwd) -> set[int]:
    groups = set(os.getgrouplist(account.pw_name, account.pw_gid))
    for name in spec.groups if isinstance(spec, StartedRecord) else ():
        with contextlib.suppress(KeyError):  # one that is not known is told by the check of the services
            groups.add(grp.getgrnam(name).gr_gid)
    return groups


@cache
def _account_of(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return ""


def _may_write(entry: Entry, account: pwd.struct_passwd, groups: set[int]) -> bool:
    owner = (entry.uid, entry.gid)
    return entry.kind is Kind.LINK or mode_lets_write(entry.mode, owner, account.pw_uid, groups)


def _port_here(url: str) -> int | None:
    with contextlib.suppress(ValueError):
        asked = urlsplit(url)
        return asked.port if asked.hostname in _HERE else None
    return None


def timed_jobs(at: Circumstances) -> Iterator[Finding]:
    """Does cron or a timer start something of the site while it is closed?"""
    found = jobs_of(folders_of(at.site))
    left = [job for job in found if not _is_stopped_with(at, job)]
    for job in left[:_MOST_JOBS]:
        where = f"{job.file}, line {job.line}" if job.line else str(job.file)
        whose = f" for {job.account}" if job.account else ""
        kind = "a timer starts" if job.is_timer else "cron starts"
        if job.is_timer:
            user = f', user = "{job.account}"' if job.account else ""
            remedy = f'name it: [[services]] kind = "unit", unit = "{job.file.name}"{user}'
        elif job.line:
            remedy = f'name it: [[services]] kind = "cron", crontab = "{job.file}"; its lines are held back then'
        else:
            remedy = "take its right to be executed away for that time, or move it to a crontab and name that"
        seen = f"{kind} `{masked_line(job.says)[:_LONGEST_LINE]}`{whose} ({where}), while the site is closed too"
        yield warn("timed jobs", seen, remedy)
    if len(left) > _MOST_JOBS:
        yield warn("timed jobs", f"and {len(left) - _MOST_JOBS:,} more of that kind", "name those too")
    if found and not left:
        yield ok("timed jobs", f"{count_of(len(found), 'job')} of cron and timers, stopped with the site")
    elif not found and os.geteuid() == 0:
        yield ok("timed jobs", "cron and timers start nothing of the site that is not named here")


def _is_stopped_with(at: Circumstances, job: Job) -> bool:
    for spec in at.site.record.services:
        if isinstance(spec, UnitRecord) and job.is_timer and (spec.unit, spec.user) == (job.file.name, job.account):
            return True
        is_fit = isinstance(spec, CronRecord) and job.line and pattern_of(at.site, spec).search(job.says)
        if isinstance(spec, CronRecord) and is_fit and at.site.resolve(at.site.filled(spec.crontab)) == job.file:
            return True
    return False


def others_in_the_files(at: Circumstances) -> Iterator[Finding]:
    """Does anybody but the services use files below root: a shell, a job, an editor?"""
    ours = {pid for about in at.survey.services.values() for pid in about.pids} | {os.getpid()}
    ours |= {parent.pid for parent in psutil.Process().parents()}
    processes = [spec.name for spec in at.site.record.services if not isinstance(spec, CronRecord)]
    unseen = [name for name in processes if not at.survey.services[name].pids]
    running = [name for name in unseen if at.survey.services[name].state is ServiceState.RUNNING]
    holders = {
        one.pid: one for place in (*map(Path, at.site.data_outside), at.site.root) for one in holders_below(place, ours)
    }
    found = [f"{one.name} ({one.pid}, {one.account}) {one.what}" for one in holders.values()]
    if found and not running:
        remedy = "end it, or let it come to an end, before the site closes"
        yield warn("others at work", some_of(found, 3), remedy)
    elif not found:
        seen = "nobody else uses the files" if os.geteuid() == 0 else "nobody else is seen to use the files"
        yield ok("others at work", seen)
