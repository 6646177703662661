"""Copies of backups elsewhere: written, read back at the far end, and only then given their name; and brought back."""

from __future__ import annotations

import contextlib
import hashlib
import io
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

from yellow_ladder.backup.catalog import SUMS_NAME, UNFINISHED, Backup, damaged, files_of, read_backup, read_sums
from yellow_ladder.backup.make import check_backup
from yellow_ladder.backup.places import Place, opened_place
from yellow_ladder.durable import private_folder, sync_folder
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.events import Listener, Unit, counting
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.site.site import Site

_BLOCK = 1024 * 1024
_ENDING, _KEY_NAME = ".age", "key.age"
_PLAIN_PATH = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*(?:/[A-Za-z0-9][A-Za-z0-9._-]*)?")


@dataclass(frozen=True, slots=True)
class Copied:
    """A backup that lies at a place, and what its files take there; nothing where it lay there already."""

    backup: str
    place: str
    size_bytes: int

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {"backup": self.backup, "place": self.place, "bytes": self.size_bytes}


def place_of(site: Site, name: str | None) -> CopyTarget:
    """The place of a name, or the only one; raises BadInput where there is none."""
    places = site.record.backup.copy_to
    found = [one for one in places if name in (None, one.name)]
    if len(found) != 1:
        known = ", ".join(one.name for one in places) or "none"
        text = f"there is no place {name}" if name else "the site file has no place for copies, or several"
        raise BadInput(Problem("no-place", text, f"places in backup.copy_to: {known}"))
    return found[0]


def passphrase_is_there(site: Site, target: CopyTarget) -> None:
    """Raise BadInput where copies are to be encrypted and cannot be."""
    if target.is_sealed:
        from yellow_ladder.backup.sealing import passphrase_of, recipient_of

        if not passphrase_of(site, target):
            recipient_of(target)


def names_at(site: Site, target: CopyTarget) -> list[str]:
    """Finished copies at a place, oldest first."""
    with opened_place(site, target) as place:
        return [name for name in place.list() if name.startswith(f"{site.name}-") and not name.endswith(UNFINISHED)]


def copy_backup(site: Site, backup: Backup, target: CopyTarget, tell: Listener) -> list[Copied]:
    """Copy a backup, and those that it builds upon, to a place; may be repeated.

    What is read for it is held against the backup's own digests, and what is written is read again there. Raises
    AnswerNo with nothing left there under a finished name.
    """
    with opened_place(site, target) as place:
        there = place.list()
        wanted = [name for name in (*backup.bases, backup.name) if name not in there]
        return [Copied(name, target.name, _copy_one(site, backup, name, target, place, tell)) for name in wanted]


def _copy_one(site: Site, backup: Backup, name: str, target: CopyTarget, place: Place, tell: Listener) -> int:
    source, far = backup.path.parent / name, name + UNFINISHED
    place.remove(far)
    place.make_folder(far)
    sums: dict[str, str] = {}
    own = read_sums(source)
    sizes = {one: (source / one).stat().st_size for one in files_of(source)}
    moved = counting(tell, f"copy to {target.name}", Unit.BYTES, 2 * sum(sizes.values()))
    for folder in sorted({one.split("/")[0] for one in sizes if "/" in one}):
        place.make_folder(f"{far}/{folder}")
    if target.is_sealed:
        from yellow_ladder.backup.sealing import Seal

        seal = Seal(site, target)
        if seal.key:
            sums[_KEY_NAME] = _send(io.BytesIO(seal.key), place, f"{far}/{_KEY_NAME}", moved)
        for one in sizes:
            with (source / one).open("rb") as raw, place.write(f"{far}/{one}{_ENDING}") as sink:
                read, counted = _Digested(raw), _Counted(sink, moved)
                seal.encrypt(read, counted)  # type: ignore[arg-type]
                sums[one + _ENDING] = counted.digest.hexdigest()
            _hold_against(own, source / one, one, read.digest.hexdigest())
        listing = "".join(f"{digest}  {one}\n" for one, digest in sorted(sums.items()))
        sums[SUMS_NAME] = _send(io.BytesIO(listing.encode()), place, f"{far}/{SUMS_NAME}", moved)
    else:
        for one in sizes:
            with (source / one).open("rb") as plain:
                sums[one] = _send(plain, place, f"{far}/{one}", moved)
            _hold_against(own, source / one, one, sums[one])
    for one, digest in sums.items():
        with place.read(f"{far}/{one}") as stream:
            if _digest(stream, moved) != digest:
                text = f"{one} at `{target.name}` differs from what was written there"
                raise AnswerNo(Problem("copy-damaged", text, "see whether its disk or the network is failing"))
    place.rename(far, name)
    return sum(sizes.values())


