"""A site's SQLite file is worked on with its owner's rights: what lies beside it turns root against nothing."""

from __future__ import annotations

import contextlib
import grp
import json
import os
import pwd
import re
import resource
import shutil
import struct
import sys
from pathlib import Path

import psutil
import pytest
from pydantic import ValidationError

from tests.conftest import Demo, MakeDemo
from tests.intruder import ACCOUNT, hand_over
from yellow_ladder import whose
from yellow_ladder.climb.works.door import close_site, open_site
from yellow_ladder.database import DatabaseAddress, open_database
from yellow_ladder.database.port import LedgerEntry
from yellow_ladder.errors import LadderError
from yellow_ladder.release.commands import ReleaseCommand
from yellow_ladder.services import services_of

MAGIC = bytes.fromhex("d9d505f920a163d7")
ENTRY = LedgerEntry("one", "1.0", "0" * 64, "2026-11-26T00:00:00Z")


def plant_journal(database: Path, names: Path) -> None:
    """A rollback journal as a crash would leave it, of a transaction over several files that `names` tells of."""
    header = database.read_bytes()[:100]
    page_bytes = int.from_bytes(header[16:18], "big") or 65536
    pages = int.from_bytes(header[28:32], "big")
    name = os.fsencode(names)
    head = struct.pack(">8sIIIII", MAGIC, 0, 1, pages, 512, page_bytes).ljust(512, b"\0")
    checksum = sum(byte if byte < 128 else byte - 256 for byte in name) & 0xFFFFFFFF
    lock_page = 0x40000000 // page_bytes + 1
    tail = struct.pack(">I", lock_page) + name + struct.pack(">II", len(name), checksum) + MAGIC
    journal = database.with_name(database.name + "-journal")
    journal.write_bytes(head + tail)
    os.chown(journal, ACCOUNT, ACCOUNT)


@pytest.fixture
def precious(tmp_path: Path) -> Path:
    folder = tmp_path / "of-root"
    folder.mkdir(mode=0o755)
    (folder / "precious").write_text("root's\n")
    return folder / "precious"


def test_a_planted_journal_has_nothing_removed_during_a_climb(idle: Demo, precious: Path) -> None:
    hand_over(idle.root)
    plant_journal(idle.database, precious)
    answers = [
        idle.yl("survey"),
        idle.yl("check"),
        idle.yl("climb", "--yes"),
        idle.yl("verify"),
        idle.yl("backup", "make"),
    ]
    assert precious.exists(), [answer.err for answer in answers]


def test_a_journal_planted_just_before_a_migration_has_nothing_removed(idle: Demo, precious: Path) -> None:
    hand_over(idle.root)
    plant_journal(idle.database, precious)
    database = open_database(DatabaseAddress("main", "sqlite", idle.database))
    with contextlib.suppress(LadderError):
        database.apply(["CREATE TABLE one (a)"], ENTRY)
    assert precious.exists()


@pytest.mark.parametrize("ending", ["-wal", "-shm", "-journal"])
def test_a_companion_that_is_a_link_has_nothing_written(idle: Demo, precious: Path, ending: str) -> None:
    before = precious.stat()
    hand_over(idle.root)
    companion = idle.database.with_name(idle.database.name + ending)
    companion.symlink_to(precious)
    os.chown(companion, ACCOUNT, ACCOUNT, follow_symlinks=False)
    idle.yl("climb", "--yes")
    assert precious.read_text() == "root's\n"
    assert (precious.stat().st_uid, precious.stat().st_mtime_ns) == (before.st_uid, before.st_mtime_ns)


def test_what_is_made_beside_the_file_belongs_to_its_owner(idle: Demo) -> None:
    hand_over(idle.root)
    database = open_database(DatabaseAddress("main", "sqlite", idle.database))
    database.apply(["CREATE TABLE one (a)", "PRAGMA journal_mode"], ENTRY)
    made = [path for path in idle.database.parent.iterdir() if path.stat().st_uid != ACCOUNT]
    assert made == []
    assert idle.yl("climb", "--yes").code == 0
    assert idle.database.stat().st_uid == ACCOUNT
    assert idle.yl("descend", "--yes").code == 0
    assert idle.database.stat().st_uid == ACCOUNT


def test_between_two_calls_the_tool_has_its_own_rights(idle: Demo, tmp_path: Path) -> None:
    hand_over(idle.root)
    private = tmp_path / "private"
    private.mkdir(mode=0o700)
    database = open_database(DatabaseAddress("main", "sqlite", idle.database))
    table = next(one for one in database.tables() if one.name == "bookings")
    groups = os.getgroups()
    for number, _ in enumerate(database.read_rows(table, table.columns, None)):
        (private / f"chunk-{number}").touch()
        assert (private / f"chunk-{number}").stat().st_uid == 0
    assert list(private.iterdir())
    assert os.getgroups() == groups


