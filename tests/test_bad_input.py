"""Bad input: one clear message that names the thing, a remedy, the documented exit code, and nothing is touched."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests import archives
from tests.conftest import Demo, MakeDemo, run_program
from tests.warm import Answer
from yellow_ladder.files.entry import Kind
from yellow_ladder.files.manifest import take_manifest, tree_digest

COMMANDS = (("survey",), ("route",), ("check",), ("climb", "--yes"))


def state_of(demo: Demo) -> str:
    """Everything in the site's folder but the state folder, down to modes and owners."""
    manifest = take_manifest(demo.folder, lambda path: path.startswith((".ladder", "run")))
    return tree_digest({path: entry for path, entry in manifest.items() if entry.kind is not Kind.OTHER})


@contextmanager
def untouched(demo: Demo) -> Iterator[None]:
    before = state_of(demo)
    yield
    assert state_of(demo) == before
    assert not list((demo.folder / ".ladder").glob("climbs/*"))
    assert not list((demo.folder / ".ladder").glob("backups/*"))


def refused(answer: Answer, code: int, problem: str, *named: str) -> None:
    """Whether an answer is a refusal that says what it should."""
    assert answer.code == code, answer
    found = [one for one in answer.problems if one["code"] == problem]
    assert found, answer.problems
    assert found[0]["remedy"]
    told = found[0]["message"] + found[0]["where"] + found[0]["remedy"]
    for name in named:
        assert name in told
    assert "Traceback" not in answer.err


def test_no_site_file(tmp_path: Path) -> None:
    for words in COMMANDS:
        answer = run_program(*words, "--json", folder=tmp_path)
        refused(answer, 2, "no-file", str(tmp_path / "ladder.toml"), "--site")
    assert list(tmp_path.iterdir()) == []


SITE_FILES: list[tuple[str, str, str, str, str]] = [
    ("format = 1\n", 'format = 1\nname = "harbour\n', "broken-toml", "line 3, column", ""),
    ('product = "quaybook"', 'product = "quaybook"\nplacment = "exchange"', "unknown-key", "placment", "placement"),
    ("format = 1\n", "format = 1\nsettings = []\n", "unknown-key", "`settings`", "further in: `keep`"),
    ("[[services]]", "[services]", "wrong-value", "begin each with [[services]]", "docs/site-file.md"),
    ('kind = "process"', 'kind = "process"\nnoise = 1', "unknown-key", "services[0].noise", "known here"),
    ('product = "quaybook"', "product = 7", "wrong-value", "product", "docs/site-file.md"),
    ('data = ["data", "uploads"]', 'data = "uploads"', "wrong-value", "keep.data", "docs/site-file.md"),
    ('data = ["data", "uploads"]', 'data = ["../elsewhere"]', "wrong-value", "keep.data[0]", "docs/site-file.md"),
    ('product = "quaybook"\n', "", "missing-key", "product", "docs/site-file.md"),
    ('data = ["data", "uploads"]', 'data = ["data", "uploads"]\ntemplates = ["/a"]', "wrong-value", "keep.templates[0]",
     "docs/site-file.md"),
    ('digests = "required"', 'digests = "required"\nmirror = "b"', "key-not-built", "releases.mirror", ""),
    ('kind = "process"', 'kind = "systemd"', "wrong-value", "services[0].kind", "docs/site-file.md"),
    ('kind = "process"\n', "", "missing-key", "services[0].kind", "docs/site-file.md"),
    ('kind = "process"', 'kind = "unit"', "missing-key", "services[0].unit", "docs/site-file.md"),
    ('kind = "process"', 'kind = "process"\nunit = "web"', "key-of-another-kind", "services[0].unit", "name the other"),
    ('kind = "process"', 'kind = "process"\nstart = ["go"]', "key-of-another-kind", "services[0].start",
     "name the other kind"),
    ("ready = { url", "ready = { tries = 80, url", "unknown-key", "services[0].ready.tries", "known here: url"),
    ('file = "etc/quaybook.ini"', 'file = "etc/quaybook.ini", format = "yml"', "wrong-value",
     "keep.settings[0].format", "docs/site-file.md"),
    ('file = "etc/quaybook.ini"', 'file = "etc/quaybook.ini", encoding = "klingon"', "wrong-value",
     "keep.settings[0].encoding", "docs/site-file.md"),
    ('root = "quaybook"', 'root = "quaybook"\nplacement = "beside"', "wrong-value", "placement", "docs/site-file.md"),
    ('root = "quaybook"', 'root = "quaybook"\nplacement = "pointer"\npointer = { file = "releases/a" }', "wrong-value",
     "among the releases", "docs/site-file.md"),
    ('root = "quaybook"', 'root = "quaybook"\npointer = { link = "now" }', "wrong-value", "[pointer]", "docs/"),
    ('root = "quaybook"', 'root = "quaybook"\nplacement = "pointer"\npointer = { link = "data/now" }', "wrong-value",
     "releases come and go", "docs/site-file.md"),
    ('data = ["data", "uploads"]', 'data = ["data", "uploads"]\nshared_with = ["other"]', "wrong-value", "shared_with",
     "docs/site-file.md"),
    ("[maintenance]", '[[commands]]\nname = "a"\nat = "whenever"\nrun = ["b"]\n[maintenance]', "wrong-value",
     "commands[0].at", "docs/site-file.md"),
    ("[maintenance]", '[[commands]]\nname = "a"\nat = "placed"\nfor = "soon"\nrun = ["b"]\n[maintenance]',
     "wrong-value", "commands[0].for", "docs/site-file.md"),
    ('root = "quaybook"', 'root = "quaybok"', "no-root", "quaybok", "root"),
    ('root = "quaybook"', 'root = "."', "inside-root", "ladder.toml", "move it out"),
    ('root = "quaybook"', 'root = "quaybook"\nowner = "no-such-one"', "unknown-account", "no-such-one", ""),
    ("sqlite:///", "postgresql://", "wrong-value", "databases[0]", "docs/site-file.md"),
    ("sqlite:///", "carrier-pigeon://", "wrong-value", "databases[0]", "docs/site-file.md"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "code", "named", "remedy"), SITE_FILES)
