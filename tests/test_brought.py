"""What a release ships into a data folder: what is new comes, what nobody changed is renewed, all else stays."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import run_program
from tests.crash_driver import CALLS, Killer, in_child, planned
from yellow_ladder.climb.conduct import Conditions, begin, descend, go_on
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.site.site import load_site

RELEASES: dict[str, dict[str, str]] = {
    "2.4": {"pages/help.txt": "help of 2.4", "pages/start.txt": "begin", ".htaccess": "deny", "pages/tour.txt": "t",
            "cache/none": "", "media/none": "", "quay.log": "shipped", "old/none": ""},
    "2.6": {"pages/help.txt": "help of 2.6", "pages/start.txt": "begin anew", ".htaccess": "deny, and more",
            "pages/tour.txt": "t2", "cache/none": "x", "media/none": "", "log/none": "", "log/deep/none": "",
            "pages/new.txt": "new", "quay.log": "again", "old/more": "", "pages/theirs.txt": "shipped"},
    "3.0": {"pages/help.txt": "help of 3.0", "pages/start.txt": "begin anew", ".htaccess": "deny, and more",
            "pages/tour.txt": "t3", "media/none": "", "log/none": "of 3.0", "log/deep/none": "",
            "pages/new.txt": "new", "queue/none": ""},
}  # fmt: skip
# What users have made of it by then.
SITE = {"pages/start.txt": "our own beginning", "pages/theirs.txt": "written here", "media/quay.jpg": "a picture"}
GONE = ("pages/tour.txt", "old")
KEPT = {"pages/start.txt": "our own beginning", "pages/theirs.txt": "written here", "media/quay.jpg": "a picture",
        "media/none": "", "quay.log": "shipped", "cache/none": ""}  # fmt: skip
AFTER = {
    "2.6": {**KEPT, "pages/help.txt": "help of 2.6", ".htaccess": "deny, and more", "pages/new.txt": "new",
            "log/none": "", "log/deep/none": ""},
    "3.0": {**KEPT, "pages/help.txt": "help of 3.0", ".htaccess": "deny, and more", "pages/new.txt": "new",
            "log/none": "of 3.0", "log/deep/none": "", "queue/none": ""},
}  # fmt: skip
TEXT = """format = 1
name = "quaybook"
product = "quaybook"
root = "app"
placement = "{placement}"

[releases]
source = "releases"

[[versions]]
of = "disk"
file = "VERSION"

