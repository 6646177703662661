"""Checks of services, their ports and accounts, and of others who use the files."""

from __future__ import annotations

import os
import pwd
from collections.abc import Iterator
from functools import cache

import psutil

from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.files.entry import Entry, Kind
from yellow_ladder.services import About, ServiceState, services_of
from yellow_ladder.services.looking import holders_below, listeners_on, name_of
from yellow_ladder.words import some_of


def services_controllable(at: Circumstances) -> Iterator[Finding]:
    """Can every service be started, stopped and asked from here?"""
    for spec in at.site.record.services:
        pid_file = at.site.resolve(at.site.filled(spec.pid_file)) if spec.pid_file else None
        if pid_file and pid_file.is_relative_to(at.site.root) and not at.site.is_data(at.site.tree_path(pid_file)):
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
        else:
            account = f" as {about.account}" if about.account else ""
            yield ok("services", f"{service.name} is {about.state}{account}")


def ports_right(at: Circumstances) -> Iterator[Finding]:
    """Is every port held by its service while it runs, and by nobody while it does not?"""
    for spec in at.site.record.services:
        about = at.survey.services.get(spec.name, About(ServiceState.UNKNOWN))
        for port in spec.ports:
            holders = listeners_on(port)
            # Only root sees whose every port is: while the service runs, an unseen holder is most likely it.
            others = [pid for pid in holders if pid not in about.pids and (pid or not about.pids)]
            if others and about.pids:
                seen = f"port {port} of `{spec.name}` is held by {name_of(others[0])}"
                yield stop("ports", seen, f"see who it is: ss -ltnp 'sport = :{port}'", "the service itself")
            elif others and about.state is ServiceState.STOPPED:
                seen = f"`{spec.name}` is stopped and its port {port} is held by {name_of(others[0])}"
                yield stop("ports", seen, f"see who it is: ss -ltnp 'sport = :{port}'", "a free port")
            elif about.pids and not holders:
                yield warn("ports", f"`{spec.name}` runs and does not listen on {port}", "correct services.ports")
            else:
                yield ok("ports", f"{port} is {'held by ' + spec.name if holders else 'free'}")


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
        groups = set(os.getgrouplist(account.pw_name, account.pw_gid))
        closed = [p for p, e in at.survey.manifest.items() if at.site.is_data(p) and not _may_write(e, account, groups)]
        if closed:
            seen = f"`{spec.name}` runs as {name} and cannot write {len(closed):,} of its data: {some_of(closed, 3)}"
            yield warn("accounts", seen, f"chown -R {name} {at.site.root / closed[0]}")
        else:
            fine.append(f"{spec.name} as {name}")
    if fine and not unknown:
        yield ok("accounts", f"data can be written by {some_of(fine)}")


@cache
def _account_of(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return ""


def _may_write(entry: Entry, account: pwd.struct_passwd, groups: set[int]) -> bool:
    if entry.kind is Kind.LINK:
        return True
    if entry.uid == account.pw_uid:
        return bool(entry.mode & 0o200)
    return bool(entry.mode & 0o020) if entry.gid in groups else bool(entry.mode & 0o002)


def others_in_the_files(at: Circumstances) -> Iterator[Finding]:
    """Does anybody but the services use files below root: a shell, a job, an editor?"""
    ours = {pid for about in at.survey.services.values() for pid in about.pids} | {os.getpid()}
    ours |= {parent.pid for parent in psutil.Process().parents()}
    unseen = [spec.name for spec in at.site.record.services if not at.survey.services[spec.name].pids]
    running = [name for name in unseen if at.survey.services[name].state is ServiceState.RUNNING]
    found = [f"{one.name} ({one.pid}, {one.account}) {one.what}" for one in holders_below(at.site.root, ours)]
    if found and not running:
        remedy = "end it, or let it come to an end, before the site closes"
        yield warn("others at work", some_of(found, 3), remedy)
    elif not found:
        seen = "nobody else uses the files" if os.geteuid() == 0 else "nobody else is seen to use the files"
        yield ok("others at work", seen)
