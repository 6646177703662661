"""Makes a release archive from a tree: same tree, same bytes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.durable import write_whole
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.archives.members import member_header
from yellow_ladder.files.archives.read import check_link, check_links
from yellow_ladder.files.archives.write import TarWriter
from yellow_ladder.files.digests import sha256_of
from yellow_ladder.files.entry import Entry, Kind, changed
from yellow_ladder.files.manifest import take_manifest
from yellow_ladder.release.sheet import SHEET_NAME, ReleaseSheet, parse_sheet
from yellow_ladder.release.source import DIGESTS_NAME

_NEVER_PACKED = ("__pycache__", ".git")


@dataclass(frozen=True, slots=True)
class Packed:
    """A release archive that was written."""

    archive: Path
    sha256: str
    packed_bytes: int
    unpacked_bytes: int
    files: int
    product: str


def pack_release(tree: Path, into: Path) -> Packed:
    """Pack `tree`, which holds its sheet, into `into` and note the archive's digest in SHA256SUMS there.

    Raises BadInput when the tree has no sheet, its sheet is wrong, or the tree holds what a site would refuse.
    """
    sheet, raw = _read_sheet(tree)
    entries = take_manifest(tree, _is_left_out)
    _check_tree(tree, sheet, list(entries.values()))
    other_bytes = sum(entry.size for path, entry in entries.items() if path != SHEET_NAME)
    raw = _with_size(raw, other_bytes)
    unpacked = other_bytes + len(raw)
    name = f"{sheet.release.product}-{sheet.release.version}"
    archive = into / f"{name}.tar.zst"
    into.mkdir(parents=True, exist_ok=True)
    fresh = archive.with_name(f".{archive.name}.new")
    fresh.unlink(missing_ok=True)
    with TarWriter(fresh, level=10) as writer:
        writer.add_bytes(f"{name}/{SHEET_NAME}", raw)
        for path, entry in entries.items():
            if path != SHEET_NAME:
                _add(writer, entry, f"{name}/{path}", tree / path)
    fresh.chmod(0o644)
    fresh.replace(archive)
    digest = sha256_of(archive)
    _note_digest(into / DIGESTS_NAME, archive.name, digest)
    files = sum(entry.kind is Kind.FILE for entry in entries.values())
    return Packed(
        archive, digest, archive.stat().st_size, unpacked, files, sheet.release.addon_of or sheet.release.product
    )


def _is_left_out(path: str) -> bool:
    return path.rsplit("/", 1)[-1] in _NEVER_PACKED


def _read_sheet(tree: Path) -> tuple[ReleaseSheet, bytes]:
    path = tree / SHEET_NAME
    if not path.is_file():
        text = f"{tree} has no {SHEET_NAME}"
        raise BadInput(Problem("no-sheet", text, "write one, see docs/release-sheet.md", str(tree)))
    raw = path.read_bytes()
    return parse_sheet(raw, str(path)), raw


def _check_tree(tree: Path, sheet: ReleaseSheet, entries: Sequence[Entry]) -> None:
    for entry in entries:
        if entry.kind is Kind.OTHER:
            text = f"{tree / entry.path} is a pipe, socket or device"
            raise BadInput(Problem("tree-refused", text, "take it out of the tree", entry.path))
    try:
        links = {entry.path: entry.target for entry in entries if entry.kind is Kind.LINK}
        for path, target in links.items():
            check_link(tree, path, target)
        check_links(tree, links, "")
    except BadInput as refused:
        # It is the maker's own tree, and no archive of somebody else's.
        text = refused.problems[0].message.removeprefix(f"{tree} is refused: ")
        remedy = "let it lead to a place in the tree, or put the file itself there"
        raise BadInput(Problem("tree-refused", f"{tree}: {text}", remedy, str(tree))) from refused
    missing = [file for one in sheet.migrations for file in one.files if not (tree / file).is_file()]
    if missing:
        text = f"the sheet names the migration file {missing[0]}, which is not in the tree"
        raise BadInput(Problem("migration-missing", text, "add it or correct the sheet", f"{tree / SHEET_NAME}"))


def _with_size(raw: bytes, other_bytes: int) -> bytes:
    """The sheet with `archive.unpacked_bytes` filled in, so that an archive says how much it unpacks to."""
    if re.search(rb"^\[archive\]", raw, re.MULTILINE):
        return raw
    # The number has a fixed width, so that writing it does not change the length that it speaks of.
    table = b"\n[archive]\nunpacked_bytes = %-16d# what this release unpacks to\n"
    body = raw.rstrip(b"\n") + b"\n"
    return body + table % (other_bytes + len(body) + len(table % 0))


def _add(writer: TarWriter, entry: Entry, name: str, location: Path) -> None:
    """Add an entry as a release has it: owned by nobody in particular, without times."""
    plain = changed(entry, uid=0, gid=0, modified_ns=0, mode=0o755 if entry.mode & 0o100 else 0o644)
    if entry.kind is Kind.FILE:
        writer.add_bytes(name, location.read_bytes(), plain.mode)
    else:
        writer.add_header(member_header(changed(plain, mode=0o755), name))


def _note_digest(path: Path, name: str, digest: str) -> None:
    lines = path.read_text().splitlines() if path.exists() else []
    kept = [line for line in lines if not line.endswith(f" {name}")]
    lines = sorted([*kept, f"{digest}  {name}"], key=lambda line: line[66:])
    write_whole(path, ("\n".join(lines) + "\n").encode(), mode=0o644)
