"""Version probes: on disk, as served, in the database. A probe that fails says why and stops no other."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

import httpx

from yellow_ladder.errors import LadderError
from yellow_ladder.release.versions import Version
from yellow_ladder.site.records import VersionProbe
from yellow_ladder.site.site import Site
from yellow_ladder.survey.records import Witness

_WITHIN_S = 10.0
_LARGEST_PAGE_BYTES = 1024 * 1024


def ask_all(site: Site, of: Sequence[str] = ("disk", "served", "schema")) -> list[Witness]:
    """Ask every probe of the kinds wanted that holds for the version on disk (or says nothing of versions)."""
    disk = version_on_disk(site)
    asked = []
    for probe in site.record.versions:
        holds = not probe.holds or (disk is not None and disk.is_in(probe.holds))
        if probe.of in of and holds:
            asked.append(ask(site, probe))
    return asked


def version_on_disk(site: Site) -> Version | None:
    """The first version that a probe on disk reads, provided that the probe holds for it."""
    for probe in site.record.versions:
        if probe.of == "disk":
            says = ask(site, probe).says
            try:
                version = Version(says)
            except ValueError:
                continue
            if not probe.holds or version.is_in(probe.holds):
                return version
    return None


def ask(site: Site, probe: VersionProbe) -> Witness:
    """What one probe says."""
    where = probe.file or probe.url or f"database {probe.database}"
    try:
        text = _raw_answer(site, probe)
        return Witness(probe.of, where, _matched(text, probe.pattern))
    except (OSError, ValueError, KeyError, httpx.HTTPError) as fault:
        return Witness(probe.of, where, "", f"{fault}" or type(fault).__name__)
    except LadderError as fault:
        return Witness(probe.of, where, "", fault.problems[0].message)


def _raw_answer(site: Site, probe: VersionProbe) -> str:
    if probe.of == "disk":
        with (site.root / probe.file).open(errors="replace") as stream:
            return stream.read(_LARGEST_PAGE_BYTES)
    if probe.of == "schema":
        return str(site.databases()[probe.database].scalar(probe.query))
    body = _fetch(site.filled(probe.url))
    return str(json_at(json.loads(body), probe.pointer)) if probe.pointer else body


def _fetch(url: str) -> str:
    with httpx.Client(timeout=_WITHIN_S, trust_env=False) as client, client.stream("GET", url) as response:
        response.raise_for_status()
        body = b""
        for block in response.iter_bytes():
            body += block
            if len(body) > _LARGEST_PAGE_BYTES:
                raise ValueError("the answer is larger than a megabyte")
    return body.decode(errors="replace")


def _matched(text: str, pattern: str) -> str:
    if not pattern:
        lines = text.strip().splitlines()
        if not lines:
            raise ValueError("the answer is empty")
        return lines[0].strip()
    found = re.search(pattern, text, re.MULTILINE)
    if found is None:
        raise ValueError(f"nothing matches the pattern {pattern!r}")
    return found.group(1) if found.groups() else found.group(0)


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