def _hold_against(own: dict[str, str], path: Path, name: str, digest: str) -> None:
    """Raise AnswerNo where a file of the backup is not what was written."""
    if name != SUMS_NAME and own.get(name) != digest:
        raise damaged(path, "its content differs from what was written")


class _Digested:
    """Passes bytes on and digests them."""

    def __init__(self, source: IO[bytes]) -> None:
        self._source, self.digest = source, hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        """So many bytes."""
        block = self._source.read(size)
        self.digest.update(block)
        return block


class _Counted:
    """Passes bytes on, digests and counts them."""

    def __init__(self, sink: IO[bytes], moved: Any) -> None:
        self._sink, self._moved, self.digest = sink, moved, hashlib.sha256()

    def write(self, block: bytes) -> int:
        """Take bytes."""
        self._sink.write(block)
        self.digest.update(block)
        self._moved(len(block))
        return len(block)

    def flush(self) -> None:
        """Nothing is held back here."""


def _send(source: IO[bytes], place: Place, name: str, moved: Any) -> str:
    with place.write(name) as sink:
        counted = _Counted(sink, moved)
        while block := source.read(_BLOCK):
            counted.write(block)
    return counted.digest.hexdigest()


def _digest(stream: IO[bytes], moved: Any) -> str:
    digest = hashlib.sha256()
    while block := stream.read(_BLOCK):
        digest.update(block)
        moved(len(block))
    return digest.hexdigest()


def fetch_backup(site: Site, name: str, target: CopyTarget, tell: Listener) -> Backup:
    """Bring a copy back, with those that it builds upon, decrypt it and read it back like any other backup.

    Raises AnswerNo with nothing left here.
    """
    _refuse_odd_names(name, ())
    final = site.state.backups / name
    if final.is_dir():
        raise BadInput(Problem("backup-there", f"the backup {name} is here already", f"yl backup test {name}"))
    with opened_place(site, target) as place:
        if name.endswith(UNFINISHED) or name not in place.list():
            text = f"there is no finished copy {name} at `{target.name}`"
            raise BadInput(Problem("no-backup", text, f"yl backup list --at {target.name}"))
        with _removed_on_failure(site.state.backups / (name + UNFINISHED)) as folder:
            _fetch_files(site, name, target, place, folder, tell)
            for base in read_backup(folder, is_named=False).bases:
                if not (site.state.backups / base).is_dir():
                    fetch_backup(site, base, target, tell)
            check_backup(folder, tell, is_named=False)
            folder.rename(final)
            sync_folder(final.parent)
    return read_backup(final)


@contextlib.contextmanager
def _removed_on_failure(folder: Path) -> Iterator[Path]:
    remove_entry(folder)
    private_folder(folder)
    try:
        yield folder
    except BaseException:
        remove_entry(folder)
        raise


def _fetch_files(site: Site, name: str, target: CopyTarget, place: Place, folder: Path, tell: Listener) -> None:
    names = []
    for one in place.list(name):
        below = [f"{one}/{inner}" for inner in place.list(f"{name}/{one}")] if one.endswith((".pgdump",)) else []
        names += below or [one]
    _refuse_odd_names(name, names)
    sealed = any(one.endswith(_ENDING) for one in names)
    moved = counting(tell, f"fetch from {target.name}", Unit.BYTES)
    unsealing = None
    if sealed:
        from yellow_ladder.backup.sealing import Unsealing

        key = b""
        if _KEY_NAME in names:
            with place.read(f"{name}/{_KEY_NAME}") as stream:
                key = stream.read(_BLOCK)
        unsealing = Unsealing(site, target, key)
        names = [one for one in names if one not in (_KEY_NAME, SUMS_NAME)]
    for one in names:
        path = folder / (one.removesuffix(_ENDING) if sealed else one)
        path.parent.mkdir(mode=0o700, exist_ok=True)
        path.touch(mode=0o600)
        with place.read(f"{name}/{one}") as stream, path.open("wb") as sink:
            if unsealing is None:
                while block := stream.read(_BLOCK):
                    sink.write(block)
                    moved(len(block))
            else:
                unsealing.decrypt(stream, sink, one)
                moved(path.stat().st_size)


def _refuse_odd_names(backup: str, names: Sequence[str]) -> None:
    """A name that comes from elsewhere must not lead elsewhere."""
    odd = [one for one in (backup, *names) if not _PLAIN_PATH.fullmatch(one)]
    if odd:
        text = f"the copy has the name {odd[0]!r}, which no backup has"
        raise AnswerNo(Problem("copy-refused", text, "see who else writes to that place"))
