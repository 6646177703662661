"""Makes a release in a folder of its own while the site serves: unpacked, and built by its commands at that place.

A release that was killed half-made is made again from nothing. Until the link leads to it, it is no part of the site.
"""

from __future__ import annotations

import contextlib
import os
import re
import stat
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.placing.kinds import release_folder
from yellow_ladder.climb.placing.pointer import unpacked_of
from yellow_ladder.climb.planning.sources import keep_files_of, lent_sources
from yellow_ladder.climb.record.commands import mark_of, written_by_commands
from yellow_ladder.climb.record.plan import RungPlan, migrations_folder
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.commands import OUTPUT_NAME, saying
from yellow_ladder.commands.watched import LARGEST_OUTPUT_BYTES, Call, run_watched
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.events import Note, Progress, Unit
from yellow_ladder.files.archives.unpack import UNANNOUNCED_LIMIT_BYTES, Limits, unpack_archive
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.files.entry import Entry, Kind, Place, changed, describe, entry_from, place_of, within
from yellow_ladder.files.listing import Listing, in_order, spliced, write_listing
from yellow_ladder.files.manifest import count_files, take_manifest, walk_tree
from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.commands import CommandKeys
from yellow_ladder.release.sheet import Build
from yellow_ladder.services import services_of
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import started
from yellow_ladder.survey.probes import packages_of
from yellow_ladder.words import some_of

# Proxies, certificates and indexes by the names that common installers know.
_OF_THE_WAY_OUT = re.compile(
    r"(?i)^(?:https?|all|no)_proxy$|^(?:node_extra_ca_certs|ssl_cert_(?:file|dir)|pip_(?:cert|(?:extra_)?index_url|proxy))$"
    r"|^npm_config_(?:registry|cafile|\w*proxy)$|_(?:ca_bundle|index_url|registry)$"
)
_NO_WAY_OUT = re.compile(
    r"(?i)certificat|\bcert_|\bssl\b|\btls\b|proxy|\beconn|enotfound|eai_again|resolv|connect|network|unreachable"
    r"|timed?[ -]?out|no matching distribution"
)
_LAST_BYTES = 4096
_SCRIPTS = {".jar", ".js", ".mjs", ".php", ".pl", ".py", ".rb", ".sh"}


def build(rung: RungPlan) -> Work:
    """The work of making one release; what it holds is listed with digests when it is done."""

    def do(run: Run) -> Facts:
        folder = release_folder(run.plan, rung)
        _refuse_in_use(run, rung)
        nolinks.remove_all(folder)
        _unpack(run, rung, folder)
        made = rung.parsed.archive.build
        if made is not None:
            with lent_sources(run.plan.folder, rung.number) as sources:
                _run_commands(run, rung, made, folder, sources)
        _see_what_starts(run, rung, folder)
        beside = [folder, Path(rung.archive).parent]
        keep_files_of(rung.migrations, beside, _migrations_of(run, rung))
        run.tell(Progress(f"list {rung.to_version}", 0, None, Unit.FILES))
        skip = run.site.skipped()
        found = take_manifest(folder, lambda path: skip(f"{rung.folder}/{path}"))
        around = Listing.opened(run.plan.folder / f"around-{rung.number}.jsonl")
        runs = _in_use_before(run, rung) if rung.is_passage else _runs(rung.folder, folder, in_order(found))
        write_listing(run.plan.folder / f"expected-{rung.number}.jsonl", spliced(around.entries(), runs))
        os.sync()  # it must be whole on disk before the link leads to it
        facts = {"files": count_files(found), "folder": rung.folder}
        left_out = _left_out(run, folder)
        if left_out:
            text = f"{rung.to_version} has not what {run.plan.from_version} has besides: {some_of(left_out)}"
            run.listen(Note(f"{text}; to put it in: build.more in the site file", is_warning=True))
            facts |= {"left_out": left_out}
        return facts

    return do


