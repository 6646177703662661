"""Writes a first site file from what was found. Every guess is marked, and no password is ever copied."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from textwrap import wrap

import tomlkit

from yellow_ladder import nolinks
from yellow_ladder.discovery.data import Guess
from yellow_ladder.discovery.databases import sqlite_url
from yellow_ladder.discovery.found import Discovery
from yellow_ladder.discovery.shapes import (
    LISTS_OF_LIBRARIES,
    Environment,
    applications_in,
    has_own_code,
    is_started_by_little,
)
from yellow_ladder.discovery.writing.databases import databases_text, printable, toml_text
from yellow_ladder.discovery.writing.services import in_braces, jobs_text, services_text
from yellow_ladder.files.entry import within
from yellow_ladder.words import some_of

_WIDEST = 78  # a terminal of 80 columns, and its margin
_LIST = re.compile(r"(\w+) = \[.*\]$")
_KEY = re.compile(r"\w+ = ")
_TOLD = re.compile(r"""(\w+ = "[^"\\]*") # (.*)$""")


def site_file_text(
    found: Discovery, *, releases: str = "releases", beside: Path | None = None
) -> tuple[str, list[str]]:
    """The site file as text, and what is left to fill in; to lie in the folder `beside`, or in the one above root."""
    root = found.root.name
    if beside is not None and beside != found.root.parent:
        root = str(found.root)
        found = replace(found, databases=[replace(one, url=_whole(one.url, found.root)) for one in found.databases])
    left: list[str] = []
    name = re.sub(r"[^A-Za-z0-9._-]", "-", found.root.name).strip("-._") or "site"
    lines = [
        "# Written by `yl init`. Lines marked `guess` were not said by anything: see whether they are right.",
        "# Every key is explained in docs/site-file.md.",
        "format = 1",
        f"name = {toml_text(name)}",
        f"product = {toml_text(found.product)}",
        f"root = {toml_text(root)}",
        *_account(found),
        *_placement(found, left),
        "",
        "[releases]",
        f"source = {toml_text(releases)} # guess: put release archives there, or name an index over HTTP",
        "",
        *_versions(found, left),
        *_environment(found),
        *databases_text(found, _user(found)[0], left),
        *_keep(found),
        *services_text(found, left),
        *jobs_text(found),
        "# How users are shut out while the site is upgraded: a flag file that the application looks for, or commands.",
        *[f"# {one.file} may look for it: see docs/site-file.md, Closed by a web server." for one in found.served],
        "# [maintenance]",
        '# flag = "path/to/the/flag"',
    ]
    left.insert(0, f"releases.source: the folder `{releases}` or a URL with the releases; `yl sheet` drafts sheets")
    left.append("[maintenance]: how users are shut out; without it they meet a stopped site")
    # Names of files, keys, links and processes may be anybody's: none of them may begin a line of its own.
    safe = [printable(line) if line.startswith("#") else line for line in lines]
    return "\n".join(short for line in safe for short in _in_lines(line)) + "\n", left


def _in_lines(line: str) -> list[str]:
    """A line as several that fit where people read it: a list an item to a line, a sentence wrapped."""
    mark = "# " if line.startswith("# ") else ""
    text = line.removeprefix(mark)
    if len(line) <= _WIDEST:
        return [line]
    items = _LIST.match(text)
    if items is not None:
        parts = [item.as_string() for item in tomlkit.parse(text)[items[1]]]
        return [f"{mark}{items[1]} = [", *(f"{mark}    {part}," for part in parts), f"{mark}]"]
    told = _TOLD.match(line)
    if told is not None:
        return [*_in_lines(f"# {told[2]}"), *_in_lines(told[1])]
    is_sentence = bool(mark) and not _KEY.match(text)  # a key that is proposed stands on one line
    return (
        [f"# {part}" for part in wrap(text, _WIDEST - 2, break_long_words=False, break_on_hyphens=False)]
        if is_sentence
        else [line]
    )


def _whole(url: str, root: Path) -> str:
    """The URL of a file's database with its whole path, for a site file that lies elsewhere."""
    path = url.removeprefix("sqlite:///")
    return url if path == url or path.startswith("/") else f"sqlite:///{root.parent / path}"


def _pattern(value: str) -> str:
    """A pattern as people write it, with its backslashes as they are."""
    is_plain = "'" in value or "\n" in value
    return toml_text(value) if is_plain else tomlkit.string(value, literal=True).as_string()


def _account(found: Discovery) -> list[str]:
    """The account that what releases bring is run as: that of the units, where they have one, or of what runs."""
    user, why = _user(found)
    return [f"run_as = {toml_text(user)} # {why}"] if user else []


def _user(found: Discovery) -> tuple[str, str]:
    """The one account of the application, and what says so; empty where there is none but root, or several."""
    users = {unit.user for unit in found.units if unit.user and unit.user != "root"}
    why = "the account of its unit" if users else "guess: it runs as this account"
    users = users or {one.account for one in found.running}
    return (users.pop(), why) if len(users) == 1 and "root" not in users else ("", "")


