"""Backups elsewhere, in a folder or on a host: verified there, encrypted, brought back; and how long they stay."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import sqlite3
import subprocess
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psutil
import pyrage
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Demo, MakeDemo, need
from yellow_ladder.backup.catalog import Backup
from yellow_ladder.backup.retention import past_their_time
from yellow_ladder.climb.due import due_climbs, what_speaks_against
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.demo.prepare import free_port
from yellow_ladder.demo.proof import picture_of

SSHD = "/usr/sbin/sshd"
NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


@dataclass
class Host:
    """A private SSH server of the tests, with its keys."""

    folder: Path
    port: int
    process: subprocess.Popen[bytes] | None = None

    @property
    def vault(self) -> Path:
        return self.folder / "vault"

    def words(self) -> str:
        user = pwd.getpwuid(os.getuid()).pw_name
        return (
            f'[[backup.copy_to]]\nname = "vault"\nsftp = "sftp://{user}@127.0.0.1:{self.port}{self.vault}"\n'
            f'key_file = "{self.folder}/ours"\nknown_hosts = "{self.folder}/known"\n'
        )

    def start(self) -> None:
        log = self.folder / "log"
        with log.open("ab") as stream:
            argv = [SSHD, "-D", "-e", "-f", str(self.folder / "config")]
            self.process = subprocess.Popen(argv, stderr=stream, start_new_session=True)
        for _ in range(200):
            scan = ["ssh-keyscan", "-p", str(self.port), "127.0.0.1"]
            if subprocess.run(scan, capture_output=True, check=False).stdout:
                return
            time.sleep(0.05)
        raise AssertionError(log.read_text())

    def stop(self) -> None:
        if self.process is not None:
            server = psutil.Process(self.process.pid)
            for one in [*server.children(recursive=True), server]:
                with contextlib.suppress(psutil.NoSuchProcess):  # one that served a call may end by itself just now
                    one.kill()
            self.process.wait()
            self.process = None


@pytest.fixture
def host(tmp_path: Path) -> Iterator[Host]:
    need([] if Path(SSHD).exists() else ["sshd"], "a test of copies by SFTP")
    found = Host(tmp_path / "host", free_port())
    found.vault.mkdir(parents=True)
    for name in ("theirs", "ours"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", found.folder / name], check=True)
    public = (found.folder / "theirs.pub").read_text()
    (found.folder / "known").write_text(f"[127.0.0.1]:{found.port} {public}")
    shutil.copy(found.folder / "ours.pub", found.folder / "authorized")
    Path("/run/sshd").mkdir(exist_ok=True)
    (found.folder / "config").write_text(
        f"Port {found.port}\nListenAddress 127.0.0.1\nHostKey {found.folder}/theirs\nPidFile {found.folder}/pid\n"
        f"AuthorizedKeysFile {found.folder}/authorized\nPasswordAuthentication no\nUsePAM no\nStrictModes no\n"
        "PermitRootLogin yes\nSubsystem sftp internal-sftp\n"
    )
    found.start()
    yield found
    found.stop()


def with_place(demo: Demo, words: str) -> None:
    demo.edit("[maintenance]", f"{words}\n[maintenance]")


def test_a_copy_by_sftp_is_the_backup_and_comes_back(idle: Demo, host: Host) -> None:
    with_place(idle, host.words())
    made = Path(idle.json("backup", "make")["path"])
    far = host.vault / made.name
    assert subprocess.run(["diff", "-r", made, far], check=False).returncode == 0
    assert {path.stat().st_mode & 0o777 for path in far.rglob("*") if path.is_file()} == {0o600}
    assert far.stat().st_mode & 0o777 == 0o700
    assert idle.json("backup", "list", "--at", "vault") == [made.name]
    assert idle.json("backup", "copy") == []  # it lies there already
    shutil.rmtree(made)
    assert idle.json("backup", "fetch", made.name, "--from", "vault")["path"] == str(made)
    assert subprocess.run(["diff", "-r", made, far], check=False).returncode == 0
    assert idle.yl("backup", "test", "--load").code == 0


def test_a_chain_is_copied_with_what_it_builds_upon(idle: Demo, host: Host) -> None:
    first = idle.json("backup", "make")
    with_place(idle, host.words())
    second = idle.json("backup", "make", "--since", "last")
    names = [Path(one["path"]).name for one in (first, second)]
    assert sorted(path.name for path in host.vault.iterdir()) == names
    for one in (first, second):
        shutil.rmtree(one["path"])
    assert idle.yl("backup", "fetch", names[1]).code == 0
    assert idle.yl("backup", "restore", "--into", "there").code == 0


@pytest.mark.parametrize("way", ["phrase", "key"])
def test_an_encrypted_copy_opens_with_the_right_key_alone(idle: Demo, tmp_path: Path, way: str) -> None:
    vault = tmp_path / "vault"
    vault.mkdir()
    words = f'[[backup.copy_to]]\nname = "vault"\nfolder = "{vault}"\n'
    environment = {}
    if way == "phrase":
        words += 'passphrase_env = "QUAY_PHRASE"\n'
        environment = {"QUAY_PHRASE": "fog horn at four"}
    else:
        identity = pyrage.x25519.Identity.generate()
        (tmp_path / "key").write_text(f"# made for the test\n{identity}\n")
        (tmp_path / "key").chmod(0o600)
        words += f'recipient = "{identity.to_public()}"\nidentity_file = "{tmp_path}/key"\n'
    with_place(idle, words)
    made = idle.yl("backup", "make", "--json", **environment)
    assert made.code == 0, made
    backup = Path(made.document["result"]["path"])
    for path in (vault / backup.name).rglob("*"):
        assert b"Sandhavn" not in path.read_bytes()
        assert path.name in ("SHA256SUMS",) or path.read_bytes().startswith(b"age-encryption.org/v1")
    subprocess.run(["sha256sum", "-c", "--quiet", "SHA256SUMS"], cwd=vault / backup.name, check=True)
    kept = backup.with_name("kept-for-comparing")
    backup.rename(kept)
    if way == "phrase":
        wrong = idle.yl("backup", "fetch", backup.name, "--json", QUAY_PHRASE="fog horn at five")
        assert (wrong.code, wrong.problems[0]["code"]) == (1, "wrong-passphrase")
        assert idle.yl("backup", "fetch", backup.name, "--json").problems[0]["code"] == "no-passphrase"
    else:
        right = (tmp_path / "key").read_text()
        (tmp_path / "key").write_text(f"{pyrage.x25519.Identity.generate()}\n")
        wrong = idle.yl("backup", "fetch", backup.name, "--json")
        assert (wrong.code, wrong.problems[0]["code"]) == (1, "copy-damaged")
        (tmp_path / "key").write_text(right)
    assert [path.name for path in backup.parent.iterdir()] == [kept.name]
    assert idle.yl("backup", "fetch", backup.name, **environment).code == 0
    assert subprocess.run(["diff", "-r", backup, kept], check=False).returncode == 0
    victim = max((vault / backup.name).glob("*.age"), key=lambda path: path.stat().st_size)
    content = bytearray(victim.read_bytes())
    content[len(content) // 2] ^= 1
    victim.write_bytes(content)
    shutil.rmtree(backup)
    spoilt = idle.yl("backup", "fetch", backup.name, "--json", **environment)
    assert (spoilt.code, spoilt.problems[0]["code"]) == (1, "copy-damaged")
    assert not backup.exists()


def test_a_far_host_that_goes_away_leaves_nothing_that_looks_whole(idle: Demo, host: Host) -> None:
    (idle.root / "uploads" / "big.raw").write_bytes(os.urandom(60_000_000))
    with_place(idle, host.words())

    def stop() -> None:
        while not list(host.vault.glob("*.unfinished/files.tar.zst")):
            time.sleep(0.01)
        host.stop()

    stopper = threading.Thread(target=stop)
    stopper.start()
    answer = idle.yl("backup", "make", "--json")
    stopper.join()
    assert (answer.code, answer.problems[0]["code"]) == (1, "place-refused")
    assert all(path.name.endswith(".unfinished") for path in host.vault.iterdir())
    assert len(idle.json("backup", "list")) == 1  # here it is whole
    assert idle.yl("backup", "copy", "--json").problems[0]["code"] == "place-refused"
    host.start()
    assert idle.json("backup", "list", "--at", "vault") == []
    assert idle.yl("backup", "copy").code == 0
    assert len(idle.json("backup", "list", "--at", "vault")) == 1
    assert [path.name.endswith(".unfinished") for path in host.vault.iterdir()] == [False]


def test_a_host_that_is_not_who_it_was_is_refused(idle: Demo, host: Host) -> None:
    with_place(idle, host.words())
    known = host.folder / "known"
    right = known.read_text()
    for text, code in ((right.replace("AAAA", "AAAB", 1), "host"), ("", "host-unknown"), (None, "host-unknown")):
        known.unlink() if text is None else known.write_text(text)
        answer = idle.yl("backup", "list", "--at", "vault", "--json")
        assert answer.code == 1
        assert answer.problems[0]["code"].startswith(code)
        assert answer.problems[0]["remedy"]
    known.write_text(right.replace(right.split()[2], (host.folder / "ours.pub").read_text().split()[1]))
    assert idle.yl("backup", "list", "--at", "vault", "--json").problems[0]["code"] == "host-changed"
    known.write_text(right)
    (host.folder / "authorized").write_text("")
    answer = idle.yl("backup", "list", "--at", "vault", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "place-refused")
    assert "does not let us in" in answer.problems[0]["message"]


def test_a_climb_copies_first_when_asked_and_changes_nothing_when_it_cannot(demo: Demo, tmp_path: Path) -> None:
    vault = tmp_path / "vault"
    with_place(demo, f'[[backup.copy_to]]\nname = "vault"\nfolder = "{vault}"\nclimb = "before"\n')
    answer = demo.yl("climb", "--to", "4.0", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "check-stops")
    vault.mkdir()

    def take_away() -> None:
        while not (demo.root / "data" / "closed").exists():
            time.sleep(0.005)
        vault.rmdir()

    thief = threading.Thread(target=take_away)
    thief.start()
    answer = demo.yl("climb", "--to", "4.0", "--yes", "--json")
    thief.join()
    assert (answer.code, answer.problems[0]["code"]) == (1, "climb-failed")
    assert "vault" in answer.problems[1]["message"]
    assert (demo.root / "VERSION").read_text().strip() == "2.4"
    vault.mkdir()
    demo.json("climb", "--to", "4.0", "--yes")
    (copy,) = vault.iterdir()
    assert (
        subprocess.run(["diff", "-r", copy, demo.folder / ".ladder/backups" / copy.name], check=False).returncode == 0
    )


def test_a_copy_after_the_climb_that_fails_is_told_and_ends_nothing(demo: Demo, tmp_path: Path) -> None:
    with_place(demo, f'[[backup.copy_to]]\nname = "vault"\nfolder = "{tmp_path}/not-mounted"\n')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0
    assert "was not copied to vault" in answer.err
    assert "yl backup copy" in answer.err


def test_backups_past_their_time_go_and_the_needed_stay(demo: Demo) -> None:
    with_place(demo, "[backup]\nkeep_count = 2\n")
    demo.json("climb", "--to", "4.0", "--yes")
    names = [Path(demo.json("backup", "make")["path"]).name for _ in range(4)]
    left = [Path(one["path"]).name for one in demo.json("backup", "list")]
    assert left[1:] == names[2:]
    assert left[0].startswith("harbour-2.4-")  # the climb's: going back needs it
    answer = demo.yl("backup", "drop", left[0], "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-needed")
    demo.json("settle", "--yes")
    assert demo.json("backup", "drop", "--due", "--yes")["dropped"] == [left[0]]
    assert demo.json("backup", "drop", names[3], "--yes")["dropped"] == [names[3]]
    answer = demo.yl("backup", "drop", names[2], "--yes", "--json")
    assert "the last good one" in answer.problems[0]["message"]


def some_backup(number: int, days: int, base: int | None) -> Backup:
    made = (NOW - timedelta(days=days)).strftime("%Y-%m-%dT%H:%M:%SZ")
    parts = ("files",) if base is None else (f"../b{base}/files", "files")
    blank = Backup(Path(f"/x/b{number}"), "harbour", "2.4", made, "/x", 0, 0, ())
    return replace(blank, read_back_at=made, parts=parts)


@given(
    ages=st.lists(st.integers(0, 60), min_size=1, max_size=9),
    bases=st.lists(st.none() | st.integers(0, 8), min_size=9, max_size=9),
    count=st.integers(0, 4), days=st.integers(0, 40), needed=st.sets(st.integers(0, 8)),
)  # fmt: skip
def test_what_goes_is_never_needed(
    ages: list[int], bases: list[int | None], count: int, days: int, needed: set[int]
) -> None:
    ages = sorted(ages, reverse=True)
    upon = [base if base is not None and base < number else None for number, base in enumerate(bases)]
    backups = [some_backup(number, age, upon[number]) for number, age in enumerate(ages)]
    going = past_their_time(backups, NOW, count, days, {f"b{n}" for n in needed})
    gone = {one.name for one in going}
    stay = [one for one in backups if one.name not in gone]
    assert backups[-1] in stay
    assert not gone & {f"b{n}" for n in needed}
    assert not any(base in gone for one in stay for base in one.bases)
    for place, one in enumerate(reversed(backups)):
        young = bool(days) and NOW - datetime.fromisoformat(one.made_at.replace("Z", "+00:00")) <= timedelta(days=days)
        assert one in stay or not (place < count or young)
    if not count and not days:
        assert going == []


def test_a_climb_is_accepted_by_itself_only_when_it_is_old_and_well(demo: Demo) -> None:
    with_place(demo, "[settle]\nafter_days = 3\n")
    demo.json("climb", "--to", "4.0", "--yes")
    assert demo.json("settle", "--due") == []
    site = demo.site()
    (climb,) = list_climbs(site)
    ended = climb.standing.ended_at
    assert ended is not None
    assert due_climbs(site, ended + timedelta(days=2, hours=23)) == []
    assert [one.name for one in due_climbs(site, ended + timedelta(days=3))] == [climb.name]
    assert what_speaks_against(climb.plan) == []
    subprocess.run(["kill", (demo.folder / "run/web.pid").read_text().split()[0]], check=True)
    time.sleep(0.5)
    assert any("web does not run" in why for why in what_speaks_against(climb.plan))


def test_what_a_place_says_is_not_trusted(idle: Demo, tmp_path: Path) -> None:
    vault = tmp_path / "vault"
    vault.mkdir()
    with_place(idle, f'[[backup.copy_to]]\nname = "vault"\nfolder = "{vault}"\n')
    backup = Path(idle.json("backup", "make")["path"])
    archive = backup / "files.tar.zst"
    content = archive.read_bytes()
    archive.write_bytes(content[:-9] + bytes(9))
    shutil.rmtree(vault / backup.name)
    answer = idle.yl("backup", "copy", "--json")  # a damaged backup is not passed on as a good one
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-damaged")
    archive.write_bytes(content)
    assert idle.yl("backup", "copy").code == 0
    shutil.rmtree(backup)
    (vault / backup.name / ".profile").write_text("hostile")
    answer = idle.yl("backup", "fetch", backup.name, "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "copy-refused")
    assert idle.yl("backup", "fetch", "../../x", "--json").problems[0]["code"] == "copy-refused"
    (vault / backup.name / ".profile").unlink()
    (vault / backup.name / "extra").write_text("hostile")
    assert idle.yl("backup", "fetch", backup.name, "--json").problems[0]["code"] == "backup-damaged"
    assert list(backup.parent.iterdir()) == []


def test_a_place_that_does_not_answer_is_found_before_the_window(idle: Demo, tmp_path: Path) -> None:
    vault = tmp_path / "vault"
    words = (
        f'[[backup.copy_to]]\nname = "vault"\nfolder = "{vault}"\nclimb = "before"\npassphrase_env = "QUAY_PHRASE"\n'
    )
    with_place(idle, words)

    def finding(**environment: str) -> tuple[str, str]:
        found = idle.yl("check", "--json", **environment).document["result"]["findings"]
        (one,) = [one for one in found if one["check"] == "copies elsewhere"]
        return one["level"], one["saw"]

    level, saw = finding(QUAY_PHRASE="x")
    assert (level, "vault" in saw) == ("stop", True)
    vault.mkdir()
    assert "QUAY_PHRASE is not set" in finding()[1]
    assert finding(QUAY_PHRASE="x")[0] == "ok"


def test_several_databases_of_several_engines_go_up_and_back_together(engine_demo: MakeDemo) -> None:
    demo = engine_demo("postgresql")
    second = sqlite3.connect(demo.folder / "tides.sqlite")
    second.executescript(
        "CREATE TABLE tides (day TEXT PRIMARY KEY, cm INT); INSERT INTO tides VALUES ('2026-11-23', 41)"
    )
    second.close()
    demo.edit("[keep]", '[[databases]]\nname = "tides"\nurl = "sqlite:///tides.sqlite"\n\n[keep]')
    before = picture_of(demo.site())
    found = demo.json("climb", "--to", "4.0", "--yes")
    assert set(found["proof"]["tables"]) == {"main", "tides"}
    connection = sqlite3.connect(demo.folder / "tides.sqlite")
    connection.execute("DELETE FROM tides")
    connection.commit()
    connection.close()
    price = demo.json("descend", "--yes")["price"]["tables"]
    assert [(one["database"], one["deleted"]) for one in price] == [("tides", 1)]
    assert picture_of(demo.site()) == before
    assert demo.yl("backup", "test", "--load").code == 0
