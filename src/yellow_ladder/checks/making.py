"""Checks of what will be made and run: releases in folders of their own, runtimes, commands of vendor and site."""

from __future__ import annotations

import contextlib
import os
import re
import shlex
import stat
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.accounts import ROOT, account_for, account_name
from yellow_ladder.checks.records import Circumstances, Finding, ok, stop, warn
from yellow_ladder.errors import BadInput
from yellow_ladder.files.entry import describe
from yellow_ladder.files.exchange import same_file_system
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.release.commands import CommandKeys, Remade
from yellow_ladder.release.source import check_build_files
from yellow_ladder.route import Route, Rung
from yellow_ladder.site.pointer import folder_for
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import started, surroundings_of
from yellow_ladder.survey.machine import fitting_runtime
from yellow_ladder.words import count_of, some_of

_BRACES = re.compile(r"\{([a-z_.]+)\}")
_DEEPEST_LINK, _MOST_LOOKED_AT = 4, 20_000
_KNOWN = {"root", "site", "release", "version", "from_version"}
_KNOWN_TO_BUILDS = _KNOWN | {"source", "runtime"}


def pointer_leads(at: Circumstances) -> Iterator[Finding]:
    """Does the link lead to the release in use?"""
    pointing = at.site.record.pointing
    if pointing is None:
        return
    try:
        path = at.site.release_path
    except BadInput as fault:
        yield stop("pointer", fault.problems[0].message, fault.problems[0].remedy)
        return
    yield ok("pointer", f"{pointing.turns} leads to {path}")
    past = list(_past_the_link(at, at.site.root / path))
    if past:
        link, target = past[0]
        turned = f"{at.site.root / pointing.turns}{str(target)[len(str(at.site.root / path)) :]}"
        seen = f"{some_of((str(one) for one, _ in past), 3)} {'leads' if len(past) == 1 else 'lead'} to {path} itself"
        if pointing.file:
            remedy = "see that what the climb runs leads it to the new release: it stays where it is"
        else:
            remedy = f"lead it through {pointing.turns}: ln -sfn {shlex.quote(turned)} {shlex.quote(str(link))}"
        yield warn("pointer", f"{seen}, and will when the site is at another release", remedy)


def _past_the_link(at: Circumstances, release: Path) -> Iterator[tuple[Path, Path]]:
    """Links in data folders, near their tops, that lead to the release in use without the link that is turned over."""
    for folder in (*at.site.record.keep.data_paths, *at.site.record.keep.data_elsewhere):
        for link in _links_near(at.site.root / folder):
            with contextlib.suppress(OSError):  # it may be gone by now
                target = Path(os.path.normpath(link.parent / nolinks.target_of(link)))
                if target.is_relative_to(release) or target.is_relative_to(release.resolve()):
                    yield link, target


def _links_near(top: Path) -> Iterator[Path]:
    """The links in a folder, not far below it; of anything else, itself where it is one."""
    if not nolinks.is_folder(top):
        with contextlib.suppress(OSError):
            if stat.S_ISLNK(nolinks.status_of(top).st_mode):
                yield top
        return

    def is_deep(path: str) -> bool:
        return path[len(str(top)) :].count("/") > _DEEPEST_LINK

    for path, entry in islice(walk_tree(top, is_deep, str(top)), _MOST_LOOKED_AT):
        if stat.S_ISLNK(entry.status.st_mode):
            yield Path(path)


