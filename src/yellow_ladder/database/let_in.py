"""Who a server sees behind a connection through a socket, where it goes by the accounts of this machine.

Such a server asks the kernel which account opened the socket (SO_PEERCRED of unix(7): the effective account at that
moment), and takes no password. So a connection of `as_user` is opened with that account's number by the one thread that
opens it, and has nothing else of it: everything before and after, files above all, is done with our own rights. Client
programs open connections of their own; they find a socket of ours, and what comes in there is handed on through one
that was opened in the same way.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import platform
import socket
import sys
import tempfile
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from yellow_ladder.accounts import Account, named_account
from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.errors import AnswerNo, BadInput, OwnFault, Problem

# The library's own setresuid() changes every thread of a process, the kernel's that of the calling one alone.
_SETRESUID = {
    "x86_64": 117, "aarch64": 147, "riscv64": 147, "loongarch64": 147, "ppc64le": 164, "ppc64": 164, "s390x": 208
}  # fmt: skip
_libc = ctypes.CDLL(None, use_errno=True)
_UNCHANGED = -1
_SET_DEATH_SIGNAL, _DEATH_SIGNAL, _MAY_BE_READ, _SET_MAY_BE_READ = 1, 2, 3, 4  # prctl(2)
_BLOCK = 256 * 1024
_USUAL_PORT = 5432


def user_of(address: DatabaseAddress) -> str:
    """The server's account: the one of the URL, else that of the machine's account."""
    return address.user or address.as_user


def account_of(address: DatabaseAddress) -> Account | None:
    """As whom connections are to be opened; None where that is who we are. Raises BadInput where it cannot be had."""
    if not address.as_user:
        return None
    where = f"databases.{address.name}"
    account = named_account(address.as_user)
    if account.uid == os.geteuid():
        return None
    if os.geteuid() != 0:
        text = f"connections to the database `{address.name}` are to be those of {address.as_user}, and we are not root"
        raise BadInput(Problem("not-that-account", text, f"run yl as root, or as {address.as_user}", where))
    if platform.machine() not in _SETRESUID or sys.maxsize < 2**32:
        text = f"on a machine of the kind {platform.machine()} no connection can be opened as {address.as_user}"
        remedy = f"let the server take a password of {user_of(address)}: password_file"
        raise BadInput(Problem("not-that-account", text, remedy, where))
    return account


@contextlib.contextmanager
def seen_as(account: Account | None) -> Iterator[None]:
    """Within the block, this thread alone has the account's number; open a socket in it, and do nothing else."""
    if account is None:
        yield
        return
    ours, dies_with, may_be_read = os.geteuid(), ctypes.c_int(), _libc.prctl(_MAY_BE_READ, 0, 0, 0, 0)
    _libc.prctl(_DEATH_SIGNAL, ctypes.byref(dies_with), 0, 0, 0)
    _become(account.uid)
    try:
        yield
    finally:
        _become(ours)
        # With another number, the kernel forgets both.
        _libc.prctl(_SET_DEATH_SIGNAL, dies_with.value, 0, 0, 0)
        _libc.prctl(_SET_MAY_BE_READ, may_be_read & 1, 0, 0, 0)


def _become(uid: int) -> None:
    number = ctypes.c_long(_SETRESUID[platform.machine()])
    done = _libc.syscall(number, ctypes.c_long(_UNCHANGED), ctypes.c_long(uid), ctypes.c_long(_UNCHANGED))
    if done != 0 or os.geteuid() != uid:
        reason = os.strerror(ctypes.get_errno())
        raise OwnFault(Problem("not-that-account", f"this thread cannot have the account number {uid}: {reason}"))


@contextlib.contextmanager
def for_programs(address: DatabaseAddress) -> Iterator[DatabaseAddress]:
    """The address that client programs are to be given: where it says `as_user`, one of a socket that hands on."""
    account = account_of(address)
    named = replace(address, user=user_of(address), as_user="")
    if account is None:
        yield named
        return
    beside = "/run" if os.access("/run", os.W_OK) else None  # the names of sockets are short
    try:
        place = tempfile.TemporaryDirectory(prefix="yl-", dir=beside)
    except OSError as fault:
        text = f"no socket for the programs of the server can be made in {beside or tempfile.gettempdir()}: {fault}"
        raise AnswerNo(Problem("no-socket", text, "make room there", beside or "")) from fault
    with place as folder:
        file = f".s.PGSQL.{address.port or _USUAL_PORT}" if address.engine == "postgresql" else "socket"
        ours = Path(folder) / file
        theirs = str(Path(address.socket) / file) if address.engine == "postgresql" else address.socket
        with _handing_on(str(ours), theirs, account):
            yield replace(named, socket=folder if address.engine == "postgresql" else str(ours))


@contextlib.contextmanager
def _handing_on(ours: str, theirs: str, account: Account) -> Iterator[None]:
    """Within the block, whoever connects to `ours` speaks with `theirs`, as the account."""
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(ours)
        listening.listen()
        thread = threading.Thread(target=_hand_on, args=(listening, theirs, account), daemon=True)
        thread.start()
        try:
            yield
        finally:
            listening.shutdown(socket.SHUT_RDWR)  # which ends its waiting
            thread.join()


def _hand_on(listening: socket.socket, theirs: str, account: Account) -> None:
    """Take what comes in until nothing more can, and hand it on: each direction by itself, since a connection that
    waits for a lock of another one must not keep that other one waiting.
    """
    opened, threads = list[socket.socket](), list[threading.Thread]()
    while True:
        try:
            here, _ = listening.accept()
        except OSError:
            break
        there = socket.socket(socket.AF_UNIX)
        opened += [here, there]
        try:
            with seen_as(account):
                there.connect(theirs)
        except (OSError, OwnFault):
            here.close()  # whoever came in is told so, too
            continue
        for ends in ((here, there), (there, here)):
            threads.append(threading.Thread(target=_copy, args=ends, daemon=True))
            threads[-1].start()
    for one in opened:
        with contextlib.suppress(OSError):
            one.shutdown(socket.SHUT_RDWR)
    for thread in threads:
        thread.join()
    for one in opened:
        one.close()


def _copy(source: socket.socket, target: socket.socket) -> None:
    block = memoryview(bytearray(_BLOCK))
    with contextlib.suppress(OSError):  # either side has gone
        while count := source.recv_into(block):
            target.sendall(block[:count])
    with contextlib.suppress(OSError):
        target.shutdown(socket.SHUT_WR)
