"""Programs that write settings, run on copies in a folder of their own."""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import tempfile
import time
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.accounts import Account
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.site.site import Site
from yellow_ladder.site.surroundings import LARGEST_BYTES, hear, started

_LEFT_S = 3_600


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a program is run for: its words, how long it may take, and the file that it leaves, or that it prints."""

    run: Sequence[str]
    within_s: float
    result: str = ""  # empty: what it prints
    programs: frozenset[str] = frozenset()  # of the files that are given to it


def made_by(site: Site, wanted: Wanted, files: Mapping[str, bytes]) -> bytes:
    """What a program makes of `files`, by their paths in its folder. It runs as the account of the site's commands.

    `{folder}` in its words is that folder. Raises AnswerNo where it fails or leaves nothing, and BadInput.
    """
    with _folder(site) as folder:
        for path, raw in files.items():
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(raw)
        words = [site.filled(word, {"folder": str(folder)}) for word in wanted.run]
        how = started(site, site.record.run_as, words, folder)
        hand_over(folder, how.account, wanted.programs)
        said, _ = hear(how, words, folder, wanted.within_s, LARGEST_BYTES)
        if not wanted.result:
            return said
        try:
            # Whatever the program left there: a link of it is not followed, whosever it is.
            with os.fdopen(nolinks.open_regular(nolinks.trusted(folder) / wanted.result), "rb") as stream:
                return stream.read(LARGEST_BYTES)
        except OSError as fault:
            text = f"{words[0]} left no {wanted.result}: {fault.strerror}"
            raise AnswerNo(Problem("settings-unmade", text, "run it by hand to see why", wanted.result)) from fault


def hand_over(place: Path, account: Account | None, programs: Collection[str] = ()) -> None:
    """Let an account alone read a folder: settings hold secrets. The folder itself comes last: until then the account
    cannot reach what lies in it, and put a link in its place.
    """
    run = {place / one for one in programs}
    for one in (*place.rglob("*"), place):
        one.chmod(0o700 if one.is_dir() or one in run else 0o600)
        if account is not None:
            os.chown(one, account.uid, account.gid, follow_symlinks=False)


@contextlib.contextmanager
def _folder(site: Site) -> Iterator[Path]:
    """A new folder, gone afterwards, and with it what a kill left of an earlier one."""
    mark = f"yl-made-{hashlib.sha256(str(site.file).encode()).hexdigest()[:12]}-"
    for left in Path(tempfile.gettempdir()).glob(f"{mark}*"):
        with contextlib.suppress(OSError):
            if time.time() - left.lstat().st_mtime > _LEFT_S:  # a younger one may be in use
                shutil.rmtree(left)
    folder = Path(tempfile.mkdtemp(prefix=mark))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)
