"""A survey sees what is there, disturbs nothing, and reads again only what may have changed."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests import archives
from tests.conftest import Demo, MakeDemo
from yellow_ladder.database.sqlite import look as sqlite_look
from yellow_ladder.demo.troubles import RUNTIME_LATER, install_runtime
from yellow_ladder.files.entry import Manifest
from yellow_ladder.files.manifest import take_manifest
from yellow_ladder.files.tree import Memory, TreeRules, look_at_tree, remember
from yellow_ladder.masking import masked_line

OLD_NS = 1_600_000_000_000_000_000


def picture(demo: Demo) -> dict[str, tuple[int, ...]]:
    """Everything of a site but its state folder: content aside, all that the file system tells."""
    found: dict[str, tuple[int, ...]] = {}
    for path in [demo.folder, *demo.folder.rglob("*")]:
        if ".ladder" not in path.parts:
            status = path.lstat()
            found[str(path)] = (status.st_mode, status.st_uid, status.st_gid, status.st_size, status.st_mtime_ns)
            found[str(path)] += (status.st_ctime_ns, status.st_ino)
    return found


def test_looking_changes_nothing_of_the_site(make_demo: MakeDemo) -> None:
    demo = make_demo(troubled=True)
    (demo.folder / ".ladder").mkdir(mode=0o700)
    before = picture(demo)
    for words in (("survey", "--detail"), ("survey", "--save", "first"), ("survey", "--against", "first"),
                  ("survey", "--thorough"), ("route", "--all"), ("check", "--thorough")):  # fmt: skip
        assert demo.yl(*words).code == (1 if "check" in words else 0)
    assert picture(demo) == before
    assert (demo.folder / ".ladder").stat().st_mode & 0o777 == 0o700


@pytest.mark.parametrize("journal", ["delete", "wal"])
def test_looking_holds_no_lock_that_a_busy_application_would_feel(make_demo: MakeDemo, journal: str) -> None:
    demo = make_demo(start=False, rows=150_000)
    writer = sqlite3.connect(demo.database, timeout=0.5, isolation_level=None, check_same_thread=False)
    writer.execute(f"PRAGMA journal_mode = {journal}")
    writer.execute("PRAGMA synchronous = OFF")
    waits: list[float] = []
    faults: list[str] = []
    done = threading.Event()

    def write() -> None:
        while not done.is_set():
            started = time.monotonic()
            try:
                writer.execute("UPDATE logins SET seen = seen WHERE id = 1")
            except sqlite3.OperationalError as fault:
                faults.append(str(fault))
            waits.append(time.monotonic() - started)
            time.sleep(0.002)

    busy = threading.Thread(target=write)
    busy.start()
    try:
        for words in (("survey",), ("route",), ("check",)):
            assert demo.yl(*words).code == 0
    finally:
        done.set()
        busy.join()
        writer.close()
    assert faults == []
    assert len(waits) > 100


def test_files_are_sorted_by_what_they_mean_for_an_upgrade(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False, troubled=True)
    (demo.root / "docs" / "README.txt").unlink()
    (demo.root / "release.toml").unlink()
    (demo.root / "static" / "style.css").unlink()
    (demo.root / "static" / "style.css").symlink_to("logo.svg")
    (demo.root / "server.py").chmod(0o666)
    os.chown(demo.root / "VERSION", 4321, 4321)
    (demo.root / "robots.txt").write_text("User-agent: *\n")
    (demo.root / "quaybook" / "notes.txt").write_text("ask Ida\n")
    survey = demo.json("survey", "--detail")
    files = survey["files"]
    assert files["edited"] == ["quaybook/queries.py"]
    assert files["missing"] == ["docs/README.txt"], "the sheet is no file of the application"
    assert files["turned"] == {"static/style.css": "is a link to logo.svg now"}
    assert files["leftover"] == {"quaybook/fax.py": "2.2"}
    assert {top: len(paths) for top, paths in files["foreign"].items()} == {"webcam": 3}
    assert files["added"] == ["quaybook/notes.txt", "robots.txt"]
    assert "anybody may write" in files["rights"]["server.py"]
    assert "4321" in files["rights"]["VERSION"]
    assert files["kept"]["keys"] == ["etc/secret.key"]
    assert files["data_files"] == 25
    lines = survey["edits"][0]["lines"]
    assert "+OFFICE_HOURS = (8, 16)" in lines


def test_an_edited_left_over_is_no_left_over(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False, troubled=True)
    (demo.root / "quaybook" / "fax.py").write_text("our own fax\n")
    assert demo.json("survey")["files"]["added"] == ["quaybook/fax.py"]


def test_secrets_in_an_edit_are_not_shown(idle: Demo) -> None:
    application = idle.root / "quaybook" / "application.py"
    secret = "\nDB_PASSWORD = 'hunter2'\nlink = 'mysql://harbour:hunter2@db/quay'\nAPI_KEY: 'hunter2'\n"
    application.write_text(application.read_text() + secret)
    answer = idle.yl("survey", "--detail")
    assert "DB_PASSWORD = •••" in answer.out
    assert "hunter2" not in answer.out + answer.err
    assert "hunter2" not in idle.yl("survey", "--detail", "--json").out


@given(key=st.sampled_from(["password", "db.passwd", "SECRET_KEY", "api-token", "auth_key"]), value=st.text(min_size=8))
def test_whatever_a_secret_is_it_is_masked(key: str, value: str) -> None:
    value = "".join(value.split()) or "hunter2-and-more"
    for line in (f"+{key} = {value}", f"-$conf['{key}'] = '{value}';", f" {key}: {value}", f"+  '{key}' => '{value}',"):
        assert value not in masked_line(line) or value in line.split(value)[0]


@pytest.mark.parametrize(
    ("probe", "told"),
    [
        ('command = ["sleep", "60"]\nwithin_s = 0.3', "did not end within 0.3 s"),
        ('command = ["yes", "rubbish"]', "printed more than"),
        ('command = ["sh", "-c", "echo trouble >&2; exit 3"]', "ended with 3: trouble"),
        ('command = ["no-such-program"]', "cannot run no-such-program"),
        ('command = ["head", "-c", "600", "/dev/urandom"]\npattern = "quaybook (.*)"', "nothing matches the pattern"),
        ('command = ["true"]', "the answer is empty"),
        ('file = "etc/no-such-file"', "No such file"),
        ('file = "etc"', "not a regular file"),
    ],
)  # fmt: skip
def test_a_probe_that_misbehaves_is_a_finding_and_blocks_no_other(idle: Demo, probe: str, told: str) -> None:
    idle.edit("[[databases]]", f'[[versions]]\nof = "disk"\n{probe}\n\n[[databases]]')
    survey = idle.json("survey")
    assert any(told in finding for finding in survey["findings"])
    assert survey["version"] == "2.4"
    assert survey["databases"][0]["tables"]["berths"] == 120
    checked = idle.yl("check", "--json")
    assert "Traceback" not in checked.err
    assert any(told in one["saw"] for one in checked.document["result"]["findings"])


def test_a_program_that_tells_the_version_is_asked_once_by_a_command(idle: Demo) -> None:
    """Some take ten seconds for it, and are the only witness of the disk."""
    log, script = idle.folder / "asked.txt", idle.folder / "tells.sh"
    script.write_text(f"#!/bin/sh\necho asked >> {log}\ncat {idle.root}/VERSION\n")
    script.chmod(0o755)
    idle.edit('file = "VERSION"', f'command = ["{script}"]')
    for words in (["survey"], ["check", "--to", "4.0"], ["route"], ["settings", "--to", "4.0"]):
        log.unlink(missing_ok=True)
        assert idle.yl(*words).code == 0, words
        assert log.read_text().splitlines() == ["asked"], words


def test_witnesses_of_every_kind(make_demo: MakeDemo) -> None:
    demo = make_demo()
    more = """