[keep]
data = ["data"]
logs = ["data/quay.log"]
caches = ["data/cache"]
"""


def contents(folder: Path) -> dict[str, str]:
    return {str(one.relative_to(folder)): one.read_text() for one in folder.rglob("*") if one.is_file()}


@pytest.fixture(params=["exchange", "overlay"])
def harbour(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    """A site of files alone, and its releases; the data belong to another account where that can be."""
    (tmp_path / "releases").mkdir()
    for version, shipped in RELEASES.items():
        files = {"VERSION": version, "index.php": f"<?php // {version}", **{f"data/{k}": v for k, v in shipped.items()}}
        files |= {"setup/run.php": "<?php", "setup/deep/style.css": "a", "install.php": "<?php"}
        lowest = {"2.4": "1.0", "3.0": "2.6"}.get(version, "2.4")
        of = f'[release]\nproduct = "quaybook"\nversion = "{version}"\n[reach]\nfrom = ">={lowest},<{version}"\n'
        sheet = f"format = 1\n{of}"
        entries = [entry(name, content=text.encode()) for name, text in files.items()]
        write(tmp_path / "releases" / f"quaybook-{version}.tar.zst", *entries, sheet=sheet.encode())
        for name, text in files.items() if version == "2.4" else ():
            (tmp_path / "app" / name).parent.mkdir(parents=True, exist_ok=True)
            (tmp_path / "app" / name).write_text(text)
    data = tmp_path / "app" / "data"
    for name, text in SITE.items():
        (data / name).write_text(text)
    (data / GONE[0]).unlink()
    shutil.rmtree(data / GONE[1])
    if os.geteuid() == 0:
        for one in (data, *data.rglob("*")):
            os.chown(one, 33, 33)
    (tmp_path / "ladder.toml").write_text(TEXT.format(placement=request.param))
    return tmp_path


def with_data_moved(harbour: Path) -> None:
    """The release 3.0 has its data in another folder."""
    files = {"VERSION": "3.0", "index.php": "<?php // 3.0", **{f"var/store/{k}": v for k, v in RELEASES["3.0"].items()}}
    sheet = (
        'format = 1\n[release]\nproduct = "quaybook"\nversion = "3.0"\n[reach]\nfrom = ">=2.6,<3.0"\n'
        '[files]\nmoved = [{ from = "data", to = "var/store" },'
        ' { from = "data/quay.log", to = "var/store/quay.log" }]\n'
    )
    entries = [entry(name, content=text.encode()) for name, text in files.items()]
    write(harbour / "releases" / "quaybook-3.0.tar.zst", *entries, sheet=sheet.encode())


@pytest.mark.parametrize("harbour", ["exchange"], indirect=True)
def test_what_comes_follows_a_data_folder_that_a_release_moves(harbour: Path) -> None:
    with_data_moved(harbour)
    before = contents(harbour / "app" / "data")
    climbed(harbour, "3.0")
    assert not (harbour / "app" / "data").exists()
    assert contents(harbour / "app" / "var" / "store") == AFTER["3.0"]
    assert run_program("verify", "--json", folder=harbour).document["result"]["whole"] is True
    price = run_program("descend", "--price", "--json", folder=harbour).document["result"]["price"]
    assert price["files"] == []
    assert run_program("descend", "--yes", folder=harbour).code == 0
    assert contents(harbour / "app" / "data") == before


def ended(work: Callable[[], object]) -> bool:
    """Whether something ended by itself, in a process of its own."""

    def do() -> int:
        work()
        return 1

    return in_child(do) == (1, 0)


def checked(harbour: Path, version: str) -> list[dict[str, str]]:
    found: list[dict[str, str]] = run_program("check", "--to", version, "--json", folder=harbour).document["result"][
        "findings"
    ]
    return found


def climbed(harbour: Path, version: str) -> Mapping[str, object]:
    answer = run_program("climb", "--to", version, "--yes", "--json", folder=harbour)
    assert answer.code == 0, answer.out
    found: Mapping[str, object] = answer.document["result"]
    return found


@pytest.mark.parametrize("version", ["2.6", "3.0"])
def test_new_files_come_unchanged_ones_are_renewed_and_what_is_the_sites_stays(harbour: Path, version: str) -> None:
    data = harbour / "app" / "data"
    before = contents(data)
    seen = " ".join(one["saw"] for one in checked(harbour, version) if one["check"] == "data of releases")
    assert "changed here and by the releases: data/pages/start.txt" in seen
    assert "will come into data folders: data/log/deep/none, data/log/none, data/pages/new.txt" in seen
    assert "2 files in data folders that nobody changed here will be renewed: data/.htaccess, data/pages/help" in seen
    result = climbed(harbour, version)
    assert contents(data) == AFTER[version]
    assert "brought into data folders" in json.dumps(result)
    if os.geteuid() == 0:
        assert {one.stat().st_uid for one in data.rglob("*")} == {33}, "they are whose their folder is"
    said = run_program("verify", "--json", folder=harbour).document["result"]
    assert (said["whole"], said["written_since"]) == (True, [])
    price = run_program("descend", "--price", "--json", folder=harbour).document["result"]["price"]
    assert price["files"] == [], "nobody has written them since"
    (data / "pages" / "new.txt").write_text("made ours")
    price = run_program("descend", "--price", "--json", folder=harbour).document["result"]["price"]
    assert price["files"] == ["data/pages/new.txt"]
    assert run_program("descend", "--yes", folder=harbour).code == 0
    assert contents(data) == before
    assert not list(harbour.rglob("brought-?"))


def test_a_data_folder_that_is_not_there_or_is_a_link_breaks_nothing(harbour: Path) -> None:
    """The site file may name a folder before it is there; a link is carried, and what it leads to is left alone."""
    shutil.move(harbour / "app" / "data", harbour / "far")
    (harbour / "app" / "data").symlink_to(harbour / "far")
    before = contents(harbour / "far")
    text = (harbour / "ladder.toml").read_text().replace('data = ["data"]', 'data = ["data", "setup"]')
    (harbour / "ladder.toml").write_text(text.replace('logs = ["data/quay.log"]\ncaches = ["data/cache"]\n', ""))
    shutil.rmtree(harbour / "app" / "setup")
    climbed(harbour, "3.0")
    assert contents(harbour / "far") == before
    assert run_program("descend", "--yes", folder=harbour).code == 0
    assert (harbour / "app" / "data").is_symlink()


def test_a_link_where_a_release_ships_a_file_is_left_and_leads_nowhere(harbour: Path) -> None:
    (harbour / "app" / "data" / "pages" / "help.txt").unlink()
    (harbour / "app" / "data" / "pages" / "help.txt").symlink_to(harbour / "ladder.toml")
    text = (harbour / "ladder.toml").read_text()
    assert "help.txt" in " ".join(one["saw"] for one in checked(harbour, "2.6") if one["check"] == "data of releases")
    climbed(harbour, "2.6")
    assert (harbour / "app" / "data" / "pages" / "help.txt").is_symlink()
    assert (harbour / "ladder.toml").read_text() == text


@pytest.mark.parametrize("harbour", ["exchange"], indirect=True)
def test_without_the_installed_package_new_folders_come_and_nothing_is_renewed(harbour: Path) -> None:
    """A climb has recorded which files are the release's; what it shipped into data folders, nobody knows any more."""
    climbed(harbour, "2.6")
    assert run_program("settle", "--yes", folder=harbour).code == 0
    (harbour / "releases" / "quaybook-2.6.tar.zst").unlink()
    climbed(harbour, "3.0")
    assert contents(harbour / "app" / "data") == {**AFTER["2.6"], "queue/none": ""}


