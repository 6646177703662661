"""Whose sockets processes are connected to on this machine, as the kernel tells it (sock_diag(7) of netlink)."""

from __future__ import annotations

import contextlib
import os
import re
import socket
import struct
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass

import psutil

from yellow_ladder.services.mentions import opened_by

_SOCK_DIAG, _BY_FAMILY, _REQUEST_ALL, _ENDS = 4, 20, 0x301, (2, 3)
_NAME, _PEER = 0, 2  # attributes of a socket; asked for by bits of their own
_SHOW_NAME, _SHOW_PEER, _EVERY_STATE = 0x1, 0x4, 0xFFFFFFFF
_HEADER, _ATTRIBUTE, _OWN_BYTES = struct.Struct("=IHHII"), struct.Struct("=HH"), 16
_WITHIN_S, _MOST_BYTES = 5.0, 1 << 17
_A_SOCKET = re.compile(r"^socket:\[(\d+)\]$")


@dataclass(frozen=True, slots=True)
class SocketPeer:
    """A process of the application, the path of the socket that it is connected to, and who serves it there."""

    pid: int
    path: str
    server: psutil.Process


def socket_peers(pids: Iterable[int], servers: Collection[str]) -> Iterator[SocketPeer]:
    """For these processes and those that they have started, the sockets of servers whose programs have such a name."""
    with contextlib.suppress(OSError, struct.error):  # a kernel that does not tell
        at_the_other_end = {peer: (path, own) for own, path, peer in _sockets() if path and peer}
        held = [
            (pid, *at_the_other_end[own]) for pid in _families(pids) for own in _held(pid) if own in at_the_other_end
        ]
        if held:
            owners = dict(_owners(servers, {own for _, _, own in held}))
            yield from (SocketPeer(pid, path, owners[own]) for pid, path, own in held if own in owners)


def _families(pids: Iterable[int]) -> Iterator[int]:
    for pid in pids:
        with contextlib.suppress(psutil.Error):
            process = psutil.Process(pid)
            yield from (one.pid for one in (process, *process.children(recursive=True)))


def _owners(servers: Collection[str], wanted: Collection[int]) -> Iterator[tuple[int, psutil.Process]]:
    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if process.name() in servers:
                yield from ((own, process) for own in _held(process.pid) if own in wanted)


def _held(pid: int) -> set[int]:
    """The numbers of the sockets that a process has open."""
    try:
        return {int(match[1]) for one in opened_by(pid) if (match := _A_SOCKET.match(one))}
    except OSError:
        return set()


def _sockets() -> Iterator[tuple[int, str, int]]:
    """Every socket of the machine that is no network's: its number, its path, and the number at its other end."""
    asked = struct.pack("=BBHIII2I", socket.AF_UNIX, 0, 0, _EVERY_STATE, 0, _SHOW_NAME | _SHOW_PEER, 0, 0)
    with socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, _SOCK_DIAG) as kernel:
        kernel.settimeout(_WITHIN_S)
        kernel.send(_HEADER.pack(_HEADER.size + len(asked), _BY_FAMILY, _REQUEST_ALL, 1, 0) + asked)
        while True:
            told = kernel.recv(_MOST_BYTES)
            while told:
                length, kind, *_ = _HEADER.unpack_from(told)
                if kind in _ENDS:
                    return
                (number,) = struct.unpack_from("=I", told, _HEADER.size + 4)
                found = dict(_attributes(told[_HEADER.size + _OWN_BYTES : length]))
                (peer,) = struct.unpack("=I", found.get(_PEER, bytes(4)))
                yield number, os.fsdecode(found.get(_NAME, b"").rstrip(b"\0")), peer
                told = told[length + -length % 4 :]


def _attributes(told: bytes) -> Iterator[tuple[int, bytes]]:
    while len(told) >= _ATTRIBUTE.size:
        length, kind = _ATTRIBUTE.unpack_from(told)
        yield kind, told[_ATTRIBUTE.size : length]
        told = told[max(length, _ATTRIBUTE.size) + -length % 4 :]