def _builder(found: Discovery) -> list[str]:
    """Who makes new releases: they belong to whom the one in use does."""
    if found.behind is None or not _user(found)[0]:
        return []
    with contextlib.suppress(OSError):
        if nolinks.status_of(found.root / found.behind.release).st_uid == 0:
            told = "# Releases belong to root, and no program of theirs can change them."
            return ["", told, "[build]", 'as_user = "root"']
    return []


def _placement(found: Discovery, left: list[str]) -> list[str]:
    """How releases come in: by a link that was found, among other products, or with the tree as a whole."""
    if found.behind is not None:
        told = f"the link {found.behind.link} leads to {found.behind.release}"
        return [
            f'placement = "pointer" # {printable(told)}',
            "",
            "[pointer]",
            f"link = {toml_text(found.behind.link)}",
            f"releases = {toml_text(found.behind.releases)}",
            *_builder(found),
        ]
    if found.environment is not None and found.environment.folder:
        left.append(_in_place(found, found.environment))
    elif found.environment is not None and _are_libraries_alone(found.root, found.environment):
        left.append(_libraries_in_place(found, found.environment))
    if found.others:
        what = ", ".join(found.others[:3])
        left.append(f"placement: {what} look like other products; with them in it, only the release's own files come")
        return [f'placement = "overlay" # guess: {printable(what)} look like other products']
    return []


def _in_place(found: Discovery, one: Environment) -> str:
    """How an environment that is upgraded in place becomes a release behind a link, with all its paths as they were."""
    has, version = _what_it_has(found, one)
    release = f"releases/{version}"
    return (
        f"placement: the environment {one.folder}{has} is upgraded in place, and a climb"
        f" makes each release in a folder of its own. While it is stopped: mkdir releases && mv {one.folder} {release}"
        f" && ln -s {release} {one.folder}; then yl init again. Programs keep their paths"
    )


def _are_libraries_alone(root: Path, one: Environment) -> bool:
    """Whether a folder has libraries and no program beside them, which would go with them as one tree; what merely
    starts one of them stays where it is.
    """
    return one.runtime == "node" and bool(one.asked_for) and (not has_own_code(root) or is_started_by_little(root))


def _libraries_in_place(found: Discovery, one: Environment) -> str:
    """The same of a folder of libraries beside settings and data: programs look for them beside the list of them."""
    has, version = _what_it_has(found, one)
    release = f"releases/{version}"
    lists = [name for name in LISTS_OF_LIBRARIES if nolinks.is_there(found.root / name)]
    return (
        f"placement: the libraries in node_modules{has} are upgraded in place, and a climb makes each release in a"
        f" folder of its own. While it is stopped: mkdir -p {release} && mv node_modules {' '.join(lists)} {release}/"
        f" && ln -s {release} current && ln -s current/node_modules current/package.json .; then yl init again."
        " Programs keep their paths"
    )


def _what_it_has(found: Discovery, one: Environment) -> tuple[str, str]:
    """The packages that may be the application, in words, and its version where there is one."""
    words = [word for process in found.running for word in process.words]
    named = applications_in(one, words)
    if one.runtime == "node" and len(named) > 1:  # what runs lies in the folder of its package
        named = [each for each in named if each == (found.product, found.version)] or named
    has = some_of((f"{name} {number}" for name, number in named), 3)
    return f" (it has {has})" if has else "", named[0][1] if len(named) == 1 else "VERSION"


def _environment(found: Discovery) -> list[str]:
    lines: list[str] = []
    of_units = list(dict.fromkeys(file for unit in found.units for file in unit.environment))
    files = of_units or [one.what for one in found.environment_files]
    one = found.environment
    if one is not None and found.behind is not None:
        lines += [
            "# What releases are built with.",
            "[[runtimes]]",
            f'command = [{toml_text(one.made_with)}, "--version"]',
            "",
        ]
    if one is not None and one.packages:
        words = ", ".join(map(toml_text, one.packages))
        lines += ["[runtime]", f"name = {toml_text(one.runtime)}", f'command = [{toml_text(one.program)}, "--version"]']
        lines += [f"packages = [{words}]", ""]
    elif found.runtime:
        lines += [
            "# guess: its code; releases say which versions they need",
            "[runtime]",
            f"name = {toml_text(found.runtime)}",
            f'command = [{toml_text(found.runtime)}, "--version"]',
            "",
        ]
    if files:
        why = "Named by the unit files" if of_units else "guess: all that it sets is set for the program that runs"
        lines += [f"# {why}; the values are shown nowhere.", "[environment]"]
        lines += [f"files = [{', '.join(map(toml_text, files))}]", ""]
    return lines


