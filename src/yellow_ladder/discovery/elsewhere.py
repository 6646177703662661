"""Finds what an application keeps outside its folder: its settings name it, or its processes have it open to write."""

from __future__ import annotations

import contextlib
import os
import pwd
import re
import stat
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import psutil

from yellow_ladder import nolinks
from yellow_ladder.discovery.data import HOME_TOOLS, is_sqlite
from yellow_ladder.discovery.readers import read_settings
from yellow_ladder.discovery.running import INTERPRETERS
from yellow_ladder.discovery.shapes import RUN_OTHERS
from yellow_ladder.files.entry import within

# What belongs to the machine, or is gone after its next start.
_OF_THE_MACHINE = (
    "/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/libx32", "/proc", "/run", "/sbin", "/snap", "/sys",
    "/tmp", "/usr", "/var/cache", "/var/lock", "/var/log", "/var/run", "/var/tmp",  # noqa: S108
)  # fmt: skip
# Too much for one application, whoever names it.
_OF_MANY = {"/", "/data", "/home", "/media", "/mnt", "/opt", "/root", "/srv", "/var", "/var/lib", "/var/www"}
_FIRST_OF_PEOPLE = 1000  # accounts below it are of services
_SIDE_FILES = ("-wal", "-shm", "-journal")
_HOMES_OF_DATA = (".", ".config", ".local/share", ".local/state")
_NEAR = 6  # the program's and its script's names stand among the first words
_LOG_ENDINGS = (".log", ".out", ".err")
# A process inherits variables of all kinds: only those count whose names speak of data.
_OF_DATA = re.compile(r"(?i)data|storage|upload|media|attach|spool|library|(?:^|_)(?:files|var|state)_?(?:dir|path|$)")


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """A folder or file outside root that the application uses, and what says so; `is_open`: a process may write to it
    just now; one that `is_shared` is at work for others as well, as far as can be seen.
    """

    path: str
    why: str
    is_folder: bool
    is_open: bool = False
    is_shared: bool = False

    @property
    def is_database(self) -> bool:
        """Whether it is a SQLite database."""
        return not self.is_folder and is_sqlite(Path(self.path))


def named_elsewhere(root: Path, file: str, pairs: Iterable[tuple[str, str]]) -> Iterator[Elsewhere]:
    """Folders and databases outside root that a settings file names, by whole paths or beginning with `../`."""
    for key, value in pairs:
        text = value.removeprefix("file:").strip()
        if len(text) > os.pathconf("/", "PC_PATH_MAX") or not text.startswith(("/", "../")) or "\0" in text:
            continue
        for base in dict.fromkeys((root, (root / file).parent)):
            one = _looked_at(root, base / text, f"{file}: {key} names it")
            if one is not None and (one.is_folder or one.is_database):
                yield one
                break


def settings_named(root: Path, pids: Iterable[int]) -> Iterator[Path]:
    """Files outside root that processes were started with and that set something: alone, or behind an equals sign."""
    seen = set[Path]()
    for pid in pids:
        with contextlib.suppress(psutil.Error, OSError, ValueError):
            process = psutil.Process(pid)
            folder = process.cwd()
            for word in process.cmdline()[1:]:
                for part in (word, word.partition("=")[2]):
                    path = Path(os.path.normpath(Path(folder, part))) if part else root
                    is_fit = "/" in part and path.is_file() and not path.is_relative_to(root) and path not in seen
                    of_machine = [one for one in _OF_THE_MACHINE if one != "/etc" and not within(str(root), [one])]
                    if is_fit and not within(str(path), of_machine) and read_settings(path, is_told=True).pairs:
                        seen.add(path)
                        yield path


