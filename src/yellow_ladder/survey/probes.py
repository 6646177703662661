"""Witnesses of versions: files, programs, pages, processes, queries. One that fails says why and stops no other."""

from __future__ import annotations

import contextlib
import json
import re
import shutil
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yellow_ladder import nolinks, web
from yellow_ladder.errors import LadderError
from yellow_ladder.files.reading import read_regular
from yellow_ladder.masking import masked_url
from yellow_ladder.release.versions import Version, told_by
from yellow_ladder.services import services_of
from yellow_ladder.site.records import BuildRuntime, Runtime, Tool, VersionProbe
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import hear, started
from yellow_ladder.survey.records import ProbeAnswer

if TYPE_CHECKING:
    import httpx

LARGEST_ANSWER_BYTES = 1024 * 1024
_DOTTED = re.compile(r"(?<![\w.])v?(\d+(?:\.\d+)+[\w.+-]*)")
_LAST_VERSION = r"(\d+(?:\.\d+)*[\w.+-]*)/?$"


# By probe: each with its site, since both are known by who they are and not by what they say.
_asked: ContextVar[dict[tuple[int, int], tuple[Site, VersionProbe, ProbeAnswer]] | None] = ContextVar(
    "asked", default=None
)


@contextlib.contextmanager
def each_asked_once() -> Iterator[None]:
    """Within the block no probe is asked twice: a vendor's program may take many seconds to tell its version, and
    several questions want it. A block in a block is part of it.
    """
    if _asked.get() is not None:
        yield
        return
    before = _asked.set({})
    try:
        yield
    finally:
        _asked.reset(before)


@each_asked_once()
def ask_all(site: Site, of: Sequence[str] = ("disk", "served", "schema")) -> list[ProbeAnswer]:
    """Ask every probe of the kinds wanted that holds for the version on disk (or says nothing of versions)."""
    disk = version_on_disk(site)
    asked = []
    for probe in site.record.versions:
        holds = not probe.holds or (disk is not None and disk.is_in(probe.holds))
        if probe.of in of and holds:
            asked.append(ask(site, probe))
    return asked


@each_asked_once()
def version_on_disk(site: Site, part: str = "") -> Version | None:
    """The first version that a probe on disk reads, provided that the probe holds for it."""
    for probe in site.record.versions:
        if probe.of != "disk" or probe.part != part:
            continue
        try:
            version = Version(ask(site, probe).says)
        except ValueError:
            continue
        whole = version if not part else version_on_disk(site)
        if not probe.holds or (whole is not None and whole.is_in(probe.holds)):
            return version
    return None


@each_asked_once()
def parts_on_disk(site: Site) -> dict[str, Version]:
    """The versions of parts that have a probe of their own; a part that says nothing is left out."""
    names = {probe.part for probe in site.record.versions if probe.part}
    found = {name: version_on_disk(site, name) for name in sorted(names)}
    return {name: version for name, version in found.items() if version is not None}


def ask(site: Site, probe: VersionProbe) -> ProbeAnswer:
    """What one probe says, or has said within the block of `each_asked_once`."""
    asked = _asked.get()
    if asked is None:
        return _ask(site, probe)
    known = asked.get((id(site), id(probe)))
    if known is None:
        known = asked[id(site), id(probe)] = (site, probe, _ask(site, probe))
    return known[2]


def _ask(site: Site, probe: VersionProbe) -> ProbeAnswer:
    where = _where(probe)

    def answer() -> str:
        said = matched(_raw_answer(site, probe), probe.pattern or (_LAST_VERSION if probe.link else ""))
        return _version_in(said) if probe.command and not probe.pattern and probe.of != "schema" else said

    return _answer_of(answer, probe.of, where, probe.part)


def ask_programs(site: Site) -> list[ProbeAnswer]:
    """What the runtime and the tools say of their versions."""
    runtime = [_program(site, "runtime", site.record.runtime)] if site.record.runtime else []
    tools = [_program(site, "tool", tool) for tool in site.record.tools]
    return [*runtime, *tools, *(_build_runtime(site, one) for one in site.record.runtimes)]


def _build_runtime(site: Site, runtime: BuildRuntime) -> ProbeAnswer:
    """A runtime that releases are built with, by its whole path; asked as the account that builds, which may not see
    what others see.
    """
    word = site.filled(runtime.command[0])
    program = shutil.which(word) or word

    def answer() -> str:
        argv = [program, *runtime.command[1:]]
        return matched(output_of(site, argv, runtime.within_s, site.record.builder), runtime.pattern)

    return _answer_of(answer, "runtimes", " ".join(runtime.command), program)


def _program(site: Site, of: str, program: Runtime | Tool) -> ProbeAnswer:
    def answer() -> str:
        return matched(output_of(site, program.command, program.within_s, program.as_user), program.pattern)

    return _answer_of(answer, of, " ".join(program.command), program.name)


