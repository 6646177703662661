"""The servers' own client programs are known by what they say of their version."""

from __future__ import annotations

from pathlib import Path

import pytest

from yellow_ladder.database.clients import find_clients


@pytest.mark.parametrize(
    ("said", "version"),
    [
        ("pg_dump (PostgreSQL) 17.11 (Debian 17.11-1.pgdg12+1)", (17, 11)),
        ("pg_dump (PostgreSQL) 16.15", (16, 15)),
        ("mariadb-dump  Ver 10.19 Distrib 10.11.19-MariaDB, for debian-linux-gnu (x86_64)", (10, 11, 19)),
        ("mariadb-dump from 11.8.9-MariaDB, client 10.20 for debian-linux-gnu (x86_64)", (11, 8, 9)),
        ("mariadb from 11.8.9-MariaDB, client 15.2 for debian-linux-gnu (x86_64) using  EditLine wrapper", (11, 8, 9)),
        ("mysqldump  Ver 8.0.39 for Linux on x86_64 (MySQL Community Server - GPL)", (8, 0, 39)),
    ],
)
def test_the_version_is_the_servers_and_not_a_number_of_the_programs_own(
    tmp_path: Path, said: str, version: tuple[int, ...]
) -> None:
    program = tmp_path / "dump"
    program.write_text(f"#!/bin/sh\necho '{said}'\n")
    program.chmod(0o755)
    (found,) = find_clients(("dump",), (), str(tmp_path))
    assert found.version == version
