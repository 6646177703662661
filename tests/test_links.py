"""The site's account may exchange files and folders for links at any time: nothing outside the site changes by it."""

from __future__ import annotations

import ast
import contextlib
import errno
import json
import os
import random
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import psutil
import pytest

from tests.conftest import Demo, warm
from tests.crash_driver import chosen
from tests.intruder import ACCOUNT, VICTIMS
from yellow_ladder import nolinks
from yellow_ladder.errors import LadderError
from yellow_ladder.files.copying import copy_entry
from yellow_ladder.files.reading import read_regular
from yellow_ladder.services import services_of

SEED = os.environ.get("YELLOW_LADDER_SEED", "")
IS_WHOLE = bool(os.environ.get("YELLOW_LADDER_SWEEP"))
INSTANTS = 1  # of a usual run, other ones each time; a sweep takes all
PARTS = 5  # of a sweep, for each victim: as one test it would take half an hour, with all other workers done
SOURCE = Path(nolinks.__file__).parent


# In a usual run not every shape is harmed in every place, and half of these places in one run, others in the next.
USUAL = [one for one in VICTIMS if ":" not in one] + ["environment:current", "shared:quaybook"]
USUAL = random.Random(SEED).sample(USUAL, (len(USUAL) + 1) // 2)


def pieces() -> list[tuple[str, str]]:
    """Every victim with the instants that one test tries."""
    if not IS_WHOLE:
        return [(victim, str(INSTANTS)) for victim in USUAL]
    return [(victim, f"{first}/{PARTS}") for victim in VICTIMS for first in range(PARTS)]


@pytest.mark.parametrize(("victim", "choice"), pieces())
def test_a_link_that_takes_a_places_name_at_any_instant_leads_nowhere(victim: str, choice: str) -> None:
    choice = choice if "/" in choice else f"{choice}@{victim}{SEED}"
    words = [victim, choice]
    done = warm().call("tests.intruder:main", words, Path(__file__).parent.parent, dict(os.environ), 7200)
    assert done.code == 0, done.err
    found = json.loads(done.out.splitlines()[-1])
    assert found["ended"] == "descended", "left alone, it goes up and back"
    assert found["points"] > 100
    assert found["tried"] == chosen(found["points"], choice)
    assert found["failures"] == {}, f"of {choice}"


@pytest.fixture(params=["asking the kernel", "step by step"])
def _both_ways(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    if request.param == "step by step":
        monkeypatch.setattr(nolinks._kernel, "_can", False)


@pytest.mark.usefixtures("_both_ways")
def test_no_call_follows_a_link_at_any_depth(tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    (outside / "deep").mkdir(parents=True)
    (outside / "deep" / "file").write_text("root's")
    (outside / "deep" / "file").chmod(0o600)
    (tmp_path / "link").symlink_to(outside)
    (tmp_path / "last").symlink_to(outside / "deep" / "file")
    own = tmp_path / "own"
    own.write_text("own")
    before = [(one, one.stat()) for one in (outside, outside / "deep", outside / "deep" / "file")]
    behind, last = tmp_path / "link" / "deep" / "file", tmp_path / "last"
    calls: list[Callable[[], Any]] = [
        lambda: nolinks.open_file(behind, os.O_WRONLY | os.O_TRUNC),
        lambda: nolinks.open_file(last, os.O_WRONLY | os.O_APPEND),
        lambda: nolinks.open_regular(last),
        lambda: nolinks.status_of(behind),
        lambda: nolinks.names_in(tmp_path / "link"),
        lambda: nolinks.make_folder(tmp_path / "link" / "new"),
        lambda: nolinks.make_folders(tmp_path / "link" / "new" / "deeper"),
        lambda: nolinks.rename(own, tmp_path / "link" / "own"),
        lambda: nolinks.rename(behind, tmp_path / "stolen"),
        lambda: nolinks.exchange_in_one_instant(behind, own),
        lambda: nolinks.make_link(tmp_path / "link" / "planted", "x"),
        lambda: nolinks.make_second_name(tmp_path / "second", behind),
        lambda: nolinks.remove_file(behind),
        lambda: nolinks.remove_all(tmp_path / "link" / "deep"),
        lambda: nolinks.remove_empty_folder(tmp_path / "link" / "deep"),
        lambda: nolinks.set_owner(behind, ACCOUNT, ACCOUNT),
        lambda: nolinks.set_mode(behind, 0o666),
        lambda: nolinks.set_mode(last, 0o666),
        lambda: nolinks.set_times(behind, 0),
        lambda: nolinks.sync_folder(tmp_path / "link"),
        lambda: copy_entry(behind, tmp_path / "copy"),
        lambda: copy_entry(own, tmp_path / "link" / "copy"),
    ]
    for call in calls:
        with pytest.raises(nolinks.LinkInTheWay):
            call()
    assert not nolinks.is_there(behind)
    assert not nolinks.is_folder(tmp_path / "link" / "deep")
    assert [(one, one.stat()) for one, _ in before] == [(one, status) for one, status in before]
    assert sorted(path.name for path in tmp_path.iterdir()) == ["last", "link", "outside", "own"]


@pytest.mark.usefixtures("_both_ways")
def test_without_links_every_call_does_what_it_says(tmp_path: Path) -> None:
    nolinks.make_folders(tmp_path / "a" / "b")
    with os.fdopen(nolinks.open_file(tmp_path / "a" / "b" / "f", os.O_WRONLY | os.O_CREAT, 0o640), "w") as stream:
        stream.write("x")
    nolinks.set_mode(tmp_path / "a" / "b" / "f", 0o604)
    nolinks.set_owner(tmp_path / "a" / "b" / "f", ACCOUNT, -1)
    nolinks.set_times(tmp_path / "a" / "b" / "f", 10**18 + 7)
    status = (tmp_path / "a" / "b" / "f").stat()
    assert (status.st_mode & 0o777, status.st_uid, status.st_mtime_ns) == (0o604, ACCOUNT, 10**18 + 7)
    nolinks.make_link(tmp_path / "a" / "l", "b/f")
    assert nolinks.target_of(tmp_path / "a" / "l") == "b/f"
    copy_entry(tmp_path / "a", tmp_path / "c")
    copied = (tmp_path / "c" / "b" / "f").stat()
    assert (copied.st_mode, copied.st_uid, copied.st_mtime_ns) == (status.st_mode, ACCOUNT, status.st_mtime_ns)
    with pytest.raises(FileExistsError):
        nolinks.make_folder(tmp_path / "a")
    nolinks.rename(tmp_path / "a" / "b", tmp_path / "moved")
    nolinks.remove_all(tmp_path / "a")
    nolinks.remove_all(tmp_path / "a")
    with pytest.raises(FileNotFoundError):
        nolinks.status_of(tmp_path / "a")
    with pytest.raises(OSError, match=os.strerror(errno.ENOTEMPTY)):
        nolinks.remove_empty_folder(tmp_path / "moved")
    assert nolinks.names_in(tmp_path) == ["c", "moved"]


def test_an_administrators_own_links_are_followed_and_others_are_not(tmp_path: Path) -> None:
    (tmp_path / "big").mkdir()
    (tmp_path / "big" / "file").write_text("here")
    (tmp_path / "data").symlink_to("big")
    assert nolinks.trusted(tmp_path / "data" / ".." / "data" / "file") == tmp_path / "big" / "file"
    assert read_regular(tmp_path / "data" / "file") == b"here"
    os.chown(tmp_path / "data", ACCOUNT, ACCOUNT, follow_symlinks=False)
    with pytest.raises(nolinks.LinkInTheWay):
        read_regular(tmp_path / "data" / "file")
    (tmp_path / "circle").symlink_to("circle")
    with pytest.raises(nolinks.LinkInTheWay):
        nolinks.trusted(tmp_path / "circle")


def in_hands_of_the_site(folder: Path) -> Path:
    os.chown(folder, ACCOUNT, ACCOUNT)
    return folder


def planted_link(path: Path, target: Path) -> None:
    path.unlink(missing_ok=True)
    path.symlink_to(target)
    os.chown(path, ACCOUNT, ACCOUNT, follow_symlinks=False)


def test_a_planted_pid_file_has_no_other_process_killed(demo: Demo) -> None:
    run = in_hands_of_the_site(demo.folder / "run")
    bystander = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(99)"])
    try:
        own = (run / "web.pid").read_text()
        (run / "web.pid").write_text(f"{bystander.pid}\n")
        answer = demo.yl("climb", "--yes")
        assert answer.code in (1, 3)
        assert str(bystander.pid) in answer.err
        assert bystander.poll() is None
        (run / "web.pid").write_text(own)
        services_of(demo.site())[0].stop()
        with contextlib.suppress(psutil.NoSuchProcess):  # it has ended; who takes note of that may be a while behind
            psutil.Process(int(own)).wait(10)
        assert not psutil.pid_exists(int(own))
        assert bystander.poll() is None
    finally:
        bystander.kill()
        bystander.wait()


@pytest.mark.parametrize("name", ["web.log", "web.pid", "web.pid.new"])
def test_a_planted_log_or_pid_file_has_nothing_overwritten(demo: Demo, name: str, tmp_path: Path) -> None:
    run = in_hands_of_the_site(demo.folder / "run")
    service = services_of(demo.site())[0]
    service.stop()
    precious = tmp_path / "precious"
    precious.write_text("root's\n")
    planted_link(run / name, precious)
    with contextlib.suppress(LadderError):  # refused, or started with a fresh file: both are well
        services_of(demo.site())[0].start()
    assert precious.read_text() == "root's\n"
    planted_link(run / name, tmp_path / "not-there")
    for one in run.iterdir():
        if one.name == name and one.is_symlink():
            one.unlink()
    assert not (tmp_path / "not-there").exists()


def test_a_flag_that_is_a_link_has_nothing_overwritten(idle: Demo, tmp_path: Path) -> None:
    precious = tmp_path / "precious"
    precious.write_text("")
    data = in_hands_of_the_site(idle.root / "data")
    planted_link(data / "closed", precious)
    answer = idle.yl("climb", "--yes")
    assert precious.read_text() == ""
    assert precious.stat().st_uid == 0
    assert answer.code == 2
    assert "link" in answer.err


def test_settings_that_became_a_link_bring_no_secret_into_the_site(idle: Demo, tmp_path: Path) -> None:
    secret = tmp_path / "secret.ini"
    secret.write_text("[site]\ntoken = only root may read this\n")
    secret.chmod(0o600)
    in_hands_of_the_site(idle.root / "etc")
    planted_link(idle.root / "etc" / "quaybook.ini", secret)
    answer = idle.yl("climb", "--yes")
    assert answer.code in (1, 2)
    assert "etc/quaybook.ini" in answer.err
    for path in idle.folder.rglob("*"):
        if path.is_file() and not path.is_symlink():
            assert b"only root may read this" not in path.read_bytes(), path


ALLOWED = {"nolinks.py", "durable.py"}
# What works on places of the tool's own, of the administrator's, or of a release source; never on what is the site's.
OWN_PLACES = (
    "cli/", "report/", "demo/", "release/", "climb/record/", "checks/", "documents.py", "processes.py", "site/state.py",
    "backup/catalog.py", "backup/copies.py", "backup/places.py", "backup/sealing.py", "backup/sftp.py",
    "backup/make.py", "survey/saved.py", "database/", "migrations/", "files/digests.py", "files/archives/read.py",
    "files/tree.py", "files/looking.py", "files/listing.py", "files/store.py", "climb/works/sitefile.py",
    "climb/planning/sources.py", "site/scratch.py",
)  # fmt: skip
# By an open file, into an archive of the tool's own, into a fresh folder of the administrator's, in the climb's folder.
MEANT = (
    "files/copying.py: os.utime(target", "files/archives/write.py: os.open(path", "backup/restore.py: into.",
    "backup/restore.py: target.", "services/mentions.py: os.listdir(folder)",
    "climb/proving/price.py: whole.", "climb/proving/price.py: begun.", "commands/watched.py: os.open(call.output",
    "settings/change.py: settings.rename(",
)  # fmt: skip
CHANGING = {
    "unlink", "rename", "mkdir", "chmod", "write_bytes", "write_text", "symlink_to", "touch", "rmdir", "hardlink_to",
}  # fmt: skip
OF_OS = {
    "open", "chown", "chmod", "rename", "remove", "link", "mkdir", "makedirs", "replace", "symlink", "unlink", "utime",
    "truncate", "rmdir", "scandir", "listdir",
}  # fmt: skip


def test_only_one_module_touches_a_site_by_paths() -> None:
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        name = str(path.relative_to(SOURCE))
        if name in ALLOWED or name.startswith(OWN_PLACES):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)):
                continue
            of = node.func.value
            is_os = isinstance(of, ast.Name) and of.id == "os" and node.func.attr in OF_OS
            is_shutil = isinstance(of, ast.Name) and of.id == "shutil" and node.func.attr not in ("which", "disk_usage")
            is_path = node.func.attr in CHANGING and not (isinstance(of, ast.Name) and of.id in ("nolinks", "os"))
            if is_os or is_shutil or is_path:
                found.append(f"{name}: {ast.unparse(node)}")
    found = [one for one in found if not one.startswith(MEANT)]
    assert found == []


def test_settings_that_became_a_link_are_a_difference_to_verify(demo: Demo, tmp_path: Path) -> None:
    assert demo.yl("climb", "--yes").code == 0
    secret = tmp_path / "secret.ini"
    secret.write_text("[site]\ntoken = only root may read this\n")
    in_hands_of_the_site(demo.root / "config")
    planted_link(demo.root / "config" / "quaybook.ini", secret)
    answer = demo.yl("verify", "--json")
    assert answer.code == 1, answer.err
    faults = str(answer.document["result"]["faults"])
    assert "config/quaybook.ini" in faults
    assert "only root" not in answer.out
    assert demo.yl("descend", "--yes").code == 0
    assert secret.read_text() == "[site]\ntoken = only root may read this\n"
