"""Servers that go by the accounts of the machine: who opens a socket is who the server lets in."""

from __future__ import annotations

import contextlib
import ctypes
import os
import re
import signal
import socket
import threading
import uuid
from dataclasses import replace
from pathlib import Path

import pytest

from tests.conftest import OF_THE_MACHINE, Demo, MakeDemo
from tests.engines import SERVERS, ask, server_of
from tests.test_accounts import OBJECTS, goes_up_and_back
from yellow_ladder.accounts import named_account
from yellow_ladder.database import open_database
from yellow_ladder.database.let_in import for_programs, seen_as
from yellow_ladder.errors import AnswerNo, BadInput

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="another account's connections are root's to open")
PEER = f"as_user = {OF_THE_MACHINE!r}"


def through_a_socket(demo: Demo, keys: str = PEER) -> Demo:
    """The site's database is another account's of this machine, who needs no password, and has no more rights than
    the documents ask for.
    """
    server, name = server_of(demo), demo.site().addresses()[0].database
    Path(server.folder).chmod(0o711)
    if server.engine == "postgresql":
        (known,) = ask(demo, f"SELECT count(*) FROM pg_roles WHERE rolname = '{OF_THE_MACHINE}'")
        ask(
            demo,
            *([] if known[0] else [f"CREATE ROLE {OF_THE_MACHINE} LOGIN CREATEDB"]),
            f"ALTER DATABASE {name} OWNER TO {OF_THE_MACHINE}",
            *(f"ALTER {kind} {which} OWNER TO {OF_THE_MACHINE}" for kind, which in ask(demo, OBJECTS)),
        )
        url = f"postgresql://:{server.port}/{name}?socket={server.folder}"
    else:
        who = f"{OF_THE_MACHINE}@localhost"
        ask(
            demo,
            f"CREATE USER IF NOT EXISTS {who} IDENTIFIED VIA unix_socket",
            f"GRANT ALL ON `{name}%`.* TO {who}",
            f"GRANT RELOAD, SET USER ON *.* TO {who}",
        )
        url = f"mariadb:///{name}?socket={server.folder}/socket"
    text = demo.prepared.file.read_text()
    text = re.sub(r'(?m)^url = "(postgresql|mariadb):.*$', f'url = "{url}"', text)
    demo.prepared.file.write_text(re.sub(r"(?m)^password_file = .*$", keys, text))
    return demo


def words_of(demo: Demo) -> str:
    """All that a check says, on one line."""
    told = demo.yl("check")
    return " ".join((told.out + told.err).split())


@pytest.mark.parametrize("engine", SERVERS)
def test_a_climb_goes_up_and_back_as_an_account_of_the_machine(engine: str, engine_demo: MakeDemo) -> None:
    demo = through_a_socket(engine_demo(engine, start=False))
    goes_up_and_back(demo)
    kept = [path for path in (demo.folder / ".ladder").rglob("*") if not path.is_symlink()]
    assert kept
    assert {path.stat().st_uid for path in kept} == {0}, "nothing of a backup is the account's"


@pytest.mark.parametrize("engine", SERVERS)
def test_who_is_not_let_in_is_told_of_the_account(engine: str, engine_demo: MakeDemo) -> None:
    demo = through_a_socket(engine_demo(engine, start=False), keys="")
    told = words_of(demo)  # as root, whom neither server knows
    assert "databases.as_user" in told
    if engine == "postgresql":
        assert 'role "root" does not exist' in told
        demo.edit("postgresql://:", f"postgresql://{OF_THE_MACHINE}@:")
        told = words_of(demo)
        assert "authentication failed" in told
        assert "databases.as_user" in told


def test_an_account_that_cannot_be_had_is_named(engine_demo: MakeDemo) -> None:
    demo = through_a_socket(engine_demo("postgresql", start=False), keys='as_user = "harbourmaster"')
    assert "account harbourmaster is not known here" in words_of(demo)
    demo.edit('as_user = "harbourmaster"', PEER)
    name = demo.site().addresses()[0].database
    demo.edit(f"/{name}?socket={server_of(demo).folder}", f"/{name}")
    assert "has `as_user` and no socket" in words_of(demo)


def test_one_thread_alone_is_seen_as_the_account_and_all_is_as_before_afterwards(tmp_path: Path) -> None:
    libc, dies_with = ctypes.CDLL(None), ctypes.c_int()
    libc.prctl(1, signal.SIGUSR1, 0, 0, 0)
    elsewhere, seen, account = threading.Event(), list[int](), named_account(OF_THE_MACHINE)

    def look() -> None:
        elsewhere.wait(10)
        seen.append(os.geteuid())

    other = threading.Thread(target=look)
    other.start()
    try:
        with contextlib.suppress(ConnectionError), seen_as(account):
            assert os.geteuid() == account.uid
            elsewhere.set()
            other.join()
            raise ConnectionError
        libc.prctl(2, ctypes.byref(dies_with), 0, 0, 0)
    finally:
        libc.prctl(1, 0, 0, 0, 0)
    assert seen == [0]
    assert dies_with.value == signal.SIGUSR1
    assert os.geteuid() == 0
    (tmp_path / "afterwards").touch()
    assert (tmp_path / "afterwards").stat().st_uid == 0


def test_what_is_handed_on_to_a_server_neither_waits_for_another_connection_nor_outlives_it(
    engine_demo: MakeDemo,
) -> None:
    demo = through_a_socket(engine_demo("postgresql", start=False))
    address = demo.site().addresses()[0]
    with for_programs(address) as given:
        folder = Path(given.socket)
        assert folder.stat().st_mode & 0o077 == 0, "nobody else finds the way in"
        (door,) = folder.iterdir()
        with socket.socket(socket.AF_UNIX) as waiting, socket.socket(socket.AF_UNIX) as asking:
            waiting.connect(str(door))  # says nothing
            asking.connect(str(door))
            asking.sendall((8).to_bytes(4, "big") + (80877103).to_bytes(4, "big"))  # may it be encrypted?
            asking.settimeout(10)
            assert asking.recv(1) == b"N"
    assert not folder.exists()
    gone = replace(address, socket=str(folder), name=uuid.uuid4().hex)
    with pytest.raises((AnswerNo, BadInput)):
        open_database(gone).tables()
