"""The part of a first site file that tells of services: units, processes, web servers, jobs."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from yellow_ladder.discovery.found import Discovery
from yellow_ladder.discovery.running import Running
from yellow_ladder.discovery.served import Served
from yellow_ladder.discovery.servers import servers_text
from yellow_ladder.discovery.writing.databases import printable, toml_text
from yellow_ladder.files.entry import within
from yellow_ladder.masking import masked_line
from yellow_ladder.words import some_of


def services_text(found: Discovery, left: list[str]) -> list[str]:
    """Services as units and processes suggest them; what is not known is added to `left`."""
    release = found.behind.release if found.behind else ""
    lines = list(servers_text(found.servers, found.root, release))
    for server in found.servers:
        text = f"{server.folder} is the data folder of a database server: say whether it climbs with the site"
        left.append(f"{text}, and name its databases")
    if not found.units and (found.running or not (found.servers or found.served)):
        left.append("[[services]]: no unit file points into the folder; say how the application is started and stopped")
        left += _variables_left(found)
        for number, one in enumerate(found.running):
            lines += _as_it_runs(found, one, "web" if number == 0 else f"worker-{number}")
    # Where the application has processes of its own, a web server only hands on what they say.
    lines += _served([one for one in found.served if one.runs or not (found.units or found.running)], left)
    if not (found.units or found.running or found.servers or found.served):
        lines += [
            "# How the application is started, stopped and asked: by commands like these, or as one process.",
            "# [[services]]",
            '# name = "web"',
            '# kind = "commands"',
            '# start = ["/path/to/control", "start"]',
            '# stop = ["/path/to/control", "stop"]',
            '# status = ["/path/to/control", "status"]',
            '# ready = { url = "http://127.0.0.1:8080/" } # answers when it is ready',
            "",
        ]
    for unit in found.units:
        name = unit.name.removesuffix(".service")
        lines += [
            f"# guess: {unit.file} points into the folder" + (f" and runs as {unit.user}" if unit.user else ""),
            "[[services]]",
            f"name = {toml_text(re.sub(r'[^A-Za-z0-9._-]', '-', name))}",
            'kind = "unit"',
            f"unit = {toml_text(unit.name)}",
            *([f"user = {toml_text(unit.manager)}"] if unit.manager else ()),
            *([f"log = {toml_text(unit.log)}"] if unit.log else ()),
            "",
        ]
        left.append(f"services.ready of {name}: how to know that it is ready")
    return lines


def _served(served: Sequence[Served], left: list[str]) -> list[str]:
    """What runs the code of an application that web servers serve: left to whoever knows what else they run."""
    lines: list[str] = []
    for unit in dict.fromkeys(unit for one in served for unit in one.units):
        files = printable(", ".join(one.file for one in served if unit in one.units))
        said = (
            f"{files} serves it, and {unit} runs its code. Stopped while it climbs, {unit} keeps no old code in memory,"
        )
        lines += [
            f"# {said} and every other application that it runs stands still, too. Take the # away where that may be.",
            "# [[services]]",
            f"# name = {toml_text(unit.removesuffix('.service'))}",
            '# kind = "unit"',
            f"# unit = {toml_text(unit)}",
            "",
        ]
        left.append(
            f"[[services]]: whether {unit} may be stopped and started: it runs the code, and keeps some in memory"
        )
    return lines


def jobs_text(found: Discovery) -> list[str]:
    """What cron and timers start: named, so that it is held back while the site is closed."""
    lines: list[str] = []
    tables = dict.fromkeys(job.file for job in found.jobs if job.line)
    timers = [job.file for job in found.jobs if job.is_timer]
    for number, file in enumerate([*tables, *timers]):
        says, account = next((job.says, job.account) for job in found.jobs if job.file == file)
        key = [f"unit = {toml_text(file.name)}"] if file in timers else [f"crontab = {toml_text(str(file))}"]
        key += [f"user = {toml_text(account)}"] if file in timers and account else []
        lines += [
            f"# {printable(masked_line(says))}",
            "[[services]]",
            f'name = "jobs{f"-{number + 1}" if number else ""}"',
            f'kind = "{"unit" if file in timers else "cron"}"',
            *key,
            "",
        ]
    return lines


def in_braces(found: Discovery, word: str) -> str:
    """A path of root, or of the release in use wherever that may be by then."""
    if found.behind is not None:
        for place in (found.behind.release, found.behind.link):
            whole = f"{found.root}/{place}"
            if word == whole or word.startswith(f"{whole}/"):
                return "{release}" + word[len(whole) :]
    return word.replace(str(found.root), "{root}", 1) if within(word, [str(found.root)]) else word


def _variables_left(found: Discovery) -> Iterator[str]:
    """What processes have in their environment beside what is written for them, by name: values may be secrets."""
    for one in found.running:
        names = sorted(found.variables.get(one.pid, ()))
        if names:
            yield (
                f"[environment]: process {one.pid} runs with {some_of(names, 8)}: write what it needs of these into a"
                " file beside this one, NAME=value in each line, chmod 600 it, and name it under `files`"
            )


_DETACHED = (
    "(It has left what started it: where that is its own doing, run it with what keeps it in the foreground, or name"
    ' what starts and stops it with kind = "commands".)'
)


def _as_it_runs(found: Discovery, one: Running, name: str) -> list[str]:
    """A service as a process of now suggests it. Who starts it is not known, so that it stays a proposal."""
    variables = [
        f"{name} = {toml_text(in_braces(found, value))}"
        for name, value in one.environment
        if name not in found.set_by_files
    ]
    words = [in_braces(found, word) for word in one.words]
    notes = [_DETACHED] if one.is_detached else []
    if one.program:
        words = [in_braces(found, one.program), "…"]
        notes.append(
            f"(It calls itself {toml_text(' '.join(one.words)[:60])}: with which words it was started is not seen.)"
        )
    if one.pid_file:
        notes.append(f'(Its pid file is {one.pid_file}: with kind = "commands", `start`, `stop` and that are enough.)')
    ports = f", listens on {', '.join(map(str, one.ports))}" if one.ports else ""
    ports += f", and {one.alike} like it" if one.alike else ""
    lines = [
        f"Process {one.pid} ({one.account}{ports}) runs so now. Where something else starts it, name that:",
        'kind = "unit" or kind = "commands". As a process of this program\'s own it would be:',
        *notes,
        f"(To take over the one that runs, beside this file: mkdir -p run && echo {one.pid} > run/{name}.pid)",
        "[[services]]",
        f'name = "{name}"',
        'kind = "process"',
        f"run = [{', '.join(map(toml_text, words))}]",
        f"folder = {toml_text(in_braces(found, one.folder))}",
        *([f"environment = {{ {', '.join(variables)} }}"] if variables else ()),
        f'pid_file = "run/{name}.pid"',
        f"as_user = {toml_text(one.account)}",
        *(f'ready = {{ port = {port} }} # or url = "http://127.0.0.1:{port}/", a page' for port in one.ports[:1]),
    ]
    return [*(f"# {printable(line)}" for line in lines), ""]
