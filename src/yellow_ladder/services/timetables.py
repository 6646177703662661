"""What the machine starts of an application at set times: lines of crontabs, scripts of cron's folders, timers."""

from __future__ import annotations

import contextlib
import pwd
import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from yellow_ladder.files.reading import read_regular

HELD_BACK = "# held back while the site is closed: "
"""What stands before a line of a crontab that is switched off for a climb."""
_SPOOLS = (Path("/var/spool/cron/crontabs"), Path("/var/spool/cron"))
_TABLES = (Path("/etc/crontab"), Path("/etc/cron.d"))
_SCRIPTS = tuple(Path(f"/etc/cron.{often}") for often in ("hourly", "daily", "weekly", "monthly"))
_UNITS = (Path("/etc/systemd/system"), Path("/usr/lib/systemd/system"), Path("/lib/systemd/system"))
_LINGERING = Path("/var/lib/systemd/linger")
_OWN_UNITS = Path(".config/systemd/user")
# An account may put as many there as it likes, and root looks through them.
_MOST_OF_ONE = 1_000
_NO_JOB = re.compile(r"^\s*(?:#|$|\w+\s*=)")


@dataclass(frozen=True, slots=True)
class Job:
    """Something that is started at set times: where that is said, in which line (0: the file as a whole), and what.

    `account` is the one whose table, or whose own timer, it is; empty where the line or the unit says it.
    """

    file: Path
    line: int
    says: str
    account: str = ""

    @property
    def is_timer(self) -> bool:
        """Whether it is a timer of systemd."""
        return self.file.suffix == ".timer"


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a crontab: its text without what holds it back."""

    number: int
    text: str
    is_held: bool


@dataclass(frozen=True, slots=True)
class AccountUnits:
    """The folder with the units of an account's own service manager."""

    folder: Path
    account: str
    home: str


def account_units(below: Path = Path("/")) -> list[AccountUnits]:
    """Those of accounts whose manager runs without a session; others' services end when their people go home.

    Only these are looked at: the homes of all accounts may lie on other machines.
    """
    found = []
    for mark in _files_in(_there(below, _LINGERING)):
        with contextlib.suppress(OSError, KeyError):
            known = pwd.getpwnam(mark.name)
            folder = _there(below, Path("/") / known.pw_dir / _OWN_UNITS)
            if folder.is_dir():
                found.append(AccountUnits(folder, known.pw_name, known.pw_dir))
    return found


def naming(roots: Iterable[Path]) -> re.Pattern[str]:
    """What finds the folders of an application in a line: whole names, so that `/srv/quay` is not in `/srv/quays`."""
    names = "|".join(re.escape(str(one)) for one in sorted(set(roots)))
    return re.compile(rf"(?<![\w./-])(?:{names})(?![\w.-])")


def job_lines(text: str, pattern: re.Pattern[str]) -> list[Line]:
    """The lines of a crontab that start what is looked for, those held back too; comments and settings are none."""
    found = []
    for number, line in enumerate(text.split("\n"), 1):
        is_held = line.startswith(HELD_BACK)
        bare = line.removeprefix(HELD_BACK)
        if not _NO_JOB.match(bare) and pattern.search(bare):
            found.append(Line(number, bare, is_held))
    return found


def jobs_of(roots: Collection[Path], below: Path = Path("/")) -> list[Job]:
    """What this machine starts of an application at set times, as far as this account may read; those held back too.

    `below` stands for the top of the file system.
    """
    pattern = naming(roots)
    found: dict[tuple[Path, int], Job] = {}
    for job in (*_in_tables(pattern, below), *_in_scripts(pattern, below), *_in_timers(pattern, below)):
        found.setdefault((job.file, job.line), job)
    return list(found.values())


def _there(below: Path, place: Path) -> Path:
    return below / place.relative_to("/")


def _files_in(place: Path) -> list[Path]:
    try:
        return sorted(one for one in place.iterdir() if one.is_file() and not one.name.startswith("."))
    except NotADirectoryError:
        return [place]
    except OSError:
        return []


def _text_of(file: Path) -> str:
    try:
        return read_regular(file, cut=True).decode(errors="replace")
    except OSError:
        return ""


def _in_tables(pattern: re.Pattern[str], below: Path) -> Iterator[Job]:
    for place in (*_SPOOLS, *_TABLES):
        for file in _files_in(_there(below, place)):
            account = file.name if place in _SPOOLS else ""
            for line in job_lines(_text_of(file), pattern):
                yield Job(file, line.number, line.text.strip(), account)


def _in_scripts(pattern: re.Pattern[str], below: Path) -> Iterator[Job]:
    for place in _SCRIPTS:
        for file in _files_in(_there(below, place)):
            lines = [one.strip() for one in _text_of(file).splitlines() if not one.lstrip().startswith("#")]
            says = next((one for one in lines if pattern.search(one)), "")
            if says:
                yield Job(file, 0, says)


def _in_timers(pattern: re.Pattern[str], below: Path) -> Iterator[Job]:
    yield from _timers_in([_there(below, place) for place in _UNITS], pattern)
    for own in account_units(below):
        yield from _timers_in([own.folder], pattern, own)


def _timers_in(places: Sequence[Path], pattern: re.Pattern[str], own: AccountUnits | None = None) -> Iterator[Job]:
    """Timers that are enabled; the home of an account's own stands in its units as `%h`."""
    most = _MOST_OF_ONE if own else None
    wanted = {one.name for place in places for one in islice(place.glob("*.wants/*.timer"), most)}
    for file in (one for place in places for one in sorted(islice(place.glob("*.timer"), most))):
        if file.name not in wanted:
            continue
        named = re.search(r"^\s*Unit\s*=\s*(\S+)", _text_of(file), re.MULTILINE)
        unit = named[1] if named else f"{file.stem}.service"
        text = next(filter(None, (_text_of(place / unit) for place in places)), "")
        text = text.replace("%h", own.home) if own else text
        says = re.search(r"^\s*ExecStart\s*=\s*(.+)$", text, re.MULTILINE)
        if pattern.search(text):
            yield Job(file, 0, says[1].strip() if says else unit, own.account if own else "")