def test_a_wrong_site_file(idle: Demo, old: str, new: str, code: str, named: str, remedy: str) -> None:
    idle.edit(old, new)
    with untouched(idle):
        refused(idle.yl("climb", "--yes", "--json"), 2, code, named, remedy)


def test_all_problems_of_a_site_file_come_together(idle: Demo) -> None:
    idle.edit('product = "quaybook"', 'product = 7\nplacment = "exchange"')
    idle.edit('data = ["data", "uploads"]', 'data = "uploads"')
    found = idle.yl("survey", "--json").problems
    assert {problem["code"] for problem in found} == {"wrong-value", "unknown-key"}
    assert len(found) == 3
    plain = idle.yl("survey")
    assert plain.code == 2
    assert plain.out == ""
    assert plain.err.count("✘") == 3
    assert "→ did you mean `placement`?" in plain.err


def no_database(demo: Demo) -> None:
    demo.database.unlink()


def no_real_database(demo: Demo) -> None:
    demo.database.write_bytes(b"this is no database, whatever its name says" * 100)


def torn_database(demo: Demo) -> None:
    raw = bytearray(demo.database.read_bytes())
    raw[28:32] = (2**30).to_bytes(4, "big")
    raw[4096 * 2 : 4096 * 3] = bytes(4096)
    demo.database.write_bytes(raw[: len(raw) // 2])


@pytest.mark.parametrize("hurt", [no_database, no_real_database, torn_database])
def test_a_database_that_cannot_be_used(idle: Demo, hurt: Callable[[Demo], None]) -> None:
    hurt(idle)
    with untouched(idle):
        answer = idle.yl("climb", "--yes", "--json")
        refused(answer, 1, "check-stops")
        assert str(idle.database) in " ".join(one["message"] for one in answer.problems)
        assert idle.yl("survey").code == 0  # a survey tells what it can


def test_a_locked_database(idle: Demo) -> None:
    hold = (
        "import sqlite3, sys; c = sqlite3.connect(sys.argv[1]); c.execute('BEGIN EXCLUSIVE');"
        " print(1, flush=True); input()"
    )
    holder = subprocess.Popen(
        [sys.executable, "-c", hold, str(idle.database)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    with holder, untouched(idle):
        assert holder.stdout
        assert holder.stdout.readline() == "1\n"
        refused(idle.yl("climb", "--yes", "--json"), 1, "check-stops", "locked", str(idle.database))
        holder.communicate("\n")


def empty_source(demo: Demo) -> None:
    for path in (demo.folder / "releases").iterdir():
        path.unlink()


def no_source(demo: Demo) -> None:
    demo.edit('source = "releases"', 'source = "relases"')


@pytest.mark.parametrize(("hurt", "code"), [(empty_source, "source-empty"), (no_source, "source-unreachable")])
def test_a_release_source_without_releases(idle: Demo, hurt: Callable[[Demo], None], code: str) -> None:
    hurt(idle)
    with untouched(idle):
        for words in COMMANDS[1:]:
            # A check gives every finding in one pass: a source that cannot be read is one of them.
            refused(idle.yl(*words, "--json"), 1 if words == ("check",) else 2, code, "releases.source")
        assert idle.yl("survey").code == 0


def test_a_sheet_in_a_folder_of_its_own_is_told_where_it_belongs(idle: Demo) -> None:
    unpacked = idle.folder / "releases" / "quaybook-5.0"
    unpacked.mkdir()
    (unpacked / "release.toml").write_text("format = 1\n")
    found = [one for one in idle.json("check")["findings"] if str(unpacked) in one["saw"]]
    assert [one["level"] for one in found] == ["warn"]
    assert "NAME.release.toml" in found[0]["remedy"]


@pytest.mark.parametrize("damage", [archives.cut, archives.flip, archives.garbage])
def test_an_archive_that_is_not_as_published(idle: Demo, damage: Callable[[Path], None]) -> None:
    damage(idle.folder / "releases" / "quaybook-3.0.tar.zst")
    with untouched(idle):
        answer = idle.yl("climb", "--yes", "--json")
        assert answer.code == 1
        assert "quaybook-3.0.tar.zst" in " ".join(p["message"] + p["where"] for p in answer.problems) or (
            answer.problems[0]["code"] == "no-route"
        )


def test_a_digest_may_be_required(idle: Demo) -> None:
    (idle.folder / "releases" / "SHA256SUMS").unlink()
    with untouched(idle):
        refused(idle.yl("climb", "--yes", "--json"), 1, "check-stops", "SHA256SUMS")


@pytest.mark.parametrize("what", archives.HOSTILE)
def test_a_hostile_archive_on_the_route(idle: Demo, what: str) -> None:
    idle.edit('digests = "required"', 'digests = "wanted"')
    idle.edit("[maintenance]", '[addons]\nunfit = "carry"\n\n[maintenance]')
    archives.write(idle.folder / "releases" / "quaybook-9.0.tar.zst", *archives.HOSTILE[what])
    for name in ("quaybook-3.0.tar.zst", "quaybook-2.6.tar.zst", "quaybook-4.0.tar.zst"):
        (idle.folder / "releases" / name).unlink()
    with untouched(idle):
        answer = idle.yl("climb", "--to", "9.0", "--yes", "--json")
        refused(answer, 1, "check-stops", "quaybook-9.0.tar.zst is refused")
    assert not Path("/etc/quaybook-was-here").exists()


@pytest.mark.parametrize(
    ("target", "code", "problem", "named"),
    [
        ("7.7", 1, "unknown-target", "2.4, 2.6, 3.0, 4.0"),
        ("2.2", 1, "older-target", "yl descend"),
        ("2.4", 1, "already-there", "2.4"),
        ("four", 2, "usage", "four"),
    ],
)
def test_a_target_that_cannot_be(idle: Demo, target: str, code: int, problem: str, named: str) -> None:
    with untouched(idle):
        for command in ("route", "check", "climb"):
            refused(idle.yl(command, "--to", target, "--json"), code if command != "climb" else 2, problem
                    if command != "climb" or code == 2 else "not-agreed")  # fmt: skip
        refused(idle.yl("climb", "--to", target, "--yes", "--json"), code, problem, named)


def test_a_route_with_no_way_through(idle: Demo) -> None:
    (idle.folder / "releases" / "quaybook-3.0.tar.zst").unlink()
    with untouched(idle):
        answer = idle.yl("climb", "--to", "4.0", "--yes", "--json")
        refused(answer, 1, "no-route", "4.0 can only be reached from >=3.0,<4.0", "2.6")


def test_a_state_folder_that_cannot_be_written(idle: Demo) -> None:
    (idle.folder / "blocked").write_text("a file where the state folder should be")
    idle.edit('root = "quaybook"', 'root = "quaybook"\nstate = "blocked/state"')
    with untouched(idle):
        refused(idle.yl("climb", "--yes", "--json"), 2, "state-not-writable", "blocked/state")


def test_a_left_over_maintenance_flag(idle: Demo) -> None:
    flag = idle.root / "data" / "closed"
    flag.write_text("somebody closed this")
    with untouched(idle):
        refused(idle.yl("climb", "--yes", "--json"), 1, "check-stops", str(flag), f"rm {flag}")
    assert flag.read_text() == "somebody closed this"


def test_not_enough_space(idle: Demo, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=20m", "none", str(small)], check=False, capture_output=True
    )
    if done.returncode:
        pytest.skip("this machine lets nobody mount a small file system")
    try:
        idle.edit('root = "quaybook"', f'root = "quaybook"\nstate = "{small}/state"')
        with untouched(idle):
            refused(idle.yl("climb", "--yes", "--json"), 1, "check-stops", "free", str(small))
        assert idle.yl("check").code == 1
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_core_edits_and_unclaimed_files_stop_until_somebody_decides(idle: Demo) -> None:
    (idle.root / "server.py").write_text((idle.root / "server.py").read_text() + "# a local patch\n")
    (idle.root / "robots.txt").write_text("User-agent: *\n")
    with untouched(idle):
        answer = idle.yl("climb", "--yes", "--json")
        refused(answer, 1, "check-stops")
        told = " ".join(problem["message"] for problem in answer.problems)
        assert "server.py" in told
        assert "robots.txt" in told
    idle.edit("[keep]\n", '[keep]\nedited = "replace"\nunclaimed = "carry"\n')
    idle.json("climb", "--yes")
    assert (idle.root / "robots.txt").read_text() == "User-agent: *\n"
    assert "local patch" not in (idle.root / "server.py").read_text()
    idle.json("descend", "--yes")
    assert "local patch" in (idle.root / "server.py").read_text()


def test_files_of_the_release_that_were_removed_are_told(idle: Demo) -> None:
    (idle.root / "docs" / "README.txt").unlink()
    findings = idle.json("check")["findings"]
    assert any("docs/README.txt" in one["saw"] and one["level"] == "warn" for one in findings)


def test_a_climb_asks_before_it_begins(idle: Demo) -> None:
    with untouched(idle):
        refused(idle.yl("climb", "--json"), 2, "not-agreed", "--yes")
        assert idle.yl("climb", "--nonsense").code == 2
        refused(idle.yl("climb", "--nonsense", "--json"), 2, "usage", "--nonsense")
        refused(idle.yl("climb", "--continue", "--json"), 1, "nothing-to-continue", "yl climb")
        refused(idle.yl("climb", "--continue", "--to", "4.0", "--json"), 2, "usage")
        refused(idle.yl("descend", "--json"), 2, "no-climb", "yl history")
        refused(idle.yl("verify", "--against", "none", "--json"), 2, "no-climb")


def test_a_folder_that_is_in_use_is_no_place_for_a_demo(idle: Demo) -> None:
    with untouched(idle):
        assert run_program("demo", idle.folder, "--prepare-only", folder=idle.folder).code == 2
        assert run_program("demo", idle.root, "--remove", folder=idle.folder).code == 2


def test_looking_changes_nothing(make_demo: MakeDemo) -> None:
    demo = make_demo()
    times = {path: path.lstat().st_mtime_ns for path in demo.root.rglob("*")}
    before = state_of(demo)
    for words in (("survey", "--detail"), ("route",), ("check",)):
        assert demo.yl(*words).code == 0
    assert state_of(demo) == before
    assert {path: path.lstat().st_mtime_ns for path in demo.root.rglob("*")} == times


def test_odd_names_can_be_told(idle: Demo) -> None:
    (idle.root / os.fsdecode(b"caf\xe9 \x1b[31m.txt")).write_text("latin")
    answer = idle.yl("check")
    assert answer.code == 1
    assert "Traceback" not in answer.err
    assert idle.json("check", code=1)["stops"] == 1


def test_what_would_stay_behind_in_the_old_tree_stops_a_climb(idle: Demo) -> None:
    idle.edit('pid_file = "run/web.pid"', 'pid_file = "quaybook/web.pid"')
    with untouched(idle):
        told = " ".join(one["message"] for one in idle.yl("climb", "--yes", "--json").problems)
    assert "the pid file of `web` lies inside root" in told


@pytest.mark.parametrize(("folder", "stops"), [("", 0), ("releases/2.4/", 1), ("current/", 1)])
def test_beside_releases_with_folders_of_their_own_a_pid_file_stays(
    make_demo: MakeDemo, folder: str, stops: int
) -> None:
    demo = make_demo(shape="environment", start=False)
    demo.edit('pid_file = "run/web.pid"', f'pid_file = "quaybook/{folder}web.pid"')
    found = demo.json("check", "--to", "3.0", code=stops)
    told = [one["saw"] for one in found["findings"] if one["level"] == "stop"]
    assert told == ["the pid file of `web` lies inside root and in no data folder"] * stops


def test_a_path_outside_must_be_outside(idle: Demo) -> None:
    idle.edit("[keep]\n", f'[keep]\noutside = ["{idle.root}/server.py"]\n')
    with untouched(idle):
        refused(idle.yl("climb", "--yes", "--json"), 2, "not-outside", "server.py")


def test_a_backup_must_not_hold_itself(idle: Demo) -> None:
    idle.edit("[keep]\n", f'[keep]\noutside = ["{idle.folder}"]\n')
    with untouched(idle):
        refused(idle.yl("backup", "make", "--json"), 2, "not-outside", str(idle.folder))