[[versions]]
of = "disk"
command = ["sh", "-c", "echo Quaybook 2.4 >&2"]
pattern = "Quaybook (\\\\S+)"

[[versions]]
of = "served"
url = "http://127.0.0.1:{port}/about.json"
header = "Content-Type"
pattern = "(json)"

[[versions]]
of = "served"
process = "web"
pattern = "import (sys)"

[[versions]]
of = "schema"
command = ["echo", "24"]

[[versions]]
of = "disk"
part = "kit"
command = ["echo", "1.2"]
holds = ">=2.0,<3"

[[versions]]
of = "disk"
file = "nowhere"
holds = ">=3.0"

[runtime]
name = "script"
command = ["echo", "script 3.9.1 (harbour)"]
packages = ["printf", "Tides==1.4\\\\nropes 2.0\\\\n"]

[[tools]]
name = "paper"
command = ["echo", "paper, version 7.0"]

[[databases]]
"""
    demo.edit("[[databases]]\n", more.replace("{port}", str(demo.prepared.port)))
    survey = demo.json("survey")
    says = [(one["of"], one["part"], one["says"]) for one in survey["versions"]]
    assert says == [
        ("disk", "", "2.4"), ("served", "", "2.4"), ("schema", "", "24"), ("disk", "", "2.4"), ("served", "", "json"),
        ("served", "", "sys"), ("schema", "", "24"), ("disk", "kit", "1.2"),
        ("runtime", "script", "3.9.1"), ("tool", "paper", "7.0"),
    ]  # fmt: skip
    assert survey["parts"] == {"kit": "1.2"}
    assert survey["packages"] == {"tides": "1.4", "ropes": "2.0"}
    service = survey["services"]["web"]
    assert service["state"] == "running"
    assert service["ports"] == [demo.prepared.port]
    assert service["account"]
    assert service["since"].startswith("20")


def test_new_files_under_an_old_service_are_told_with_the_likely_cause(make_demo: MakeDemo) -> None:
    demo = make_demo()
    (demo.root / "VERSION").write_text("2.6\n")
    findings = " ".join(demo.json("survey")["findings"])
    assert "files are at 2.6 and the site serves 2.4: likely the service was not restarted" in findings
    assert "the schema says 24 and release 2.6 has 26: likely files were placed and the database" in findings


def test_what_no_longer_works_in_a_database_is_named(idle: Demo) -> None:
    connection = sqlite3.connect(idle.database)
    connection.executescript(
        "PRAGMA legacy_alter_table = ON; CREATE TABLE lost (id); CREATE VIEW late AS SELECT gone FROM boats;"
        "CREATE TRIGGER kept AFTER INSERT ON boats BEGIN INSERT INTO lost VALUES (new.id); END; DROP TABLE lost;"
        "INSERT INTO documents VALUES (9999, 123456, 'photo', 'x', '2026');"
    )
    connection.close()
    (facts,) = idle.json("survey")["databases"]
    assert facts["broken"] == [
        "the view late: no such column: gone",
        "the trigger kept of boats: no such table: main.lost",
    ]
    assert facts["invalid"] == ["1 rows of documents refer to rows of boats that do not exist"]
    assert (facts["encoding"], facts["kind"], facts["objects"]["view"]) == ("UTF-8", "sqlite", 2)
    warned = [one["saw"] for one in idle.json("check")["findings"] if one["check"] == "database objects"]
    assert len(warned) == 3


def test_without_the_package_an_earlier_record_serves(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False)
    demo.yl("survey", "--save", "spring")
    (demo.folder / "releases" / "quaybook-2.4.tar.zst").unlink()
    (demo.root / "quaybook" / "store.py").write_text("edited\n")
    survey = demo.json("survey")
    assert survey["files"]["edited"] == ["quaybook/store.py"]
    assert "held against the survey spring" in " ".join(survey["findings"])
    assert not survey["files"]["release_known"]
    assert demo.yl("check").code == 1  # an old record does not tell what came with the release


def test_after_a_climb_what_it_put_in_place_serves_as_a_record(idle: Demo) -> None:
    assert idle.yl("climb", "--to", "2.6", "--yes").code == 0
    (idle.folder / "releases" / "quaybook-2.6.tar.zst").unlink()
    (idle.root / "quaybook" / "store.py").write_text("edited\n")
    survey = idle.json("survey")
    assert survey["files"]["edited"] == ["quaybook/store.py"]
    assert "what the climb" in " ".join(survey["findings"])


def test_what_changed_between_two_days(idle: Demo) -> None:
    assert idle.yl("survey", "--save", "monday").code == 0
    assert "nothing has changed" in idle.yl("survey", "--against", "monday").out
    settings = idle.root / "etc" / "quaybook.ini"
    settings.write_text(settings.read_text().replace("language = en", "language = sv\npassword = hunter2"))
    connection = sqlite3.connect(idle.database)
    connection.executescript("CREATE TABLE extras (id); DELETE FROM notices WHERE id < 4;")
    connection.close()
    (idle.root / "uploads" / "01" / "new.txt").write_text("new")
    upload = next((idle.root / "uploads" / "02").iterdir())
    upload.write_bytes(upload.read_bytes() + b"more")
    (idle.root / "VERSION").chmod(0o600)
    changes = idle.json("survey", "--against", "monday")["changes"]
    assert ["etc/quaybook.ini", "harbour.language", "en", "sv"] in changes["settings"]
    assert [key for _, key, _, _ in changes["settings"]] == ["harbour.language", "harbour.password"]
    assert ["main.notices", 40, 37] in changes["rows"]
    assert changes["schema"] == ["new table main.extras"]
    assert changes["files"]["added"] == ["uploads/01/new.txt"]
    assert changes["files"]["content"] == ["etc/quaybook.ini", str(upload.relative_to(idle.root))]
    assert changes["files"]["rights"] == ["VERSION"]
    assert idle.yl("survey", "--save", "tuesday").code == 0
    assert all("hunter2" not in path.read_text() for path in (idle.folder / ".ladder/surveys").rglob("*.json*"))


def test_names_of_surveys_are_held_to(idle: Demo) -> None:
    idle.yl("survey", "--save", "one")
    for name, code in (("one", "name-taken"), ("../x", "bad-name"), (".hidden", "bad-name")):
        answer = idle.yl("survey", "--save", name, "--json")
        assert (answer.code, answer.problems[0]["code"]) == (2, code)
    answer = idle.yl("survey", "--against", "two", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (2, "no-survey")
    assert "one" in answer.problems[0]["remedy"]
    (idle.folder / ".ladder/surveys/one/files.jsonl").write_text("{")
    assert idle.yl("survey", "--against", "one", "--json").problems[0]["code"] == "survey-damaged"


def test_since_before_a_climb_shows_what_the_climb_did(idle: Demo) -> None:
    idle.yl("climb", "--yes")
    name = next((idle.folder / ".ladder/climbs").iterdir()).name
    changes = idle.json("survey", "--against", name)["changes"]
    assert ["the site", "2.4", "4.0"] in changes["versions"]
    assert "new table main.addresses" in changes["schema"]
    assert "config/quaybook.ini" in changes["files"]["added"]
    assert all(not path.startswith("uploads/") for paths in changes["files"].values() for path in paths)


TABLES = st.sampled_from([
    "CREATE TABLE t (a, b)",
    "CREATE TABLE t (a INTEGER PRIMARY KEY, b)",
    "CREATE TABLE t (a PRIMARY KEY, b) WITHOUT ROWID",
    "CREATE TABLE t (a, b, PRIMARY KEY (b, a)) WITHOUT ROWID",
    "CREATE TABLE t (a, rowid)",
])  # fmt: skip


@given(create=TABLES, keys=st.sets(st.integers(-(2**62), 2**62) | st.integers(-9, 9), max_size=30))
def test_rows_counted_in_pieces_are_the_rows_there_are(create: str, keys: set[int]) -> None:
    connection = sqlite3.connect(":memory:")
    connection.execute(create)
    connection.executemany("INSERT INTO t VALUES (?, ?)", [(key, key % 3) for key in keys])
    original, sqlite_look._PIECE_ROWS = sqlite_look._PIECE_ROWS, 7
    try:
        assert sqlite_look.count_gently(connection, "t") == len(keys)
    finally:
        sqlite_look._PIECE_ROWS = original
        connection.close()


def test_a_long_line_is_masked_in_no_time() -> None:
    started = time.monotonic()
    for line in ("a.b " * 60_000, "'a' " * 60_000 + "password", "/*" * 60_000, "x=" * 60_000):
        masked_line(line)
    assert time.monotonic() - started < 2


# ---- what is remembered of files


def grown(folder: Path, folders: int = 40, files: int = 5) -> Path:
    for number in range(folders):
        below = folder / f"m{number % 7}" / f"s{number}"
        below.mkdir(parents=True)
        for file in range(files):
            (below / f"f{file}").write_text(f"{number} {file}\n")
    return folder


def looked(root: Path, memory_folder: Path, rules: TreeRules = TreeRules()) -> tuple[Manifest, bool]:  # noqa: B008
    memory = Memory.load(memory_folder, "key")
    tree = look_at_tree(root, rules, memory)
    manifest, same = tree.manifest(), tree.is_as_remembered
    tree.began_ns += 5_000_000_000  # as if the look were later: what was made just now counts as settled
    remember(tree, "result", {})
    memory.close()
    return manifest, same


def test_two_processes_see_what_one_sees(tmp_path: Path) -> None:
    root = grown(tmp_path / "tree")
    (root / "link").symlink_to("m1")
    (root / "empty").mkdir()
    (root / os.fsdecode(b"caf\xe9\n")).write_text("odd")
    os.link(root / "m0/s0/f0", root / "m0/s0/same")
    manifest, _ = looked(root, tmp_path / "memory")
    expected = take_manifest(root)
    assert manifest == expected
    assert list(manifest) == list(expected)
    again, same = looked(root, tmp_path / "memory")
    assert same
    assert again == expected


@pytest.mark.parametrize("change", ["write", "same size and time", "rename", "new", "gone", "chmod", "folder"])
def test_whatever_changes_is_seen_on_the_second_look(change: str, tmp_path: Path) -> None:
    root = grown(tmp_path / "tree")
    looked(root, tmp_path / "memory")
    file = root / "m3/s3/f2"
    time.sleep(0.02)
    if change == "write":
        file.write_text("longer than it was\n")
    elif change == "same size and time":
        status = file.stat()
        file.write_text("X 2\n")
        os.utime(file, ns=(status.st_atime_ns, status.st_mtime_ns))
    elif change == "rename":
        file.rename(file.with_name("other"))
    elif change == "new":
        (root / "m3/fresh").write_text("new")
    elif change == "gone":
        file.unlink()
    elif change == "chmod":
        file.chmod(0o600)
    else:
        shutil.rmtree(file.parent)
    manifest, same = looked(root, tmp_path / "memory")
    assert not same
    assert manifest == take_manifest(root)


def test_a_file_that_changed_just_now_is_not_believed_from_memory(tmp_path: Path) -> None:
    root = grown(tmp_path / "tree", folders=1)
    memory = Memory.load(tmp_path / "memory", "key")
    remember(look_at_tree(root, TreeRules(), memory), "result", {})
    index = json.loads((tmp_path / "memory/index.json").read_bytes())
    assert all(signature == "" for path, (signature, _, _) in index["folders"].items() if path.count("/"))
    assert index["result_key"] == ""
    again = Memory.load(tmp_path / "memory", "key")
    assert again.rows("m0/s0")
    assert again.known("m0/s0") == {}
    again.close()


def test_large_answers_and_many_unsettled_folders_keep_nobody_waiting(tmp_path: Path) -> None:
    root = grown(tmp_path / "tree", folders=120, files=150)
    for _ in range(3):  # each look finds every folder remembered and none settled
        memory = Memory.load(tmp_path / "memory", "key")
        tree = look_at_tree(root, TreeRules(), memory)
        tree.began_ns = max(one.newest_ns for one in tree.folders.values())
        remember(tree, "result", {})
        assert len(tree.manifest()) == len(take_manifest(root, with_digests=False))
        memory.close()


@pytest.mark.parametrize("hurt", [b"", b"{", b'{"format": 1}', b"[]", b"\xff\xfe"])
@pytest.mark.parametrize("name", ["index.json", "entries.jsonl"])
def test_a_damaged_memory_is_as_good_as_none(hurt: bytes, name: str, tmp_path: Path) -> None:
    root = grown(tmp_path / "tree", folders=8)
    looked(root, tmp_path / "memory")
    (tmp_path / "memory" / name).write_bytes(hurt)
    manifest, _ = looked(root, tmp_path / "memory")
    assert manifest == take_manifest(root)


def test_a_helper_that_dies_costs_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root = grown(tmp_path / "tree", folders=200)
    broken = tmp_path / "python"
    broken.write_text("#!/bin/sh\nexit 1\n")
    broken.chmod(0o755)
    monkeypatch.setattr(sys, "executable", str(broken))
    tree = look_at_tree(root, TreeRules(), Memory(None, ""))
    assert tree.manifest() == take_manifest(root)


def test_what_cannot_be_read_is_told_and_stops_a_climb(idle: Demo) -> None:
    if os.geteuid() != 0:
        pytest.skip("only root can make a file that an account may not read, and ask as that account")
    closed = idle.root / "quaybook" / "store.py"
    closed.chmod(0)
    subprocess.run(["chown", "-R", "nobody", str(idle.folder)], check=True)
    os.chown(closed, 0, 0)
    for parent in idle.folder.parents:
        if parent != Path("/") and not parent.stat().st_mode & 0o001:
            parent.chmod(parent.stat().st_mode | 0o011)
    program = Path(sys.executable).parent / "yl"
    done = subprocess.run(
        ["setpriv", "--reuid=nobody", "--clear-groups", str(program), "check", "--json"],
        cwd=idle.folder, capture_output=True, text=True, check=False, env={**os.environ, "HOME": "/tmp"},
    )  # fmt: skip
    if not done.stdout:
        pytest.skip(f"the account nobody may not run this program here: {done.stderr[:80]}")
    findings = json.loads(done.stdout)["result"]["findings"]
    assert any(one["check"] == "unreadable files" and "store.py" in one["saw"] for one in findings)


def test_add_ons_say_what_they_work_with(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False, troubled=True)
    (demo.root / "addons" / "ropes").mkdir()
    (demo.root / "addons" / "ropes" / "addon.toml").write_text('version = "1"\nworks_with = "most of them"\n')
    (demo.root / "addons" / "silent").mkdir()
    (demo.root / "addons" / "silent" / "a.txt").write_text("x")
    found = {one["path"]: one for one in demo.json("survey")["addons"]}
    assert found["addons/berth-map"]["origin"] == "third-party"
    assert (found["addons/berth-map"]["newer"], found["addons/berth-map"]["newer_works_with"]) == ("2.0", ">=3.0,<5")
    assert found["addons/notice-board"]["origin"] == "bundled"
    assert "should be a range" in found["addons/ropes"]["trouble"]
    install_runtime(demo.folder, RUNTIME_LATER)
    saw = [one["saw"] for one in demo.json("check", code=1)["findings"] if one["check"] == "add-ons"]
    assert any("berth-map 1.3 works with >=2.2,<3, the climb ends at" in one for one in saw)
    assert any("silent does not say" in one for one in saw)


def test_a_release_source_that_is_broken_in_part_does_not_end_a_survey(idle: Demo) -> None:
    archives.write(idle.folder / "releases" / "quaybook-5.0.tar.zst", sheet=b"format = [")
    archives.garbage(idle.folder / "releases" / "quaybook-2.4.tar.zst")
    survey = idle.json("survey")
    assert survey["version"] == "2.4"
    assert not survey["files"]["release_known"]
    assert any("quaybook-2.4.tar.zst" in one for one in survey["findings"])
    assert any("quaybook-5.0.tar.zst" in one for one in survey["findings"])


def test_a_page_that_nobody_serves_is_told_in_words(idle: Demo) -> None:
    told = " ".join(idle.yl("survey").out.split())
    assert "says nothing: nobody listens there" in told
    assert "Errno" not in told
