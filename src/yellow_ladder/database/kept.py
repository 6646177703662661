"""Connections that are kept between the questions of one piece of work, instead of one made for each question.

Only what reads is kept, and nothing is held between two questions: no transaction, no lock, no moment. Whatever does
more (loads, drops, renames, changes) has the kept ones closed first, since a server refuses some of that while
anybody is connected.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar


class Closable(Protocol):
    """A connection, as far as it matters here."""

    def close(self) -> None:
        """End it."""


_Opened = TypeVar("_Opened", bound=Closable)


@dataclass(slots=True)
class _Keeping:
    """What this process keeps: how many blocks want it, and connections that nobody uses now, by what they are for."""

    blocks: int = 0
    idle: dict[Hashable, list[Any]] = field(default_factory=dict)
    process: int = 0


_keeping = _Keeping()


@contextlib.contextmanager
def connections_kept() -> Iterator[None]:
    """Within the block, connections that were used are kept for the next question; blocks may stand in blocks."""
    _keeping.blocks += 1
    try:
        yield
    finally:
        _keeping.blocks -= 1
        if not _keeping.blocks:
            let_go()


def let_go() -> None:
    """Close what is kept and not in use."""
    idle, _keeping.idle = _keeping.idle, {}
    if _keeping.process != os.getpid():
        return  # inherited from the process that made them, which goes on to use them
    for connections in idle.values():
        for connection in connections:
            with contextlib.suppress(Exception):  # lost already
                connection.close()


@contextlib.contextmanager
def borrowed(
    what: Hashable,
    make: Callable[[], _Opened],
    *,
    rests: Callable[[_Opened], None],
    is_lost: Callable[[_Opened], bool],
) -> Iterator[_Opened]:
    """A connection for one question: a kept one of the same `what` unless it `is_lost`, else one that `make` gives.

    After the block it is brought to rest (`rests`) and kept, or closed where nobody keeps any or the block failed.
    """
    if _keeping.process != os.getpid():
        _keeping.idle, _keeping.process = {}, os.getpid()
    connection: _Opened | None = None
    waiting = _keeping.idle.get(what, [])
    while connection is None:
        try:
            one = waiting.pop()
        except IndexError:  # asked for and not looked at before: another thread may take the last one
            break
        if is_lost(one):
            with contextlib.suppress(Exception):
                one.close()
        else:
            connection = one
    connection = make() if connection is None else connection
    is_good = False
    try:
        yield connection
        is_good = True
    finally:
        if is_good and _keeping.blocks:
            is_good = False
            with contextlib.suppress(Exception):  # lost: the next question makes another
                rests(connection)
                is_good = True
        else:
            is_good = False
        if is_good:
            _keeping.idle.setdefault(what, []).append(connection)
        else:
            connection.close()