def _versions(found: Discovery, left: list[str]) -> list[str]:
    if found.behind is not None:
        left.append(
            '[[versions]] with of = "served": the page that tells the version, so that a missed restart is seen'
        )
        _ask_for_schema(found, left)
        told = f"# It leads to {found.version} now."
        return [told, "[[versions]]", 'of = "disk"', f"link = {toml_text(found.behind.link)}", ""]
    if not found.version_file:
        left.append("[[versions]]: no version file was found; say where the version stands")
        return ["# No version file was found.", *_asked_of_program(found), "[[versions]]", 'of = "disk"', *_GUESSED]
    lines = [
        f"# It says {found.version} now.",
        "[[versions]]",
        'of = "disk"',
        f"file = {toml_text(found.version_file)}",
    ]
    if found.version_pattern:
        lines.append(f"pattern = {_pattern(found.version_pattern)}")
    left.append('[[versions]] with of = "served": the page that tells the version, so that a missed restart is seen')
    _ask_for_schema(found, left)
    return [*lines, ""]


def _ask_for_schema(found: Discovery, left: list[str]) -> None:
    if found.databases:
        left.append('[[versions]] with of = "schema": the query that tells whether a migration has done its work')


_GUESSED = ['file = "VERSION" # guess', ""]


def _asked_of_program(found: Discovery) -> list[str]:
    """A program that is the application may tell its version; it is not run to see whether it does."""
    for one in found.running:
        program = Path(one.folder, one.words[0])
        if "/" in one.words[0] and program.is_relative_to(found.root):
            words = f'[{toml_text(in_braces(found, str(program)))}, "--version"]'
            return ["# The program that runs may tell it, if it knows this option:", f"# command = {words}"]
    return []


_A_LOG = re.compile(r"(?i)\.(log|out|err)$|(^|/)logs?/")


def _gone_without(found: Discovery) -> list[str]:
    data = [one.what for one in (*found.data, *found.logs)]
    removed = [one for one in found.removed if not within(one, data)]
    if not removed or found.behind is not None:
        return []
    return [
        "# guess, of the release and not here: take away the # where the site goes without on purpose",
        f"# left_out = [{', '.join(map(toml_text, removed))}]",
    ]


def _keep(found: Discovery) -> list[str]:
    lines = ["[keep]"]
    if found.settings:
        lines += _reasons(found.settings)
        for path, sample in found.shipped.items():
            lines.append(f"# guess: {printable(path)} was made from {printable(sample)}: a newer one is merged into it")
        files = [_settings_file(one.what, found.shipped.get(one.what, "")) for one in found.settings]
        lines.append(f"settings = [{', '.join(files)}]")
    logs = [unit.log for unit in found.units if unit.log and Path(unit.log).is_relative_to(found.root)]
    written = [Guess(str(Path(one).relative_to(found.root)), "a unit writes to it") for one in dict.fromkeys(logs)]
    others = dict.fromkeys(path for one in found.running for path in one.written)
    written += [Guess(path, "a running process writes to it") for path in others if _A_LOG.search(path)]
    written = list({one.what: one for one in reversed(written)}.values())[::-1]
    folders = [one.what for one in (*found.data, *found.logs)]
    inside = [*found.logs, *(one for one in written if not within(one.what, folders))]
    urls = {one.url for one in found.databases}
    for path in others:
        of_a_database = re.sub(r"-(?:wal|shm|journal)$", "", path)
        if (
            not _A_LOG.search(path)
            and not within(path, folders)
            and sqlite_url((found.root / of_a_database).resolve(), found.root) not in urls
        ):
            lines.append(f"# {printable(path)} is written to while it runs: is it data, or a database?")
    for one in found.apart:
        lines.append(f"# {printable(one.what)} lies elsewhere; {one.why}: is its folder one of data?")
    for key, guesses in (
        ("data", found.data),
        ("logs", inside),
        ("addons", found.addons),
        ("assets", found.assets),
        ("keys", found.keys),
        ("licences", found.licences),
    ):
        lines += _list(key, guesses)
    lines += _gone_without(found)
    if found.others:
        lines.append(f"shared_with = [{', '.join(map(toml_text, found.others))}] # guess")
    if found.caches:
        names = dict.fromkeys(("__pycache__", *(one.what for one in found.caches)))
        lines += _reasons(found.caches)
        lines.append(f"caches = [{', '.join(map(toml_text, names))}]")
    outside = [str(file) for unit in found.units for file in (unit.file, *unit.drop_ins)]
    if outside:
        lines.append(f"outside = [{', '.join(map(toml_text, outside))}]")
    return [*lines, ""]


def _settings_file(path: str, sample: str) -> str:
    shipped = f", shipped = {toml_text(sample)}" if sample else ""
    return f"{{ file = {toml_text(path)}{shipped} }}"


def _list(key: str, guesses: Sequence[Guess]) -> list[str]:
    if not guesses:
        return []
    return [*_reasons(guesses), f"{key} = [{', '.join(toml_text(one.what) for one in guesses)}]"]


def _reasons(guesses: Iterable[Guess]) -> list[str]:
    return [f"# guess: {printable(one.what)}: {one.why}" for one in guesses]