def test_an_installer_that_was_removed_on_purpose_stays_away(harbour: Path) -> None:
    """Whoever calls it could set the site up anew; the page of instructions says to remove it after each upgrade."""
    shutil.rmtree(harbour / "app" / "setup")
    (harbour / "app" / "install.php").unlink()
    proposed = run_program("init", "app", "--site", "other.toml", folder=harbour)
    assert proposed.code == 0, proposed.err
    line = '# left_out = ["install.php", "setup"]'
    assert line in (harbour / "other.toml").read_text()
    told = " ".join(one.get("remedy", "") for one in checked(harbour, "2.6"))
    assert 'left_out = ["install.php", "setup/deep/style.css", "setup/run.php"] in [keep]' in told
    text = (harbour / "ladder.toml").read_text()
    (harbour / "ladder.toml").write_text(text.replace("[keep]", f"[keep]\n{line[2:]}"))
    assert "install.php" not in str(checked(harbour, "2.6"))
    for version in ("2.6", "3.0"):
        climbed(harbour, version)
        assert not (harbour / "app" / "install.php").exists()
        assert not (harbour / "app" / "setup").exists()
        assert run_program("verify", "--json", folder=harbour).document["result"]["whole"] is True
        assert run_program("settle", "--yes", folder=harbour).code == 0
        assert not list(harbour.rglob("brought-?")), "what did not come is kept for nobody"
    behind = re.sub(r'placement = ".*"', 'placement = "pointer"', text).replace(
        "[keep]", '[keep]\nleft_out = ["setup"]'
    )
    (harbour / "ladder.toml").write_text(behind)
    assert "a command can remove it" in run_program("survey", folder=harbour).err


def test_a_fault_in_what_was_brought_is_found(harbour: Path) -> None:
    climbed(harbour, "2.6")
    (harbour / "app" / "data" / "log" / "none").unlink()
    said = run_program("verify", "--json", folder=harbour).document["result"]
    assert "data/log/none: is missing" in str(said["faults"])


def test_killed_at_any_call_while_it_comes_it_goes_on_and_back(harbour: Path) -> None:
    """Between renames of what is brought, as between any others."""
    (harbour / "pristine").mkdir()
    shutil.copytree(harbour / "app", harbour / "pristine" / "app")
    before = contents(harbour / "app" / "data")

    def climb(at: int) -> int:
        killer = Killer(at)
        plan = planned(load_site(harbour / "ladder.toml"))
        killer.watch_calls()
        begin(plan, Conditions())
        killer.armed = False
        return killer.seen

    points, _ = in_child(lambda: climb(-1))
    assert "os.rename" in CALLS
    chosen = range(points) if os.environ.get("YELLOW_LADDER_SWEEP") else sorted({points * n // 5 for n in range(1, 5)})
    for number, at in enumerate(chosen):
        shutil.rmtree(harbour / "app")
        shutil.rmtree(harbour / ".ladder")
        shutil.copytree(harbour / "pristine" / "app", harbour / "app")
        assert in_child(lambda at=at: climb(at))[1] == signal.SIGKILL  # type: ignore[misc]
        site = load_site(harbour / "ladder.toml", under_way=True)
        if not list((harbour / ".ladder" / "climbs").glob("*/plan.json")):
            continue
        if number % 2:
            assert ended(lambda: go_on(find_climb(site, None).plan, Conditions()))  # noqa: B023
            assert contents(harbour / "app" / "data") == AFTER["3.0"], at
            site = load_site(harbour / "ladder.toml", under_way=True)
        assert ended(lambda: descend(find_climb(site, None).plan, Conditions()))  # noqa: B023
        assert contents(harbour / "app" / "data") == before, at
