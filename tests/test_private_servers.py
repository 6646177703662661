"""Servers that the tool starts for demonstrations and trials disturb no other server of the machine."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import psutil

from yellow_ladder.demo.prepare import free_port
from yellow_ladder.demo.servers import PrivateServer, make_server, remove_server


def test_a_server_that_is_removed_leaves_nothing_in_shared_memory() -> None:
    server = make_server("postgresql", free_port())
    mine = [Path(one.path) for one in psutil.Process(server.pid).memory_maps() if one.path.startswith("/dev/shm/")]
    remove_server(server)
    assert mine
    assert not [one for one in mine if one.exists()]


def test_a_mariadb_server_keeps_its_temporary_files_to_itself(servers: Callable[[str], PrivateServer]) -> None:
    first = servers("mariadb")
    place = Path(first.folder) / "tmp"
    assert f"--tmpdir={place}" in psutil.Process(first.pid).cmdline()
    # What another server has open just now, where this one keeps it, and where everybody does.
    mine, shared = (
        place / "#sql-temptable-of-a-query.MAI",
        Path(tempfile.gettempdir(), "#sql-of-somebody-elses-server.MAI"),
    )
    try:
        for path in (mine, shared):
            path.write_text("rows that are being sorted")
        second = make_server("mariadb", free_port())
        try:
            assert mine.exists()
            assert shared.exists()
        finally:
            remove_server(second)
        assert not Path(second.folder).exists()
    finally:
        for path in (mine, shared):
            path.unlink(missing_ok=True)
