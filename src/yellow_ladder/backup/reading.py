"""Reads an archive of a backup through, and holds what it holds against the list that was made when it was written."""

from __future__ import annotations

import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import IO

from blake3 import blake3

from yellow_ladder.backup.catalog import OUTSIDE_PREFIX, ROOT_PREFIX, damaged
from yellow_ladder.errors import BadInput
from yellow_ladder.files.archives.blocks import LARGEST_AT_ONCE, Blocks, Header, open_blocks
from yellow_ladder.files.archives.members import member_header, pax_time
from yellow_ladder.files.attributes import PAX_PREFIX, as_pax
from yellow_ladder.files.digests import sha256_beside
from yellow_ladder.files.entry import Entry, Kind
from yellow_ladder.files.listing import Listing
from yellow_ladder.files.looking import READ_BYTES
from yellow_ladder.files.marks import Marks
from yellow_ladder.files.unlike import unlike

Passed = Callable[[int], None]
"""Is told of the bytes of an archive that have been read; may raise, where that is to end."""


def path_of_member(name: str) -> str:
    """A member's name as the manifest has it: a tree path, or an absolute path for what lies outside root."""
    if name.startswith(ROOT_PREFIX + "/"):
        return name[len(ROOT_PREFIX) + 1 :]
    return name[len(OUTSIDE_PREFIX) :] if name.startswith(OUTSIDE_PREFIX + "/") else ""


def read_through(archive: Path, manifest: Listing, earlier: Listing | None = None, passed: Passed | None = None) -> str:
    """Hold an archive against `manifest` and digest it in the same go; returns its SHA-256. Raises as that does."""
    with sha256_beside(archive) as digest:
        hold_archive(archive, manifest, earlier, passed)
        return digest()


def hold_archive(
    archive: Path, manifest: Listing, earlier: Listing | None = None, passed: Passed | None = None
) -> None:
    """Read an archive to its end mark and hold every member against `manifest`: content, owner, mode, time, target.

    What it does not hold must have been in an `earlier` archive with the same content. Raises AnswerNo naming the first
    entry that differs.
    """
    wrong: dict[str, str] = {}
    held = Marks(manifest)
    try:
        with open_blocks(archive, passed) as blocks:
            while header := blocks.plain_header():
                _hold_plain(blocks, header, manifest, held, wrong)
    except (BadInput, ValueError, OverflowError) as fault:  # the last two are what garbage in a header comes to
        raise damaged(archive, fault.problems[0].message if isinstance(fault, BadInput) else str(fault)) from fault
    for path, what in wrong.items():
        raise damaged(archive, f"{path} in it {what}")
    first, lacking = "", 0
    if held.count() < len(manifest):
        for before, entry, number in unlike(earlier or Listing.of(()), manifest):
            is_as_before = before is not None and entry is not None and before.digest == entry.digest
            if entry is not None and not held.flags[number] and not is_as_before:
                first, lacking = min(first or entry.path, entry.path), lacking + 1
    if lacking:
        raise damaged(archive, f"it lacks {lacking:,} entries, among them {first}")


def _hold_plain(blocks: Blocks, header: Header, manifest: Listing, held: Marks, wrong: dict[str, str]) -> None:
    """Hold the next member: most are as a plain entry's header says to the byte, and need no taking apart."""
    path = path_of_member(header.name)
    number = manifest.number_of(path) if path else None
    entry = None if number is None else manifest[path]
    if entry is not None and header.raw and header.raw == member_header(entry, header.name):
        what = "" if _digest_of(blocks, header, entry) == entry.digest else _OTHER_CONTENT
    else:
        member, content = blocks.member()
        path = path_of_member(member.name)
        number = manifest.number_of(path) if path else None
        entry = None if number is None else manifest[path]
        what = _difference(member, content, entry) if path else ""
        blocks.end_member()
    if path and what:
        wrong[path] = what
    else:
        wrong.pop(path, None)  # one that changed while it was read is stored again; the last one counts
    if number is not None:
        held.flags[number] = 1


def _digest_of(blocks: Blocks, header: Header, entry: Entry) -> str:
    """The digest of what a plain member holds, which is passed; of all but files nothing."""
    if entry.kind is not Kind.FILE:
        blocks.pass_over(header)
        return ""
    if entry.size > LARGEST_AT_ONCE:
        return blocks.digest(header, entry.size)
    return blake3(blocks.content(header, entry.size)).hexdigest()


_OTHER_CONTENT = "has another content than what was read"


def _difference(member: tarfile.TarInfo, content: IO[bytes] | None, entry: Entry | None) -> str:
    """How a member differs from the entry that was listed; nothing where it does not."""
    if entry is None:
        return "is not listed"
    if content is not None:
        digest = blake3()
        while block := content.read(READ_BYTES):
            digest.update(block)
        if entry.kind is not Kind.FILE or digest.hexdigest() != entry.digest:
            return _OTHER_CONTENT
    elif member.islnk():
        if not entry.same_as or path_of_member(member.linkname) != entry.same_as:
            return "is linked to another file than before"
    elif (Kind.LINK if member.issym() else Kind.FOLDER) is not entry.kind:
        return "is something else"
    elif member.issym() and member.linkname != entry.target:
        return "leads elsewhere"
    rights = (member.mode, member.uid, member.gid, member.pax_headers.get("mtime"))
    if rights != (entry.mode, entry.uid, entry.gid, pax_time(entry.modified_ns)):
        return "has another owner, mode or time"
    attributes = {name: value for name, value in member.pax_headers.items() if name.startswith(PAX_PREFIX)}
    return "" if attributes == as_pax(entry.attributes or ()) else "has other attributes"