def packages_of(site: Site, release: Path | None = None) -> Mapping[str, str]:
    """The packages of the runtime with their versions, lower case; raises AnswerNo where they cannot be listed.

    Those of the `release` that lies there, where one is named, and of the one in use otherwise.
    """
    runtime = site.record.runtime
    if runtime is None or not runtime.packages:
        return {}
    found = {}
    words = [word.replace("{release}", str(release)) if release else word for word in runtime.packages]
    for line in output_of(site, words, runtime.within_s, runtime.as_user).splitlines():
        name, _, version = line.replace("==", " ").strip().partition(" ")
        if name and version:
            found[name.lower()] = version.split()[0]
    return found


def _answer_of(answer: Callable[[], str], of: str, where: str, part: str) -> ProbeAnswer:
    try:
        return ProbeAnswer(of, where, answer(), part=part)
    except web.faults(OSError, ValueError, KeyError) as fault:
        return ProbeAnswer(of, where, "", web.why(fault), part)
    except LadderError as fault:
        return ProbeAnswer(of, where, "", fault.problems[0].message, part)


def _where(probe: VersionProbe) -> str:
    if probe.process:
        return f"process {probe.process}"
    if probe.link:
        return f"link {probe.link}"
    return probe.file or masked_url(probe.url) or " ".join(probe.command) or f"database {probe.database}"


def _raw_answer(site: Site, probe: VersionProbe) -> str:
    if probe.file:
        return read_regular(site.place(probe.file), LARGEST_ANSWER_BYTES, cut=True).decode(errors="replace")
    if probe.link:
        return nolinks.target_of(site.root / probe.link)
    if probe.command:
        return output_of(site, probe.command, probe.within_s, probe.as_user)
    if probe.process:
        service = next(one for one in services_of(site) if one.name == probe.process)
        return service.about().command_line
    if probe.query:
        return str(site.databases()[probe.database].scalar(probe.query))
    headers, body = fetch(site.filled(probe.url), probe.within_s)
    if probe.header:
        if probe.header not in headers:
            raise ValueError(f"the answer has no header {probe.header}")
        return headers[probe.header]
    return str(json_at(_parsed(body), probe.pointer)) if probe.pointer else body


def output_of(site: Site, argv: Sequence[str], within_s: float, as_user: str = "") -> str:
    """What a command prints, on its second stream where it says nothing on the first.

    Raises AnswerNo when it fails, floods or hangs.
    """
    filled, folder = [site.filled(word) for word in argv], site.file.parent
    how = started(site, as_user, filled, folder)
    raw, other = hear(how, filled, folder, within_s, LARGEST_ANSWER_BYTES)
    said = raw.decode(errors="replace")
    # Warnings go to the other stream, and may have numbers in them; some programs tell their version there.
    return said if said.strip() else other


def fetch(url: str, within_s: float) -> tuple[httpx.Headers, str]:
    """Headers and text of a page that answers with success; raises ValueError or httpx.HTTPError otherwise."""
    end = time.monotonic() + within_s
    # No proxy of the environment: the question is to this machine, and nobody between may answer it.
    with web.client_of_page(url, within_s) as client, client.stream("GET", url) as response:
        if not response.is_success:
            raise ValueError(f"the page answers with status {response.status_code}")
        body = b""
        for block in response.iter_bytes():
            body += block
            if len(body) > LARGEST_ANSWER_BYTES:
                raise ValueError("the answer is larger than a megabyte")
            # The client's own limit starts anew with each byte that arrives.
            if time.monotonic() > end:
                raise ValueError(f"the answer did not end within {within_s:g} s")
    return response.headers, body.decode(errors="replace")


def _parsed(body: str) -> Any:
    try:
        return json.loads(body)
    except ValueError as fault:
        raise ValueError(f"the answer is not JSON: {body[:40]!r}") from fault


def matched(text: str, pattern: str) -> str:
    """What a pattern takes of the first place that matches; without a pattern, the first line."""
    if not pattern:
        lines = text.strip().splitlines()
        if not lines:
            raise ValueError("the answer is empty")
        return _printable(lines[0].strip())
    found = re.search(pattern, text, re.MULTILINE)
    if found is None:
        raise ValueError(f"nothing matches the pattern {pattern!r}")
    return _printable(told_by(found))


def _version_in(line: str) -> str:
    """The version in what a program says of itself (`quaybook version 2.4`); the line, where it is one or has none."""
    with contextlib.suppress(ValueError):
        Version(line)
        return line
    found = _DOTTED.search(line)
    return found[1] if found is not None else line


def _printable(text: str) -> str:
    """Rubbish must neither fill the screen nor steer the terminal."""
    shown = text if text.isprintable() else ascii(text)[1:-1]
    return shown if len(shown) <= 120 else shown[:117] + "…"


def json_at(document: Any, pointer: str) -> Any:
    """The value at a JSON pointer (RFC 6901); raises ValueError where there is none."""
    here = document
    for raw in pointer.split("/")[1:]:
        part = raw.replace("~1", "/").replace("~0", "~")
        try:
            here = here[int(part)] if isinstance(here, list) else here[part]
        except (KeyError, IndexError, ValueError, TypeError) as fault:
            raise ValueError(f"the answer has nothing at {pointer}") from fault
    return here
