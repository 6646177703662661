"""Writes the databases of a first site file."""

from __future__ import annotations

import contextlib
import pwd
import re
from collections.abc import Sequence
from urllib.parse import unquote, urlsplit

import tomlkit

from yellow_ladder.discovery.found import Discovery

_SECRET_FILE = "database.password"  # noqa: S105  a name


def toml_text(value: str) -> str:
    """A text as TOML has it."""
    return tomlkit.string(value).as_string()


def databases_text(found: Discovery, account: str, left: list[str]) -> list[str]:
    """The databases as lines, and in `left` what is to be done about them; `account`: whom the application runs as."""
    lines: list[str] = []
    if not found.databases and not found.servers and not found.as_files:
        where = "".join(f"; {one}" for one in found.connected)
        unless = "" if found.connected else ", unless the application keeps files alone"
        left.append(f"[[databases]]: none was found{where}; say where one is{unless}")
    for folder, count in found.as_files.items():
        where = f"{folder or found.root.name} has {count:,} SQLite files"
        lines.append(f"# {where}, most likely one for each user or thing: they are kept as files.")
        left.append(f"[[databases]]: {where}, which are kept as files: name those whose rows are to be compared")
    names = _names_of([one.url for one in found.databases])
    several = sum(bool(one.password_key) for one in found.databases) > 1
    for number, one in enumerate(found.databases):
        mark = "guess: " if one.is_guess else ""
        table = ["[[databases]]", f"url = {toml_text(one.url)}"]
        if number:
            table.insert(1, f"name = {toml_text(names[number])}")
        lines.append(f"# {mark}{one.where}" + (f"; {one.doubt}" if one.doubt else ""))
        if one.doubt:
            left.append(f"the engine of {one.url}: {one.doubt}")
        if one.password_key:
            lines.append(f"# Its password stands there too (key {one.password_key}) and was not copied.")
            # Each its own: that two have the same is nowhere said.
            secret = f"{names[number]}.password" if several else _SECRET_FILE
            table.append(f"password_file = {toml_text(secret)}")
            left.append(f"the password of {one.url}: write it into {secret} beside this file, and chmod 600 it")
        elif "?socket=" in one.url and (who := _of_the_machine(one.url, account)):
            lines.append("# guess: no password stands there, so that the server goes by the account at its socket.")
            table.append(f"as_user = {toml_text(who)}")
        lines += [*table, ""]
    return lines


def _of_the_machine(url: str, account: str) -> str:
    """The account of this machine that the server knows by the name in the URL, else the application's own."""
    user = unquote(urlsplit(url).username or "")
    with contextlib.suppress(KeyError, ValueError):
        return pwd.getpwnam(user or account).pw_name
    return account


def _names_of(urls: Sequence[str]) -> list[str]:
    """A name for each database from its own, or its file's; the first is `main` without one."""
    names = ["main"]
    for number, url in enumerate(urls[1:], start=2):
        last = unquote(url.split("?")[0]).rpartition("/")[2].partition(".")[0].lower()
        name = re.sub(r"[^a-z0-9_-]", "-", last).strip("-_")
        names.append(f"database-{number}" if not name or name in names else name)
    return names


def printable(text: str) -> str:
    """Text that stays on its line of comment."""
    return text if text.isprintable() else ascii(text)[1:-1]