def own_program(folder: Path, name: str, text: str) -> Path:
    program = folder / name
    program.write_text(f"#!/bin/sh\n{text}\n")
    program.chmod(0o755)
    os.chown(program, ACCOUNT, ACCOUNT)
    return program


WHO = 'echo "1.0 $(id -u) $(id -G | tr " " ,) $(umask) ${QUAYBOOK_SECRET:-none} $HOME"'


def test_a_program_that_another_account_may_write_is_run_as_that_account(idle: Demo) -> None:
    hand_over(idle.root)
    program = own_program(idle.root, "which-version", WHO)
    lines = [
        "[[tools]]", 'name = "clock"', f'command = ["{program}"]', 'pattern = "1.0 (.*)"',
        "[[tools]]", 'name = "script"', f'command = ["sh", "{program}"]', 'pattern = "1.0 (.*)"',
        "[[tools]]", 'name = "meant"', f'command = ["{program}"]', 'pattern = "1.0 (.*)"', 'as_user = "root"',
        "[[tools]]", 'name = "named"', f'command = ["{program}"]', 'pattern = "1.0 (.*)"', 'as_user = "nobody"',
    ]  # fmt: skip
    idle.prepared.file.write_text(idle.prepared.file.read_text() + "\n" + "\n".join(lines) + "\n")
    survey = json.loads(idle.yl("survey", "--json", QUAYBOOK_SECRET="sesame").out)["result"]
    said = {one["part"]: one["says"].split() for one in survey["versions"] if one["part"]}
    assert said["clock"] == [str(ACCOUNT), str(ACCOUNT), "0022", "none", "/"]
    assert said["script"][0] == str(ACCOUNT)
    assert said["meant"][0] == "0"
    assert said["named"][0] == str(pwd.getpwnam("nobody").pw_uid)
    found = [one for one in idle.json("check", code=1)["findings"] if one["check"] == "what root runs"]
    (warned,) = [one["saw"] for one in found if one["level"] == "warn"]
    assert "tools.meant runs as root, as the site file says" in warned
    assert str(program) in warned
    (fine,) = [one["saw"] for one in found if one["level"] == "ok"]
    assert f"tools.clock runs as {ACCOUNT}" in fine


