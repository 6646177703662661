"""Finds the unit files of systemd that point into an application: the machine's, and accounts' own."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from yellow_ladder.discovery.shapes import drop_ins, text_of, unit_says
from yellow_ladder.services.timetables import account_units

# An account may put as many there as it likes, and root looks through them.
_MOST_OF_ONE = 1_000
UNIT_FOLDERS = (Path("/etc/systemd/system"), Path("/usr/lib/systemd/system"), Path("/lib/systemd/system"))


@dataclass(frozen=True, slots=True)
class Unit:
    """A unit file that points into the application's folder; `manager`: the account whose own manager has it."""

    name: str
    file: Path
    user: str = ""
    environment: tuple[str, ...] = ()
    log: str = ""
    drop_ins: tuple[Path, ...] = ()
    manager: str = ""


def find_units(root: Path, folders: Sequence[Path]) -> Iterator[Unit]:
    """Unit files that name the folder: of `folders`, and, where these are the machine's, of accounts' own."""
    pattern = re.compile(rf"(?:^|[\s=\"':]){re.escape(str(root))}(?=[/\s\"':]|$)", re.MULTILINE)
    seen = set()
    own = account_units() if tuple(folders) == UNIT_FOLDERS else ()
    places = [(folder, "", "") for folder in folders] + [(one.folder, one.account, one.home) for one in own]
    for folder, account, home in places:
        found = folder.glob("*.service") if folder.is_dir() else ()
        for path in sorted(islice(found, _MOST_OF_ONE if account else None)):
            text = _of_account(text_of(path), home)
            if (account, path.name) in seen or not pattern.search(text):
                continue
            seen.add((account, path.name))
            user = re.search(r"^User=(\S+)", text, re.MULTILINE)
            more = "\n".join([text, *(_of_account(text_of(one), home) for one in drop_ins(path))])
            logs = [one.partition(":")[2] for one in unit_says(more, "StandardOutput") if one.startswith("append:")]
            files = tuple(dict.fromkeys(unit_says(more, "EnvironmentFile")))
            runs_as = account or (user[1] if user else "")
            yield Unit(path.name, path, runs_as, files, logs[-1] if logs else "", tuple(drop_ins(path)), account)


def _of_account(text: str, home: str) -> str:
    """In a unit file of an account's own `%h` stands for its home."""
    return text.replace("%h", home) if home else text
