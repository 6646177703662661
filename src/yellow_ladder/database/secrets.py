"""Passwords of database servers: read where the site file says, given to client programs without a trace.

Never in an argument list, an environment or a file on disk: a client program reads its password from memory that only
it and its parent can open.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.errors import BadInput, Problem


def password_of(address: DatabaseAddress) -> str | None:
    """The password, or None where the engine's own means are to be used; raises BadInput where it cannot be had."""
    where = f"databases.{address.name}"
    if address.password_env:
        if address.password_env not in os.environ:
            text = f"{address.password_env} is not set in the environment; it has the password of `{address.name}`"
            raise BadInput(Problem("no-password", text, f"set it, or correct {where}.password_env", where))
        return os.environ[address.password_env]
    if address.password_file:
        path = Path(address.password_file)
        try:
            if path.stat().st_mode & 0o077:
                text = f"{path}, which has the password of `{address.name}`, can be read by others"
                raise BadInput(Problem("password-open", text, f"chmod 600 {path}", where))
            return path.read_text().rstrip("\r\n")
        except (OSError, UnicodeDecodeError) as fault:
            text = f"the password of `{address.name}` cannot be read from {path}: {fault}"
            raise BadInput(Problem("no-password", text, f"correct {where}.password_file", where)) from fault
    return None


@contextlib.contextmanager
def secret_in_memory(text: str) -> Iterator[tuple[str, int]]:
    """A file in memory with `text`: its path as a child sees it, and the descriptor that the child must be given."""
    # Not on a disk: a file would outlive a kill, and be in the next backup of the machine.
    descriptor = os.memfd_create("secret", os.MFD_CLOEXEC)
    try:
        os.fchmod(descriptor, 0o600)
        os.write(descriptor, text.encode())
        yield f"/proc/self/fd/{descriptor}", descriptor
    finally:
        os.close(descriptor)


def how_to_be_let_in(address: DatabaseAddress, *, is_refused: bool) -> str:
    """What to do where a server does not let us in; `is_refused`: it answers, and does not take account or password."""
    if not is_refused:
        return f"see that the server runs and can be reached at {address.place}"
    key, value = (
        ("password_env", address.password_env) if address.password_env else ("password_file", address.password_file)
    )
    if value:
        return f"correct the password in {value} (databases.{key}), or the account {address.user} in databases.url"
    if address.as_user:
        return f"see that the server lets the account {address.as_user} of this machine in (databases.as_user)"
    if address.socket:
        return (
            "name the password (databases.password_file or password_env); or, where the server goes by accounts of this"
            " machine, the one that the site's database belongs to: databases.as_user"
        )
    return "name the password with databases.password_file or password_env, or another account in databases.url"