def test_a_service_in_a_folder_of_the_sites_account_runs_as_that_account(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    hand_over(demo.root)
    # That account must be able to come to the program; the tests' own may lie where it cannot.
    demo.edit(sys.executable, shutil.which("python3", path=os.defpath) or sys.executable)
    service = services_of(demo.site())[0]
    service.start()
    assert service.about().account in (str(ACCOUNT), "")
    pid = int((demo.folder / "run" / "web.pid").read_text())
    process = psutil.Process(pid)
    assert (process.uids().real, process.gids().real) == (ACCOUNT, ACCOUNT)
    assert process.environ().keys() <= {
        "PATH",
        "PWD",
        "YELLOW_LADDER_SERVICE",
        "LANG",
        "LANGUAGE",
        "TZ",
        "HOME",
        "USER",
        "LOGNAME",
        "SHELL",
        "LC_ALL",
        "LC_CTYPE",
    }
    service.stop()
    assert not psutil.pid_exists(pid)


LIMITS = "limits = { open_files = 777, processes = 4321, locked_memory_mb = 3 }"


def test_a_service_has_the_groups_and_limits_that_are_given_to_it_and_yl_keeps_its_own(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    demo.edit(sys.executable, shutil.which("python3", path=os.defpath) or sys.executable)
    hand_over(demo.root)
    demo.edit('kind = "process"', f'kind = "process"\ngroups = ["audio", "dialout"]\n{LIMITS}')
    before = [resource.getrlimit(which) for which in (resource.RLIMIT_NOFILE, resource.RLIMIT_NPROC)]
    service = services_of(demo.site())[0]
    service.start()
    process = psutil.Process(int((demo.folder / "run" / "web.pid").read_text()))
    status = dict(line.split(":", 1) for line in Path(f"/proc/{process.pid}/status").read_text().splitlines())
    wanted = {ACCOUNT, *(grp.getgrnam(name).gr_gid for name in ("audio", "dialout"))}
    assert set(map(int, status["Groups"].split())) == wanted
    limits = Path(f"/proc/{process.pid}/limits").read_text()
    for name, most in (("open files", 777), ("processes", 4321), ("locked memory", 3 * 1024**2)):
        assert re.search(rf"^Max {name} +{most} +{most} ", limits, re.MULTILINE)
    service.stop()
    assert [resource.getrlimit(which) for which in (resource.RLIMIT_NOFILE, resource.RLIMIT_NPROC)] == before


def test_a_command_of_the_site_and_a_service_of_commands_have_their_groups(idle: Demo) -> None:
    hand_over(idle.root)
    told = idle.folder / "told"
    told.mkdir()
    told.chmod(0o777)
    words = [
        "[[services]]", 'name = "crane"', 'kind = "commands"', 'as_user = "nobody"', 'groups = ["dialout"]', LIMITS,
        f"""start = ["/bin/sh", "-c", "id -Gn > {told}/service; ulimit -n >> {told}/service; touch {told}/up"]""",
        f'stop = ["/bin/rm", "-f", "{told}/up"]', f'status = ["/usr/bin/test", "-e", "{told}/up"]', "",
        "[[commands]]", 'name = "tell"', 'at = "before-close"', 'as_user = "nobody"', 'groups = ["audio"]',
        f"""run = ["/bin/sh", "-c", "id -Gn > {told}/command"]""", 'folder = "/"', "", "[maintenance]",
    ]  # fmt: skip
    idle.edit("[maintenance]", "\n".join(words))
    (crane,) = [one for one in services_of(idle.site()) if one.name == "crane"]
    crane.start()
    assert (told / "service").read_text().split() == ["nogroup", "dialout", "777"]
    crane.stop()
    assert idle.yl("climb", "--to", "2.6", "--yes").code == 0
    assert (told / "command").read_text().split() == ["nogroup", "audio"]
    idle.edit('groups = ["audio"]', 'groups = ["harbour-pilots"]')
    (found,) = [one for one in idle.json("check", code=1)["findings"] if "harbour-pilots" in one["saw"]]
    assert found["level"] == "stop"
    idle.edit('as_user = "nobody"\ngroups = ["harbour-pilots"]', 'as_user = "root"\ngroups = ["audio"]')
    (found,) = [
        one for one in idle.json("check", code=1)["findings"] if "cannot be given the group audio" in one["saw"]
    ]
    assert "it runs as root" in found["saw"]
    assert found["remedy"] == "name its account: as_user"
    idle.edit('groups = ["dialout"]', 'groups = ["harbour-pilots"]')
    found = [one for one in idle.json("check", code=1)["findings"] if one["check"] == "services"]
    idle.edit('groups = ["harbour-pilots"]', "")
    assert any("harbour-pilots is not known" in one["saw"] and one["level"] == "stop" for one in found)


def test_a_release_gives_no_groups_to_its_commands_and_a_limit_must_be_one(idle: Demo) -> None:
    idle.edit('kind = "process"', 'kind = "process"\nlimits = { open_files = 3 }')
    refused = idle.yl("check")
    assert refused.code != 0
    assert "open_files" in refused.err
    with pytest.raises(ValidationError, match="groups"):
        ReleaseCommand.model_validate({"name": "a", "at": "placed", "run": ["true"], "groups": ["audio"]})


def test_a_maintenance_command_of_the_site_does_not_run_as_root(idle: Demo) -> None:
    hand_over(idle.root)
    seen = idle.root / "data" / "seen"
    program = own_program(idle.root, "door", f'id -u >> "{seen}"')
    idle.edit('flag = "quaybook/data/closed"', f'close = ["{program}"]\nopen = ["{program}"]')
    close_site(idle.site())
    open_site(idle.site())
    assert seen.read_text().split() == [str(ACCOUNT)] * 2


def test_a_state_folder_that_could_be_exchanged_is_refused(idle: Demo) -> None:
    os.chown(idle.folder, ACCOUNT, ACCOUNT)
    for parent in idle.folder.parents:
        if parent != Path("/"):
            parent.chmod(parent.stat().st_mode | 0o011)
    findings = idle.json("check", code=1)["findings"]
    (told,) = [one for one in findings if one["check"] == "state folder"]
    assert (told["level"], str(idle.folder) in told["saw"]) == ("stop", True)
    answer = idle.yl("backup", "make")
    assert answer.code == 2
    assert "chown root" in answer.err or "root own" in answer.err


def test_devices_and_capabilities_among_the_data_are_told(idle: Demo) -> None:
    os.mknod(idle.root / "uploads" / "disk", 0o600 | 0o060000, os.makedev(7, 0))
    program = own_program(idle.root / "addons", "helper", "true")
    capability = bytes.fromhex("0100000200040000000000000000000000000000")  # cap_net_bind_service
    os.setxattr(program, "security.capability", capability)
    told = [one["saw"] for one in idle.json("check")["findings"] if one["check"] == "set-id files"]
    assert [one for one in told if "1 device" in one and "uploads/disk" in one]
    assert [one for one in told if "capabilities" in one and "addons/helper" in one]


def test_a_group_that_nobody_is_in_writes_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    place = tmp_path / "shared"
    place.mkdir()
    for parent in (place, *place.parents):
        if parent != Path("/tmp"):
            os.chown(parent, 0, parent.stat().st_gid)
    os.chown(place, 0, 54321)
    place.chmod(0o775)
    whose._has_members.cache_clear()
    assert whose.is_ours_alone(place / "file")
    somebody = pwd.struct_passwd(("tally", "x", 4321, 54321, "", "/", "/bin/false"))
    monkeypatch.setattr(pwd, "getpwall", lambda: [somebody])
    whose._has_members.cache_clear()
    assert not whose.is_ours_alone(place / "file")
    whose._has_members.cache_clear()