def releases_to_make(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Can every release be made where it will lie, and only there?"""
    pointing = at.site.record.pointing
    version = at.survey.version
    installed = at.releases.of(version) if version else None
    if at.site.record.placement == "overlay" and (installed is None or not installed.archive.is_file()):
        seen = f"nothing tells which files of {at.site.short(at.site.root)} are those of {version}"
        yield stop("releases", seen, f"put the archive of {version} into {at.releases.source}")
    for rung in route.leg:
        build = rung.release.sheet.archive.build
        if pointing is None:
            if rung.release.sheet.reach.passage:
                seen = f"{rung.to_version} is a passage, and is placed here on the way all the same"
                yield warn("releases", seen, 'with placement = "pointer" it would not be; users meet it neither way')
            if build is not None:
                seen = f"{rung.to_version} is made by commands at its place, and root is exchanged as a whole here"
                yield stop("releases", seen, 'give releases folders of their own: placement = "pointer"')
            continue
        yield from _passage_fits(rung, is_last=rung is route.leg[-1])
        path = folder_for(pointing, str(rung.to_version))
        if nolinks.is_there(at.site.root / path):
            seen = f"{path} is there already, and {rung.to_version} is to be made there"
            yield stop("releases", seen, "see what it is; rename or remove it")
        elif build is not None:
            yield from _build_fits(at, rung)
        required = at.site.record.releases.digests == "required"
        for file in check_build_files(rung.release):
            seen = f"{file}, which {rung.to_version} is made with, has no published digest to be held against"
            remedy = f"add its line to {rung.release.archive.parent}/SHA256SUMS"
            yield (stop if required else warn)("releases", seen, remedy)


def _passage_fits(rung: Rung, *, is_last: bool) -> Iterator[Finding]:
    """A passage is never in use: it cannot be where a climb ends, nor be started."""
    sheet = rung.release.sheet
    if not sheet.reach.passage:
        return
    if is_last:
        yield stop("releases", f"{rung.to_version} only carries the data on", "climb to a later release: see yl route")
    if any(one.by_start is not None for one in sheet.migrations):
        seen = (
            f"{rung.to_version} is a passage and migrates when it is started, and what is never placed is not started"
        )
        yield stop("releases", seen, "let it be an ordinary release; users do not meet it either")


def _build_fits(at: Circumstances, rung: Rung) -> Iterator[Finding]:
    build, wanted = rung.release.sheet.archive.build, rung.release.sheet.needs.runtime
    words = [word for argv in build.commands for word in argv] if build else []
    yield from _unknown_braces("releases", f"building {rung.to_version}", words, _KNOWN_TO_BUILDS)
    misfit = _builder_misfit(at.site)
    if misfit:
        yield stop(
            "releases",
            f"{rung.to_version} {misfit}",
            "name who builds (as_user of [build]), or whose new releases are to be (owner)",
        )
        return
    runtime = fitting_runtime(wanted, at.survey.runtimes)
    if not runtime and (wanted or any("{runtime}" in word for word in words)):
        have = ", ".join(f"{program} is {says or 'silent'}" for program, says in at.survey.runtimes) or "none is named"
        seen = f"{rung.to_version} is built with a runtime {wanted or 'of the site file'}, and {have}"
        yield stop("releases", seen, "install one that fits, and name it under [[runtimes]]")
    else:
        yield ok("releases", f"{rung.to_version} can be built{f' with {runtime}' if runtime else ''}")


def _builder_misfit(site: Site) -> str:
    """What keeps the account that builds from writing there: a new release belongs to whom the one in use does."""
    in_use = site.root / site.release_path
    try:
        account = account_for(site.record.builder, ["sh"], in_use.parent, folder_counts=True)
    except BadInput as unknown:
        return f"cannot be built: {unknown.problems[0].message}"
    wanted, _ = site.wanted_owner()
    owner = describe("", in_use).uid if wanted is None else wanted
    if account is None or account.uid == owner:
        return ""
    why = "" if site.record.builder else f" ({account.why})"
    whose = f"a folder that will belong to {account_name(owner)}, as the one in use does"
    return f"is built as {account.name}{why}, in {whose}"


def commands_fit(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Can every command of the site and of the releases be run, as far as can be told beforehand?"""
    site, count = at.site, 0
    for own in site.record.commands:
        count += 1
        yield from _fits(site, f"the command `{own.name}`", own, own.as_user)
    for rung in route.leg:
        sheet = rung.release.sheet
        named: list[tuple[str, CommandKeys]] = [(one.name, one) for one in sheet.commands]
        named += [(one.id, one.command) for one in sheet.migrations if one.command is not None]
        for name, keys in named:
            count += 1
            yield from _fits(site, f"`{name}` of {rung.to_version}", keys, site.record.run_as)
        for made in sheet.remade:
            count += sum(one is not None for one in (made.export_by, made.import_by))
            yield from _remaking_fits(at, made, str(rung.to_version))
        for one in sheet.migrations:
            if one.by_start is not None:
                yield from _start_fits(site, f"`{one.id}` of {rung.to_version}", one.by_start.service)
    yield from _as_root(at, route)
    if count:
        yield ok("commands", f"{count_of(count, 'command')} will be run, each shown in the plan")


def _as_root(at: Circumstances, route: Route) -> Iterator[Finding]:
    """Would what releases run have root's rights, where nobody has said so and the services have none?"""
    site = at.site
    own = [spec.name for spec in site.record.services if not spec.holds]  # a database server has an account of its own
    others = {about.account for name, about in at.survey.services.items() if name in own} - {"", ROOT}
    if os.geteuid() != 0 or site.record.run_as or not others:
        return
    named = [one.name for rung in route.leg for one in rung.release.sheet.commands]
    named += [one.id for rung in route.leg for one in rung.release.sheet.migrations if one.command is not None]
    for made in (one for rung in route.leg for one in rung.release.sheet.remade):
        by = {f"export {made.folder}": made.export_by, f"import {made.folder}": made.import_by}
        named += [name for name, keys in by.items() if keys is not None]
    if named and account_for("", ["sh"], site.root / site.release_path, folder_counts=True) is None:
        who = min(others)
        seen = f"{some_of([f'`{one}`' for one in named])} would run as root: files that it makes are not {who}'s"
        remedy = f'name the account: run_as = "{who}", or "root" where that is meant; [build] has an as_user of its own'
        yield warn("commands", seen, remedy)


def _remaking_fits(at: Circumstances, made: Remade, version: str) -> Iterator[Finding]:
    """Can a data folder be made anew? Nothing of it is known but by what exports and imports it."""
    site, more = at.site, frozenset({"folder", "exported", "before", "release_before"})
    servers = {spec.data_folder for spec in site.record.servers}
    for name, keys in (("export", made.export_by), ("import", made.import_by)):
        if keys is None:
            continue
        if keys.names("release_before") and site.record.pointing is None:
            seen = (
                f"the {name} of {made.folder} by {version} runs programs of the release before, which is gone by then"
            )
            yield stop("commands", seen, 'that needs releases in folders of their own: placement = "pointer"')
        # Begun anew in an empty folder, they may always be run again.
        again = keys.model_copy(update={"twice": True})
        yield from _fits(site, f"the {name} of {made.folder} by {version}", again, site.record.run_as, more)
    for one in made.same:
        words = [*one.before, *(one.after or ())]
        yield from _unknown_braces("commands", f"`{one.name}` of {version}", words, _KNOWN | more)
    whole = [path for path in site.record.keep.data_paths if made.folder == path]
    if not whole and site.record.placement == "exchange":
        seen = f"{version} makes {made.folder} anew, which is none of the data folders of the site file"
        yield stop("commands", seen, f"name {made.folder} in keep.data as the folder that it is")
    for spec, address in zip(site.record.databases, site.addresses(), strict=True):
        lies_in = address.is_file and address.path.is_relative_to(site.root / made.folder)
        if lies_in:
            seen = (
                f"the database {spec.name} lies in {made.folder}, which {version} makes anew: its rows are not compared"
            )
            remedy = "take it out of [[databases]], and let `same` of [[remade]] ask what must come through"
            yield stop("commands", seen, remedy)
    folder = site.root / made.folder
    if nolinks.is_there(folder) and not same_file_system(folder, site.root):
        seen = f"{made.folder} lies on another file system than root and cannot be set aside by a rename"
        yield stop("commands", seen, "mount its parent, and let it be an ordinary folder there")
    if not made.same and not made.copied and made.folder not in servers:
        seen = f"{version} makes {made.folder} anew, and nothing is asked before and after"
        yield warn(
            "commands", seen, "ask the publisher for questions (`same` of [[remade]]), or look yourself afterwards"
        )


def _fits(
    site: Site, who: str, keys: CommandKeys, as_user: str, more: frozenset[str] = frozenset()
) -> Iterator[Finding]:
    words = [*keys.run, keys.folder, *keys.environment.values()]
    yield from _unknown_braces("commands", who, words, _KNOWN | more)
    try:
        started(site, as_user, [site.filled(word) for word in keys.run], site.root).in_groups(keys.given_groups)
        variables = surroundings_of(site).variables
    except BadInput as fault:
        yield stop("commands", f"{who}: {fault.problems[0].message}", fault.problems[0].remedy)
        return
    for reply in keys.answers:
        if reply.say_variable and reply.say_variable not in variables:
            seen = f"{who} is to be answered with the variable {reply.say_variable}, which no environment file has"
            yield stop("commands", seen, "add it to a file of [environment]")
    if not keys.twice:
        seen = f"{who} may not be run twice: if it is cut off half-way, the climb goes back"
        yield warn("commands", seen, "where it may be run again, say twice = true")


def _start_fits(site: Site, who: str, service: str) -> Iterator[Finding]:
    names = [one.name for one in site.record.services if not one.holds]
    if not names or (service and service not in names):
        seen = f"{who} is done by starting {service or 'the release'}, and the site file has no such service"
        yield stop("commands", seen, "add it to [[services]]")


def _unknown_braces(check: str, who: str, words: list[str], known: set[str]) -> Iterator[Finding]:
    unknown = sorted({name for word in words for name in _BRACES.findall(word)} - known)
    if unknown:
        seen = f"{who} names {{{unknown[0]}}}, which nothing is put in for"
        yield warn(check, seen, f"known are: {', '.join(f'{{{name}}}' for name in sorted(known))}")
