"""Which of all processes mention something: a first, quick look, so that few have to be asked one by one.

Asking each by its properties takes two to ten times as long as reading the few words that the kernel keeps of it, and
this is done several times while users wait. What is said here is only that a text occurs; what it means is asked of
those that remain.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Collection, Iterable, Iterator
from contextvars import ContextVar
from pathlib import Path

import psutil

from yellow_ladder.services.port import MARK

_LISTENS = "0A"  # as the kernel writes this state of a connection
_seen: ContextVar[dict[int, tuple[str, ...]] | None] = ContextVar("_seen", default=None)


@contextlib.contextmanager
def one_look() -> Iterator[None]:
    """Within the block, what each process has open is read once for all questions: they are about one moment."""
    before = _seen.set({})
    try:
        yield
    finally:
        _seen.reset(before)


def opened_by(pid: int) -> Iterable[str]:
    """What a process has open, by name: without asking how each is open, which takes longer than all the rest.

    Raises OSError where this account may not ask, or the process has ended.
    """
    seen = _seen.get()
    if seen is None:
        return _opened_now(pid)
    if pid not in seen:
        seen[pid] = tuple(_opened_now(pid))
    return seen[pid]


def _opened_now(pid: int) -> Iterator[str]:
    folder = f"/proc/{pid}/fd/"
    for one in os.listdir(folder):
        try:
            yield os.readlink(folder + one)
        except OSError:
            continue


def with_mark(mark: str, session: int = -1) -> list[psutil.Process]:
    """Processes that were started with a mark of this program in their environment, or belong to a session; without
    those that have ended but for being waited for.
    """
    wanted = os.fsencode(f"{MARK}={mark}")

    def is_of_it(pid: int) -> bool:
        return os.getsid(pid) == session or wanted in _content(pid, "environ").split(b"\0")

    return list(_asked(is_of_it))


def near(root: Path) -> list[psutil.Process]:
    """Processes that may have to do with what lies below `root`: whose program, folder, words, environment or open
    files mention it, as far as this account may see.
    """
    return list(_asked(lambda pid: _mentions(pid, str(root))))


def having_open(path: Path) -> list[psutil.Process]:
    """Processes that have `path`, or something whose name begins with it, open, as far as this account may see."""
    begin = str(path)
    return list(_asked(lambda pid: any(name.startswith(begin) for name in opened_by(pid))))


def _asked(question: Callable[[int], bool]) -> Iterator[psutil.Process]:
    for pid in psutil.pids():
        # Processes end while they are asked, and some may not be asked by this account.
        try:
            if question(pid):
                process = psutil.Process(pid)
                if process.status() != psutil.STATUS_ZOMBIE:
                    yield process
        except (psutil.Error, OSError):
            continue


def _mentions(pid: int, text: str) -> bool:
    if _is_of_the_kernel(pid):
        return False
    raw = os.fsencode(text)
    for what in ("exe", "cwd"):
        with contextlib.suppress(OSError):
            if text in os.readlink(f"/proc/{pid}/{what}"):
                return True
    for what in ("cmdline", "environ"):
        with contextlib.suppress(OSError):
            if raw in _content(pid, what):
                return True
    return any(text in name for name in opened_by(pid))


def _is_of_the_kernel(pid: int) -> bool:
    """Whether it is a thread of the kernel's, or has ended: neither has a program."""
    try:
        os.readlink(f"/proc/{pid}/exe")
    except FileNotFoundError:
        return True
    except OSError:
        return False
    return False


def _content(pid: int, what: str) -> bytes:
    with open(f"/proc/{pid}/{what}", "rb", buffering=0) as stream:  # noqa: PTH123  once for each of thousands
        return stream.read()


def listeners_on(ports: Collection[int]) -> dict[int, list[int]]:
    """Processes that listen on TCP ports, by port; 0 stands for one that this account may not look at. Ports on which
    nobody listens are left out.
    """
    sockets = {f"socket:[{number}]": port for number, port in _listening(frozenset(ports))}
    found: dict[int, list[int]] = {}
    held = set[str]()
    for pid in psutil.pids() if sockets else ():
        with contextlib.suppress(OSError):
            for name in opened_by(pid):
                if name in sockets:
                    held.add(name)
                    pids_there = found.setdefault(sockets[name], [])
                    if pid not in pids_there:
                        pids_there.append(pid)
    for name in sockets.keys() - held:
        found.setdefault(sockets[name], []).append(0)
    return found


def _listening(ports: Collection[int]) -> Iterator[tuple[int, int]]:
    """The kernel's number of each socket that listens on one of these ports, with the port."""
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        with contextlib.suppress(FileNotFoundError), Path(table).open(encoding="ascii") as lines:
            next(lines, None)
            # There may be thousands of connections, and few that listen.
            for line in (one for one in lines if f" {_LISTENS} " in one):
                fields = line.split()
                port = int(fields[1].rpartition(":")[2], 16)
                if fields[3] == _LISTENS and port in ports:
                    yield int(fields[9]), port