def _see_what_starts(run: Run, rung: RungPlan, folder: Path) -> None:
    """Raise AnswerNo where a service is started with a program that the release in use has and this one has not, and
    that no command will bring: it would be found out with the site closed.
    """
    is_started = rung is run.plan.rungs[-1] or any(one.by_start is not None for one in rung.migrations)
    if rung.is_passage or not is_started:
        return
    coming = written_by_commands(run.plan, rung)
    for service, program in _started_with(run.site):
        if nolinks.is_there(folder / program) or within(f"{rung.folder}/{program}", coming):
            continue
        text = f"the service `{service}` is started with {program} of the release, which {rung.to_version} has not"
        remedy = "put it in with `more` of [build] in the site file, or correct [[services]]; then climb again"
        raise AnswerNo(Problem("program-left-out", text, remedy, str(folder / program)))


def _started_with(site: Site) -> Iterator[tuple[str, str]]:
    """Services, each with a program of the release in use that it is started with, by its path there."""
    pointing, old = site.record.pointing, site.root / site.release_path
    tops = [old] if pointing is None or pointing.file else [old, site.root / pointing.link]
    for service in services_of(site):
        folder, words = service.started_with()
        for program in dict.fromkeys(below for one in words for below in _below_one(folder / one, tops)):
            if _is_program(old / program):
                yield service.name, program


def _below_one(path: Path, tops: Sequence[Path]) -> list[str]:
    plain = Path(os.path.normpath(path))
    return [str(plain.relative_to(top)) for top in tops if plain.is_relative_to(top) and plain != top][:1]


def _is_program(path: Path) -> bool:
    status = nolinks.status_or_none(path)
    if status is None:
        return False
    return stat.S_ISLNK(status.st_mode) or (
        stat.S_ISREG(status.st_mode) and (bool(status.st_mode & 0o111) or path.suffix in _SCRIPTS)
    )


def _left_out(run: Run, folder: Path) -> list[str]:
    """Packages of the release in use that the new one has not, by the site's own listing; none where it has none."""
    runtime = run.site.record.runtime
    if runtime is None or not any("{release}" in word for word in runtime.packages):
        return []
    try:
        old, new = packages_of(run.site), packages_of(run.site, folder)
    except LadderError:
        return []  # the survey tells of the one; whatever keeps the other from being listed shows when it runs
    return [f"{name} {version}" for name, version in sorted(old.items()) if name not in new]


_Runs = list[tuple[Place, Iterable[Entry]]]


def _runs(path: str, folder: Path, found: Iterator[Entry]) -> _Runs:
    """The entries of a release's folder, as they go into the list of the whole tree."""
    top = changed(describe(path, folder), digest="")
    return [(place_of(path), [top]), (place_of(f"{path}/"), _below(path, found))]


def _in_use_before(run: Run, rung: RungPlan) -> _Runs:
    """The entries of the release that stays in use while data pass through another."""
    plan = run.plan
    earlier = [one for one in plan.rungs[: rung.number - 1] if not one.is_passage]
    listed = Listing.opened(plan.folder / "seen.jsonl")
    path = run.site.release_path
    if earlier:
        listed, path = Listing.opened(plan.folder / f"expected-{earlier[-1].number}.jsonl"), earlier[-1].folder
    top = listed.get(path)
    return [(place_of(path), [top] if top is not None else []), (place_of(f"{path}/"), listed.below(path))]


def _below(folder: str, entries: Iterator[Entry]) -> Iterator[Entry]:
    for one in entries:
        same_as = f"{folder}/{one.same_as}" if one.same_as else ""
        yield changed(one, path=f"{folder}/{one.path}", same_as=same_as)


def _refuse_in_use(run: Run, rung: RungPlan) -> None:
    """Nothing is removed and made anew that the site runs from."""
    with contextlib.suppress(BadInput):
        if run.site.release_path == rung.folder:
            text = f"the link leads to {rung.folder} already, which is not made yet"
            raise AnswerNo(Problem("pointer-astray", text, "let it lead to the release in use", rung.folder))


def _unpack(run: Run, rung: RungPlan, folder: Path) -> None:
    """Unpack the archive beside, where nobody else can reach it, and let it take its place; or make an empty folder."""
    archive, sheet, plan = Path(rung.archive), rung.parsed, run.plan
    there = unpacked_of(plan, rung)
    remove_entry(there)
    nolinks.make_folder(there, 0o700)
    if not archive.name.endswith(".toml"):
        if sha256_of(archive) != rung.sha256:
            text = f"{archive} is not what it was when the plan was made"
            raise AnswerNo(Problem("digest-differs", text, "fetch it again, and make a new plan", str(archive)))
        said = sheet.archive.unpacked_bytes
        limits = Limits(UNANNOUNCED_LIMIT_BYTES if said is None else said, announced=said is not None)
        unpack_archive(archive, there, limits, sheet.archive.inside)
    # What the archive has of them is taken here, where no other account can put something else in its place.
    remove_entry(_migrations_of(run, rung))
    keep_files_of(rung.migrations, [there], _migrations_of(run, rung), all_of_them=False)
    _give_rights(run, there)
    nolinks.make_folders(folder.parent)
    nolinks.rename(there, folder)
    nolinks.sync_folder(folder.parent)


