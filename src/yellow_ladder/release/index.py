"""An index of releases on the network: one JSON document with every sheet, and archives that are fetched by need.

The document is `releases.json` below the source's URL (or the URL itself where it ends in .json), see docs/formats.md.
The other end is not trusted: its answer has a largest size, redirects have an end, and every archive has its digest.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal
from urllib.parse import quote, unquote, urljoin, urlsplit

from pydantic import Field

from yellow_ladder import web
from yellow_ladder.documents import Record, validate_document
from yellow_ladder.durable import private_folder, sync_folder, write_whole
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.files.archives.read import is_archive_name
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.release.sheet import DOC_PAGE, SHEET_NAME, ReleaseSheet
from yellow_ladder.release.source import Beside, Release, Releases, check_build_files, read_source, sorted_out
from yellow_ladder.release.values import TreePath
from yellow_ladder.words import bytes_in_words

if TYPE_CHECKING:
    import httpx

INDEX_NAME = "releases.json"
LARGEST_INDEX_BYTES = 32 * 1024**2
_MOST_REDIRECTS = 5
_STALLED_S, _INDEX_WITHIN_S = 15.0, 60.0
_ROOM_TO_LEAVE_BYTES = 16 * 1024**2
OnBytes = Callable[[int, int], None]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class IndexFile(Record):
    """A file beside an archive or a sheet: what a release is made or migrated with."""

    name: TreePath
    sha256: Digest
    size_bytes: int = Field(ge=0)


class IndexEntry(Record):
    """One release of an index; `sheet` is its sheet as JSON. The archive of one that commands make may be its sheet."""

    archive: str = Field(min_length=1)
    sha256: Digest
    size_bytes: int = Field(ge=0)
    sheet: dict[str, Any]
    files: list[IndexFile] = Field(default=[])


class IndexHead(Record):
    """The outer form of an index; the releases are looked at one by one, so that one broken hides no other."""

    format: Literal[1]
    releases: list[Any]


def read_index(url: str, product: str, downloads: Path) -> Releases:
    """Read an index; a broken release in it is a problem of its own.

    Raises BadInput when it cannot be had, is no index, or has no release of the product.
    """
    place = url if url.endswith(".json") else f"{url.rstrip('/')}/{INDEX_NAME}"
    raw, ahead_s = _fetch_index(place)
    try:
        head = validate_document(json.loads(raw), IndexHead, name=place, doc_page="docs/formats.md")
    except ValueError as fault:
        raise _no_index(place, f"is not JSON ({str(fault)[:80]}; it begins with {raw[:40]!r})") from fault
    except RecursionError as fault:
        raise _no_index(place, "is nested too deeply") from fault
    releases: list[Release] = []
    problems: list[Problem] = []
    for number, one in enumerate(head.releases):
        name = f"{place}: releases[{number}]"
        try:
            entry = validate_document(one, IndexEntry, name=name, doc_page="docs/formats.md")
            sheet = validate_document(entry.sheet, ReleaseSheet, name=f"{name}.sheet", doc_page=DOC_PAGE)
            releases.append(_release(place, entry, sheet, downloads))
        except LadderError as fault:
            problems += fault.problems
    return sorted_out(place, product, releases, problems, ahead_s)


def _no_index(place: str, why: str) -> BadInput:
    text = f"the release index {place} {why}"
    return BadInput(Problem("index-broken", text, "correct releases.source, or tell who publishes it", place))


def _release(place: str, entry: IndexEntry, sheet: ReleaseSheet, downloads: Path) -> Release:
    url = urljoin(place, entry.archive)
    name = unquote(urlsplit(url).path).rsplit("/", 1)[-1]
    is_alone = name.endswith(f".{SHEET_NAME}") and sheet.archive.build is not None
    is_known = is_alone or bool(sheet.archive.becomes) or is_archive_name(name)
    if not is_known or urlsplit(url).scheme not in ("http", "https") or not name.isprintable():
        text = f"the index names the archive {entry.archive!r}, which is not a file name that can be read here"
        raise BadInput(Problem("index-broken", text, "tell who publishes it", place))
    wanted = _named_beside(sheet)
    beside = tuple(
        Beside(one.name, urljoin(url, quote(one.name)), one.sha256, one.size_bytes)
        for one in entry.files
        if one.name in wanted
    )
    # The digest in the name: another archive of the same name never takes this one's place. What lies beside it has to
    # lie beside it here too, under its own name.
    local = downloads / f"{entry.sha256[:16]}-{name}"
    if beside:
        digests = "".join(sorted(f"{one.name}\n{one.sha256}\n" for one in beside))
        local = downloads / hashlib.sha256(f"{entry.sha256}\n{digests}".encode()).hexdigest()[:16] / name
    return Release(sheet, local, entry.sha256, local if is_alone else None, url, entry.size_bytes, beside)


def _named_beside(sheet: ReleaseSheet) -> set[str]:
    """The files that a sheet names and that may lie beside it."""
    build = sheet.archive.build
    return {*(build.files if build else ()), *(file for one in sheet.migrations for file in one.files)}


def _fetch_index(place: str) -> tuple[bytes, float]:
    end, parts, size = time.monotonic() + _INDEX_WITHIN_S, [], 0
    with _answer(place) as answer:
        for block in answer.iter_bytes():
            parts.append(block)
            size += len(block)
            if size > LARGEST_INDEX_BYTES:
                raise _no_index(
                    place, f"is larger than {bytes_in_words(LARGEST_INDEX_BYTES)} and was not read to its end"
                )
            if time.monotonic() > end:
                raise _no_index(place, f"did not arrive within {_INDEX_WITHIN_S:g} s")
        return b"".join(parts), _clock_ahead(answer.headers.get("date", ""))


def _clock_ahead(date: str) -> float:
    try:
        theirs = parsedate_to_datetime(date)
    except ValueError:
        return 0.0
    return (datetime.now(UTC) - theirs).total_seconds() if theirs.tzinfo else 0.0


@contextmanager
def _answer(url: str, headers: dict[str, str] | None = None) -> Iterator[httpx.Response]:
    """An answer with success; raises BadInput that names the URL where anything goes wrong."""
    import httpx

    is_local = urlsplit(url).hostname in ("127.0.0.1", "::1", "localhost")
    try:
        with (
            web.client(
                timeout=_STALLED_S, follow_redirects=True, max_redirects=_MOST_REDIRECTS, trust_env=not is_local
            ) as client,
            client.stream("GET", url, headers=headers) as answer,
        ):
            if url.startswith("https:") and any(one.url.scheme != "https" for one in (*answer.history, answer)):
                raise _unreachable(url, "it leads from https to http")
            if not answer.is_success:
                raise _unreachable(url, f"it answers with status {answer.status_code}")
            yield answer
    except httpx.TooManyRedirects as fault:
        raise _unreachable(url, f"more than {_MOST_REDIRECTS} redirects, in a circle perhaps") from fault
    except (httpx.HTTPError, httpx.InvalidURL, httpx.StreamError) as fault:
        raise _unreachable(url, str(fault) or type(fault).__name__) from fault


def _unreachable(url: str, why: str) -> BadInput:
    text = f"{url} cannot be fetched: {why}"
    return BadInput(Problem("source-unreachable", text, "correct releases.source, or see to the network", url))


def bring_here(release: Release, on_bytes: OnBytes | None = None) -> None:
    """Fetch a release's archive, and what lies beside it, unless it is here; goes on where an attempt broke off.

    Raises BadInput when it cannot be had or is not what the index says, AnswerNo when there is no room for it.
    """
    if not release.url:
        return
    archive = Beside(release.archive.name, release.url, release.published_sha256, release.size_bytes)
    _bring(archive, release.archive, on_bytes)
    for one in release.beside:
        _bring(one, release.archive.parent / one.name, on_bytes)


def _bring(what: Beside, target: Path, on_bytes: OnBytes | None) -> None:
    if target.is_file():
        return
    private_folder(target.parent)
    part = target.with_name(target.name + ".part")
    for attempt in (1, 2):
        have = part.stat().st_size if part.is_file() else 0
        _append_rest(what, part, have, on_bytes)
        if sha256_of(part) == what.sha256:
            part.replace(target)
            sync_folder(part.parent)
            return
        part.unlink()
        if attempt == 2 or not have:
            text = f"{what.url} is not the file that the index announces: its SHA-256 is another"
            raise BadInput(Problem("digest-differs", text, "fetch it again later; tell who publishes it", what.url))


def _append_rest(what: Beside, part: Path, have: int, on_bytes: OnBytes | None) -> None:
    free = os.statvfs(part.parent)
    room = free.f_bavail * free.f_frsize - _ROOM_TO_LEAVE_BYTES
    if what.size_bytes - have > room:
        text = f"no room for {what.name} in {part.parent}"
        raise AnswerNo(Problem("disk-full", text, "free space there", str(part.parent)))
    if have and have == what.size_bytes:
        return
    wanted = {"Range": f"bytes={have}-"} if have else {}
    with _answer(what.url, {"Accept-Encoding": "identity", **wanted}) as answer:
        goes_on = answer.status_code == 206
        done = have if goes_on else 0
        with part.open("ab" if goes_on else "wb") as stream:
            part.chmod(0o600)
            for block in answer.iter_raw():
                done += len(block)
                if done > what.size_bytes:
                    text = f"{what.url} is larger than the index says ({what.size_bytes:,} bytes)"
                    raise BadInput(Problem("digest-differs", text, "tell who publishes it", what.url))
                stream.write(block)
                if on_bytes is not None:
                    on_bytes(done, what.size_bytes)
            stream.flush()
            os.fsync(stream.fileno())


def write_index(folder: Path, product: str) -> Path:
    """Write the index of a folder with a product's releases and add-ons, to be published with it.

    Raises BadInput when one of them cannot be read: an index must not be silent about that.
    """
    found = read_source(folder, product)
    if found.problems:
        raise BadInput(found.problems)
    entries = []
    for release in (*found.found, *found.addons):
        digest = release.published_sha256 or sha256_of(release.archive)
        sheet = release.sheet.model_dump(mode="json", by_alias=True, exclude_defaults=True)
        sheet["format"] = 1
        size = release.archive.stat().st_size
        entry = {"archive": release.archive.name, "sha256": digest, "size_bytes": size, "sheet": sheet}
        check_build_files(release)
        files = [one for one in sorted(_named_beside(release.sheet)) if (folder / one).is_file()]
        if files:
            entry["files"] = [
                {"name": one, "sha256": sha256_of(folder / one), "size_bytes": (folder / one).stat().st_size}
                for one in files
            ]
        entries.append(entry)
    path = folder / INDEX_NAME
    write_whole(path, (json.dumps({"format": 1, "releases": entries}, indent=1) + "\n").encode(), mode=0o644)
    return path