def used_elsewhere(root: Path, pids: Iterable[int]) -> Iterator[Elsewhere]:
    """Folders outside root that processes are told of by their words or variables, and files there that they have open
    to write to, as far as this account may see; logs are left out.
    """
    for pid in pids:
        with contextlib.suppress(psutil.Error, OSError, KeyError):  # its account may have no name here, and no home
            process = psutil.Process(pid)
            who = f"process {pid} ({process.name()})"
            told = {
                word.partition("=")[2] if word.startswith("-") and "=" in word else word for word in process.cmdline()
            }
            told |= {value for name, value in process.environ().items() if _OF_DATA.search(name)}
            for text in sorted(one for one in told if one.startswith("/") and len(one) < 500):
                one = _looked_at(root, Path(text), f"{who} was started with it")
                if one is not None and one.is_folder:
                    yield one
            for folder, how in (*_in_its_home(process), *_at_work_in(process)):
                one = _looked_at(root, folder, f"{who} {how}", is_certain=True)
                if one is not None and one.is_folder:
                    yield one
            for opened in process.open_files():
                path = opened.path
                for ending in _SIDE_FILES:
                    path = path.removesuffix(ending)
                if opened.mode == "r" or path.endswith(_LOG_ENDINGS):
                    continue
                one = _looked_at(root, Path(path), f"{who} has it open to write to it", is_open=True, is_certain=True)
                if one is not None and not one.is_folder:
                    yield replace(one, is_shared=not _is_of(root, process))


def is_of_application(root: Path, path: Path) -> bool:
    """Whether what is at a path outside root may be one application's own, and none of the machine's or of many."""
    return _looked_at(root, path, "") is not None


def _is_of(root: Path, process: psutil.Process) -> bool:
    """Whether a process is at work for what lies in root: an interpreter's manager serves whoever asks."""
    places = [process.exe(), process.cwd(), *process.cmdline()]
    return any(within(one.rpartition("=")[2], [str(root)]) for one in places)


def _in_its_home(process: psutil.Process) -> Iterator[tuple[Path, str]]:
    """Folders in the home of a process's account that have the program's name, or that it writes to, be it a log."""
    home = Path(process.environ().get("HOME") or pwd.getpwuid(process.uids().real).pw_dir)
    words = [word for word in process.cmdline()[:_NEAR] if not word.startswith("-")]
    names = {Path(word).stem.lower() for word in words} | {process.name().lower()}
    names = {one for one in names if one.rstrip("0123456789.") not in INTERPRETERS and one not in RUN_OTHERS}
    for above in _HOMES_OF_DATA:
        with contextlib.suppress(OSError):
            found = [name for name in sorted(nolinks.names_in(home / above)) if name.lstrip(".").lower() in names]
            yield from ((home / above / name, "has it, by its name, in the home of its account") for name in found)
    for opened in process.open_files():
        path = Path(opened.path)
        if opened.mode != "r" and path.is_relative_to(home) and path.parent != home:
            inside = path.relative_to(home).parts
            depth = next((len(Path(one).parts) for one in _HOMES_OF_DATA[1:] if path.is_relative_to(home / one)), 0)
            if inside[0].startswith(".") and len(inside) > depth + 1:
                yield home.joinpath(*inside[: depth + 1]), f"writes to {path.name} in it"


def _at_work_in(process: psutil.Process) -> Iterator[tuple[Path, str]]:
    """The folder that a process works in, where it is its account's or the process writes there; of an account that is
    there for this alone, its whole home, since what it writes now and then lies beside.
    """
    folder, account = Path(process.cwd()), process.uids().real
    is_its = account != 0 and folder.stat().st_uid == account
    if is_its or any(one.mode != "r" and Path(one.path).is_relative_to(folder) for one in process.open_files()):
        home = Path(pwd.getpwuid(account).pw_dir)
        is_of_one = is_its and account < _FIRST_OF_PEOPLE and home.stat().st_uid == account
        if is_of_one and folder.is_relative_to(home) and str(home.parent) in _OF_MANY:
            yield home, "works there: it is the home of its account"
        if folder != home:  # a person's has everything else in it, too
            yield folder, "works in it"


def _looked_at(
    root: Path, path: Path, why: str, *, is_open: bool = False, is_certain: bool = False
) -> Elsewhere | None:
    """What is at a path, where it may be the application's own."""
    try:
        there = path.resolve()
        mode = there.stat().st_mode
    except (OSError, ValueError, RuntimeError):
        return None
    text = str(there)
    if not (stat.S_ISDIR(mode) or stat.S_ISREG(mode)) or there.is_relative_to(root) or root.is_relative_to(there):
        return None
    of_machine = [one for one in _OF_THE_MACHINE if within(text, [one]) and not within(str(root), [one])]
    is_hidden = any(part.startswith(".") for part in there.parts)  # what tools keep for an account
    if of_machine or text in _OF_MANY or (is_hidden and not is_certain) or HOME_TOOLS.intersection(there.parts):
        return None
    return Elsewhere(text, why, stat.S_ISDIR(mode), is_open)