def _migrations_of(run: Run, rung: RungPlan) -> Path:
    return migrations_folder(run.plan.folder, rung.number)


def _give_rights(run: Run, tree: Path) -> None:
    """The owner of the release in use, and no more rights than its folder gives; the folder itself like that one."""
    site = run.site
    model = describe("", site.root / site.release_path)
    uid, gid = site.wanted_owner()
    owner = (model.uid if uid is None else uid, model.gid if gid is None else gid)
    # Whoever may look into that folder may read what is in this one, and nobody else.
    bits = 0o700 | (0o050 if model.mode & 0o050 else 0) | (0o005 if model.mode & 0o005 else 0)
    for path, one in walk_tree(tree):
        entry = entry_from(path, one.status, one.location)
        nolinks.set_owner(tree / path, *owner)
        if entry.kind is not Kind.LINK:
            wanted = 0o755 if entry.kind is Kind.FOLDER else entry.mode
            nolinks.set_mode(tree / path, wanted & bits)
    nolinks.set_owner(tree, *owner)
    nolinks.set_mode(tree, model.mode)


def _run_commands(run: Run, rung: RungPlan, made: Build, folder: Path, sources: str) -> None:
    """The release's commands, and then what the site puts in besides; each must end well."""
    site = run.site
    values = {
        "release": str(folder), "version": rung.to_version, "from_version": rung.from_version,
        "source": sources, "runtime": rung.runtime,
    }  # fmt: skip
    wishes = site.record.build
    more = {name: site.filled(text, values) for name, text in {**made.environment, **wishes.environment}.items()}
    all_of_them = [*made.commands, *wishes.more]
    for number, words in enumerate(all_of_them, start=1):
        run.tell(Progress(f"command {number}", number, len(all_of_them), Unit.COMMANDS))
        call = _call(run, rung, number, tuple(site.filled(word, values) for word in words), more)
        try:
            run_watched(call, saying(call.name, run.listen), run.look_on)
        except AnswerNo as fault:
            hint = not_given(call.how.environment) if _said_of_the_way_out(call.output) else ""
            raise AnswerNo([replace(one, remedy=f"{one.remedy}{hint}") for one in fault.problems]) from fault


def _said_of_the_way_out(output: Path) -> bool:
    with contextlib.suppress(OSError):
        said = read_regular(output, LARGEST_OUTPUT_BYTES, cut=True)[-_LAST_BYTES:]
        return _NO_WAY_OUT.search(said.decode(errors="replace")) is not None
    return False


def not_given(environment: Mapping[str, str]) -> str:
    """What is set around this program for reaching an index of packages, and not around a command that failed."""
    names = sorted(name for name in os.environ if _OF_THE_WAY_OUT.search(name) and name not in environment)
    if not names:
        return ""
    words = f"{some_of(names, 3)} {'is' if len(names) == 1 else 'are'} set here and not given to commands that build"
    return f"; {words}: what they need goes into [build] environment"


def _call(run: Run, rung: RungPlan, number: int, argv: tuple[str, ...], more: Mapping[str, str]) -> Call:
    folder = release_folder(run.plan, rung)
    how = started(run.site, run.site.record.builder, argv, folder, folder_counts=True, more=more)
    name = f"build {rung.to_version}, command {number}"
    output = private_folder(run.plan.folder / OUTPUT_NAME) / f"{rung.number}-build-{number}.txt"
    made = rung.parsed.archive.build
    keys = CommandKeys(run=list(argv), twice=True)
    if made is not None:
        keys = keys.model_copy(update={"within_s": made.within_s, "silent_s": made.silent_s})
    return Call(name, argv, folder, how, keys, output, mark_of(run.plan))
