"""A whole climb through the built program, and everything that must hold on the way."""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import stat
import subprocess
import time
import tomllib
import urllib.error
import urllib.parse
import urllib.request
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import psutil
import pytest

from tests.conftest import MEMORY, PROGRAM, Demo, MakeDemo
from tests.crash_driver import planned
from tests.test_crash import kill_at
from yellow_ladder.climb.conduct import Conditions, begin, go_on, look_only
from yellow_ladder.climb.planning import prepare
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.planning.staging import Carried, _as_they_were
from yellow_ladder.climb.proving.basis import faults_in
from yellow_ladder.climb.proving.proof import load_proof, parted
from yellow_ladder.climb.record.catalog import find_climb, list_climbs
from yellow_ladder.climb.record.journal import Instant
from yellow_ladder.climb.record.plan import freeze
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.climb.running.run import run_steps, utc_now
from yellow_ladder.climb.steps.up import steps_up
from yellow_ladder.demo.prepare import start_site, stop_site
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.errors import AnswerNo, StoppedPartWay
from yellow_ladder.events import Event, StepDone, silent
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.services import services_of
from yellow_ladder.services.port import ServiceState


def about(demo: Demo) -> dict[str, object]:
    with urllib.request.urlopen(demo.prepared.url + "about.json", timeout=5) as answer:
        found: dict[str, object] = json.load(answer)
        return found


def book(demo: Demo) -> None:
    form = urllib.parse.urlencode({"boat": 1, "berth": 2, "arrive": "2026-12-01", "depart": "2026-12-03"}).encode()
    with urllib.request.urlopen(demo.prepared.url + "bookings", data=form, timeout=5) as answer:
        assert answer.status == 201


def rights(root: Path) -> dict[str, tuple[int, int, int]]:
    found = {"": root.lstat(), **{str(path.relative_to(root)): path.lstat() for path in root.rglob("*")}}
    return {path: (facts.st_uid, facts.st_gid, stat.S_IMODE(facts.st_mode)) for path, facts in found.items()}


def test_the_whole_way_up_and_back(demo: Demo) -> None:
    before, rights_before = picture_of(demo.site()), rights(demo.root)
    site_text = demo.prepared.file.read_text()

    result = demo.yl_anew("climb", "--to", "4.0", "--yes", "--json").document["result"]

    assert result["state"] == "climbed"
    assert result["proof"]["whole"] is True
    assert about(demo) == {
        "product": "quaybook", "version": "4.0", "schema": "40", "bookings": 60, "tokens_readable": True,
    }  # fmt: skip
    tables = {one["table"]: one["verdict"] for one in result["proof"]["tables"]["main"]}
    assert tables["addresses"] == tables["bookings"] == "as declared"
    assert tables["invoices"] == tables["owners"] == "same"
    assert tables["logins"] == "not compared"
    assert demo.json("verify")["whole"] is True

    assert demo.json("descend", "--yes")["state"] == "descended"
    assert picture_of(demo.site()) == before
    assert rights(demo.root).items() >= rights_before.items()
    assert demo.prepared.file.read_text() == site_text
    assert about(demo)["version"] == "2.4"
    assert demo.json("climb", "--yes")["state"] == "climbed"


def test_what_is_the_sites_own_is_carried_and_nothing_stale_is_left(demo: Demo) -> None:
    (demo.root / "uploads" / "empty folder").mkdir()
    (demo.root / "addons" / "tide-table" / "local.csv").write_text("our own gauge\n")
    (demo.root / "uploads" / "odd\nname \udcff").write_bytes(b"x")
    os.utime(demo.root / "uploads" / "odd\nname \udcff", ns=(1, 1_234_567_890_123_456_789))
    demo.json("climb", "--yes")
    root = demo.root
    assert (root / "VERSION").read_text() == "4.0\n"
    assert b'd="M4 30h32L20 6z"' in (root / "static/logo.svg").read_bytes()
    assert (root / "addons/regatta-calendar/races.csv").exists()
    assert (root / "addons/tide-table/local.csv").read_text() == "our own gauge\n"
    assert tomllib.loads((root / "addons/notice-board/addon.toml").read_text())["version"] == "4.0"
    assert (root / "uploads" / "empty folder").is_dir()
    assert (root / "uploads" / "odd\nname \udcff").stat().st_mtime_ns == 1_234_567_890_123_456_789
    assert (root / "uploads" / "latest").readlink() == Path("12")
    for gone in ("quaybook/old_reports.py", "etc", "static/style.css", "addons/notice-board/board.css", "data/closed"):
        assert not os.path.lexists(root / gone), gone
    settings = (root / "config/quaybook.ini").read_text()
    for line in (
        "# Behind the office's proxy since last spring.", f"port = {demo.prepared.port}", "longest_stay_days = 42",
        "name = Sandhavn Harbour Office", "hold_hours = 48", "sender = harbour@quaybook.example",
        "# legacy_theme = yes (retired: the old look is gone)",
    ):  # fmt: skip
        assert line in settings.splitlines()
    site = tomllib.loads(demo.prepared.file.read_text())
    assert site["keep"]["settings"] == [{"file": "config/quaybook.ini"}]
    assert site["keep"]["keys"] == ["config/secret.key"]
    assert "# The harbour office's berth-booking server." in demo.prepared.file.read_text()


def test_no_file_is_owned_or_readable_otherwise_than_before(idle: Demo) -> None:
    owner, other = 65_533, 65_532
    for path in [idle.root, *idle.root.rglob("*")]:
        os.chown(path, owner, other, follow_symlinks=False)
        if not path.is_symlink():
            path.chmod(0o750 if path.is_dir() else 0o640)
    (idle.root / "etc/secret.key").chmod(0o400)
    (idle.root / "server.py").chmod(0o750)
    before = rights(idle.root)
    idle.json("climb", "--yes")
    after = rights(idle.root)
    assert {(uid, gid) for uid, gid, _ in after.values()} == {(owner, other)}
    assert {path: value for path, value in after.items() if path in before} == {
        path: value for path, value in before.items() if path in after
    }
    assert after["config/secret.key"] == before["etc/secret.key"]
    assert after["config/quaybook.ini"] == before["etc/quaybook.ini"]
    new = {path for path in after if path not in before and not (idle.root / path).is_symlink()}
    assert "quaybook/reports.py" in new
    assert all(not after[path][2] & 0o007 for path in new)
    idle.json("descend", "--yes")
    assert rights(idle.root) == before


def test_the_site_file_may_ask_for_other_owners_and_modes(idle: Demo) -> None:
    idle.edit('root = "quaybook"\n', 'root = "quaybook"\nowner = "daemon"\nfile_mode = "0600"\nfolder_mode = "0711"\n')
    # Root's file in a folder that is to be another account's would be worked on as that account.
    assert "chown -R daemon" in idle.yl("climb", "--yes").err
    for path in (idle.root / "data", *(idle.root / "data").rglob("*")):
        os.chown(path, 1, 1, follow_symlinks=False)
    idle.json("climb", "--yes")
    status = (idle.root / "quaybook/reports.py").stat()
    assert (status.st_uid, stat.S_IMODE(status.st_mode)) == (1, 0o600)
    assert stat.S_IMODE((idle.root / "quaybook").stat().st_mode) == 0o711


def test_users_never_meet_a_half_upgraded_site(make_demo: MakeDemo) -> None:
    demo = make_demo(rows=20_000)
    climb = subprocess.Popen(
        [str(PROGRAM), "climb", "--yes", "--json"], cwd=demo.folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
    )
    seen = set()
    while climb.poll() is None:
        try:
            with urllib.request.urlopen(demo.prepared.url, timeout=2) as answer:
                page = answer.read().decode()
                seen.add(("open", page[page.index("<footer>") + 8 :][:12]))
        except urllib.error.HTTPError as closed:
            with closed:
                seen.add(("closed", str(closed.code)))
        except OSError:
            seen.add(("stopped", ""))
        time.sleep(0.005)
    climb.communicate()
    assert climb.returncode == 0
    assert seen <= {("open", "Quaybook 2.4"), ("open", "Quaybook 4.0"), ("closed", "503"), ("stopped", "")}
    assert ("open", "Quaybook 2.4") in seen


def test_a_failing_migration_takes_the_site_back_by_itself(make_demo: MakeDemo) -> None:
    demo = make_demo(broken=True)
    before, rights_before, text = picture_of(demo.site()), rights(demo.root), demo.prepared.file.read_text()
    answer = demo.yl("climb", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "climb-failed")
    assert "schema-40" in answer.problems[1]["message"]
    assert picture_of(demo.site()) == before
    assert rights(demo.root).items() >= rights_before.items()
    assert demo.prepared.file.read_text() == text
    assert about(demo)["version"] == "2.4"
    assert demo.json("history")[0]["state"] == "descended"
    assert demo.json("check")["stops"] == 0


def test_a_site_may_ask_to_stop_at_a_failure(make_demo: MakeDemo) -> None:
    demo = make_demo(broken=True)
    demo.edit('root = "quaybook"\n', 'root = "quaybook"\non_failure = "stop"\n')
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (3, "step-failed")
    assert "yl descend" in answer.problems[0]["remedy"]
    again = demo.yl("climb", "--continue")
    assert again.code == 3
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_request_to_stop_ends_at_a_safe_point(demo: Demo, number: signal.Signals) -> None:
    demo.edit('kind = "process"', 'kind = "process"\nstop_within_s = 1.5')
    demo.edit('"import sys; ', '"import signal, sys; signal.signal = lambda *_: None; ')
    demo.yl("backup", "list")
    # The service now ignores a polite stop, so that there is time to ask while the step is at work.
    stop_site(demo.site())
    service = demo.prepared.file.read_text().replace(
        "signal.signal = lambda *_: None", "signal.signal(15, signal.SIG_IGN); signal.signal = lambda *_: None"
    )
    demo.prepared.file.write_text(service)
    start_site(demo.site())
    climb = subprocess.Popen(
        [str(PROGRAM), "climb", "--yes"], cwd=demo.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    end = time.monotonic() + 30
    while not list((demo.folder / ".ladder").glob("climbs/*/journal.jsonl")) and time.monotonic() < end:
        time.sleep(0.02)
    climb.send_signal(number)
    _, told = climb.communicate(timeout=60)
    assert climb.returncode == 3, told
    assert "yl climb --continue" in told
    assert "yl descend" in told
    assert demo.json("history")[0]["state"] == "climbing"
    assert demo.yl("climb", "--continue").code == 0


def test_what_is_copied_early_is_reckoned_by_all_files(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    """A release in use may be larger than all data, and it is archived in the window otherwise."""
    prospect = look_ahead(idle.site(), None, utc_now())
    data = prospect.survey.files.data_bytes
    monkeypatch.setattr(prepare, "LARGE_BYTES", data + 1)
    assert prepare._wants_first_copy(prospect)
    monkeypatch.setattr(prepare, "LARGE_BYTES", sum(one.size for one in prospect.survey.manifest.values()) + 1)
    assert not prepare._wants_first_copy(prospect)


def test_making_a_release_ready_keeps_nothing_of_uploads_in_memory(idle: Demo) -> None:
    """They may be millions, and stay where they are; but for a file that a release has among them."""
    prospect = look_ahead(idle.site(), None, utc_now())
    assert prospect.forecast is not None
    uploads = [path for path in prospect.survey.manifest if path.startswith("uploads/")]
    assert len(uploads) > 10
    carried = Carried(idle.site(), prospect.survey, prospect.forecast)
    old = _as_they_were(carried, {"server.py", "etc", "nowhere"})
    assert set(old) == {"server.py", "etc"}
    assert not [path for path in carried.outside_data if path.startswith(("uploads", "data"))]
    assert set(_as_they_were(carried, {"server.py", uploads[0]})) == {"server.py", uploads[0]}


def test_a_step_says_of_itself_whether_it_touches_the_site(idle: Demo) -> None:
    """Whatever fails before the first one that does is no reason to go back: nothing was done to the site."""
    idle.edit('digests = "required"', 'digests = "required"\n\n[backup]\nfirst_copy = "always"')
    plan = stage_climb(look_ahead(idle.site(), None, utc_now()), utc_now(), silent)
    before = rights(idle.root)
    steps = steps_up(plan)
    first = next(at for at, step in enumerate(steps) if step.touches_site)
    assert steps[first].name == StepName(StepKind.CLOSE)
    assert [str(step.name) for step in steps[:first]] == ["look-again", "first-copy"]
    assert {step.name.kind for step in steps if not step.touches_site} == {
        StepKind.LOOK_AGAIN, StepKind.FIRST_COPY, StepKind.LOOK_AT_REST, StepKind.BACKUP_FILES,
        StepKind.BACKUP_DATABASE, StepKind.READ_BACK, StepKind.BEFORE, StepKind.CHECK_RUNG, StepKind.HOLD,
        StepKind.PROVE,
    }  # fmt: skip
    assert len({step.name for step in steps}) == len(steps)
    freeze(plan)
    run = look_only(plan, Conditions())
    run_steps(run, steps[:first])
    assert rights(idle.root) == before
    # One of them fails while the site serves: the climb is given up, and nobody goes back.
    (idle.root / "server.py").write_text("edited meanwhile\n")
    (plan.folder / "journal.jsonl").unlink()
    with pytest.raises(AnswerNo) as refusal:
        go_on(plan, Conditions())
    assert refusal.value.problems[0].code == "plan-stale"
    assert find_climb(idle.site(), None).standing.state is ClimbState.GIVEN_UP


def test_going_back_says_its_price_and_keeps_what_was_written(demo: Demo) -> None:
    demo.json("climb", "--yes")
    book(demo)
    book(demo)
    (demo.root / "uploads" / "new.txt").write_text("signed\n")
    changed = next((demo.root / "uploads" / "02").iterdir())
    changed.write_text("a newer policy\n")
    result = demo.json("descend", "--yes")
    assert result["price"]["tables"] == [
        {"database": "main", "table": "bookings", "rows_then": 60, "rows_now": 62, "compared": True,
         "added": 2, "changed": 0, "deleted": 0},
    ]  # fmt: skip
    assert sorted(result["price"]["files"]) == [f"uploads/02/{changed.name}", "uploads/new.txt"]
    kept = next((demo.folder / ".ladder" / "climbs").glob("*/written-since"))
    assert (kept / "files/uploads/new.txt").read_text() == "signed\n"
    assert (kept / f"files/uploads/02/{changed.name}").read_text() == "a newer policy\n"
    connection = sqlite3.connect(kept / "database-main.sqlite")
    assert connection.execute("SELECT count(*) FROM bookings").fetchone() == (62,)
    connection.close()
    assert not (demo.root / "uploads" / "new.txt").exists()


def test_verify_tells_data_files_that_were_written_again_from_those_that_were_lost(demo: Demo) -> None:
    """An application that keeps its data in files rewrites them all day: the kernel's time says when."""
    uploads = demo.root / "uploads" / "03"
    again, gone, *_ = sorted(uploads.iterdir())
    again.write_text("before the climb\n")
    assert demo.yl("climb", "--to", "2.6", "--yes").code == 0
    again.write_text("since the climb\n")
    said = demo.json("verify")
    path = f"uploads/03/{again.name}"
    assert said["written_since"] == [f"file {path}: has another content (17 → 16 bytes)"]
    told = demo.yl("verify").out
    assert "Written again since the climb ended, in data folders: 1 file" in told
    assert "nothing was lost" not in told, "it says no more than was compared"
    assert f"{said['files_compared'] - 1} files as they should be" in told
    gone.unlink()
    (demo.root / "static" / "style.css").write_text("of nobody\n")
    said = demo.json("verify", code=1)
    assert [one.partition(":")[0] for one in said["faults"]] == [
        "file static/style.css",
        f"file uploads/03/{gone.name}",
    ]
    assert len(said["written_since"]) == 1
    # What was a difference when the climb ended, whatever made it, is one for ever.
    (proof,) = demo.folder.glob(".ladder/climbs/*/proof.json")
    record = json.loads(proof.read_text())
    proof.write_text(json.dumps({**record, "faults": ["something"]}))
    assert any(one.startswith(f"file {path}") for one in demo.json("verify", code=1)["faults"])


def test_verify_tells_what_users_have_written_since(demo: Demo) -> None:
    demo.json("climb", "--yes")
    book(demo)
    result = demo.json("verify")
    assert result["whole"] is True
    assert result["came"] == ["main.bookings: 1 row came: id 61"]
    assert "every row from before is there as it was" in " ".join(demo.yl("verify").out.split())
    with closing(sqlite3.connect(demo.database)) as connection, connection:
        connection.execute("UPDATE bookings SET remark = 'changed since' WHERE id = 7")
    result = demo.json("verify", code=1)
    assert [one for one in result["faults"] if one.startswith("main.bookings: remark: 1 value differs")]
    assert result["came"] == [], "a table of which a row from before differs is told as that"
    # Which row it is stands above the table; in its narrow column, a few of them would take the screen.
    told, ruled = (demo.yl("verify").out.partition("Database main")[at] for at in (0, 2))
    assert "id 7: " in told
    assert re.search(r"remark: 1 value\s+differs", ruled)
    assert "id 7" not in ruled
    assert "id 7: " in demo.yl("verify", "-v").out.partition("Database main")[2]
    (demo.root / "quaybook" / "pages.py").write_text("# edited\n")
    result = demo.json("verify", code=1)
    result = demo.json("verify", code=1)
    assert "main.bookings: 1 row more than before: id 61" in result["faults"]
    assert "file quaybook/pages.py: is there and is part of neither the release nor the site" in result["faults"]


def test_a_number_of_rows_alone_says_nothing_of_the_others(demo: Demo) -> None:
    """Where rows could not be looked for to the end, nothing is called the same."""
    demo.json("climb", "--yes")
    proof = load_proof(list_climbs(demo.site())[-1].plan)
    said = {"a": ("5 rows more than before",), "b": (), "c": ("5 rows more than before: id 1", "name: 1 value differs")}
    tables = tuple(TableVerdict(name, Verdict.DIFFERS, 1, 6, 0, remarks) for name, remarks in said.items())
    proof = replace(proof, tables={"main": tables}, faults=tuple(faults_in({"main": tables})))
    assert parted(proof) == proof


def test_settling_frees_the_old_tree_and_ends_the_way_back(demo: Demo) -> None:
    demo.json("climb", "--yes")
    aside = next((demo.folder / ".ladder" / "climbs").glob("*/aside"))
    assert (aside / "1-2.4" / "VERSION").exists()
    settled = demo.json("settle", "--yes")
    assert settled["freed_bytes"] > 0
    assert not aside.exists()
    assert len(demo.json("backup", "list")) == 1
    answer = demo.yl("descend", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "cannot-descend")
    assert demo.json("verify")["whole"] is True
    aside.mkdir()
    (aside / "left by a kill").write_text("half removed")
    assert demo.json("settle", "--yes", "--drop-backup")["freed_bytes"] > 0
    assert not aside.exists()
    assert demo.json("backup", "list") == []
    assert [one["state"] for one in demo.json("history")] == ["settled"]


def test_without_its_backup_there_is_no_way_back_and_the_site_stays_open(demo: Demo) -> None:
    demo.json("climb", "--yes")
    archive = next((demo.folder / ".ladder" / "backups").glob("*/files.tar.zst"))
    raw = bytearray(archive.read_bytes())
    raw[len(raw) // 2] ^= 1
    archive.write_bytes(raw)
    answer = demo.yl("descend", "--yes", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "backup-damaged")
    assert about(demo)["version"] == "4.0"
    assert demo.json("history")[0]["state"] == "climbed"


def test_the_old_tree_may_be_gone_and_everything_comes_from_the_backup(demo: Demo) -> None:
    before = picture_of(demo.site())
    demo.json("climb", "--yes")
    aside = next((demo.folder / ".ladder" / "climbs").glob("*/aside/1-2.4"))
    aside.rename(demo.folder / "taken away")
    demo.json("descend", "--yes")
    assert picture_of(demo.site()) == before
    assert about(demo)["version"] == "2.4"


def test_a_second_administrator_is_told_who_is_at_work(idle: Demo) -> None:
    site = idle.site()
    with site.state.locked("climb"):
        for words in (("climb", "--yes"), ("descend", "--yes"), ("verify",), ("backup", "make"), ("settle", "--yes")):
            answer = idle.yl(*words, "--json")
            assert (answer.code, answer.problems[0]["code"]) == (4, "locked")
            assert str(os.getpid()) in answer.problems[0]["message"]


def test_a_site_without_services_database_or_flag_climbs_too(idle: Demo) -> None:
    text = idle.prepared.file.read_text()
    start, end = text.index("[[services]]"), len(text)
    text = text[:start] + text[end:]
    text = text.replace('[[versions]]\nof = "schema"\nquery = "SELECT value FROM meta WHERE name = \'schema\'"\n', "")
    text = text[: text.index('[[versions]]\nof = "served"')] + text[text.index("[[databases]]") :]
    idle.prepared.file.write_text(text)
    assert idle.json("climb", "--yes")["state"] == "climbed"
    assert idle.json("descend", "--yes")["state"] == "descended"


def test_the_state_folder_may_lie_on_another_file_system(idle: Demo, tmp_path_factory: pytest.TempPathFactory) -> None:
    here, others = idle.root.stat().st_dev, [MEMORY, Path("/var/tmp")]
    other = next((one for one in others if one.is_dir() and one.stat().st_dev != here), None)
    if other is None:
        pytest.skip("this machine has no second file system at /dev/shm or /var/tmp")
    state = other / f"yellow-ladder-{os.getpid()}"
    try:
        idle.edit('root = "quaybook"\n', f'root = "quaybook"\nstate = "{state}"\n')
        before = picture_of(idle.site())
        idle.json("climb", "--yes")
        idle.json("descend", "--yes")
        assert picture_of(idle.site()) == before
        assert [path.name for path in idle.folder.iterdir() if path.name.startswith(".quaybook.")] == []
    finally:
        subprocess.run(["rm", "-rf", str(state)], check=True)


def test_a_plan_is_refused_when_the_site_has_changed_since(idle: Demo) -> None:
    kill_at(idle, 1, Instant.BEFORE)
    (idle.root / "etc/quaybook.ini").write_text("[server]\nhost = 127.0.0.1\n")
    before = picture_of(idle.site())
    answer = idle.yl("climb", "--continue", "--json")
    assert (answer.code, answer.problems[0]["code"]) == (1, "plan-stale")
    assert "etc/quaybook.ini" in answer.problems[0]["message"]
    assert "yl climb --to 4.0" in answer.problems[0]["remedy"]
    assert picture_of(idle.site()) == before
    assert idle.json("history")[0]["state"] == "given up"


def test_secrets_stay_out_of_output_journal_and_report(demo: Demo) -> None:
    key = (demo.root / "etc/secret.key").read_text().strip()
    told = [
        demo.yl(*words) for words in (("survey", "--detail"), ("check",), ("climb", "--yes"), ("history", "--steps"))
    ]
    assert all(key not in answer.out + answer.err for answer in told)
    climb = next((demo.folder / ".ladder" / "climbs").iterdir())
    for name in ("journal.jsonl", "plan.json", "before.json", "after.json", "proof.json"):
        assert key not in (climb / name).read_text()
    for path in (demo.folder / ".ladder").rglob("*"):
        if path.is_dir() and "aside" not in path.parts:
            assert stat.S_IMODE(path.stat().st_mode) == 0o700, path
    assert stat.S_IMODE((climb / "journal.jsonl").stat().st_mode) == 0o600


def test_a_new_version_that_ruined_its_database_can_be_left(demo: Demo) -> None:
    before = picture_of(demo.site())
    demo.json("climb", "--yes")
    demo.database.write_bytes(b"ruined by the new version " * 1000)
    result = demo.json("descend", "--yes")
    assert len(result["price"]["unreadable"]) == 1
    assert picture_of(demo.site()) == before
    kept = next((demo.folder / ".ladder" / "climbs").glob("*/written-since/files-of-main/quaybook.sqlite"))
    assert kept.read_bytes().startswith(b"ruined by the new version")


def test_a_broken_connection_does_not_leave_the_site_closed(make_demo: MakeDemo) -> None:
    demo = make_demo(rows=5_000)
    reading, writing = os.pipe()
    climb = subprocess.Popen(
        [str(PROGRAM), "climb", "--yes"], cwd=demo.folder, stdout=writing, stderr=writing, stdin=subprocess.DEVNULL
    )
    os.close(writing)
    end = time.monotonic() + 30
    while not list((demo.folder / ".ladder").glob("climbs/*/journal.jsonl")) and time.monotonic() < end:
        time.sleep(0.01)
    os.close(reading)
    climb.send_signal(signal.SIGHUP)
    climb.wait(timeout=60)
    assert demo.json("history")[0]["state"] == "climbed"
    assert about(demo)["version"] == "4.0"


def test_the_umask_of_whoever_types_does_not_show_in_the_site(idle: Demo) -> None:
    mask = os.umask(0o077)
    try:
        idle.json("climb", "--yes")
    finally:
        os.umask(mask)
    assert stat.S_IMODE((idle.root / "static" / "css").stat().st_mode) == 0o755
    assert stat.S_IMODE((idle.root / "static/css/style.css").stat().st_mode) == 0o644
    assert stat.S_IMODE((idle.root / "config").stat().st_mode) == 0o755


def test_going_back_goes_one_climb_at_a_time(demo: Demo) -> None:
    before, text = picture_of(demo.site()), demo.prepared.file.read_text()
    first = demo.json("climb", "--to", "3.0", "--yes")["climb"]
    between, text_between = picture_of(demo.site()), demo.prepared.file.read_text()
    second = demo.json("climb", "--to", "4.0", "--yes")["climb"]
    refusal = demo.yl("descend", first, "--yes", "--json")
    assert (refusal.code, refusal.problems[0]["code"]) == (1, "built-upon")
    assert second in refusal.problems[0]["remedy"]
    assert about(demo)["version"] == "4.0"
    assert demo.json("descend", "--yes")["climb"] == second
    assert picture_of(demo.site()) == between
    assert demo.prepared.file.read_text() == text_between
    assert demo.json("verify")["climb"] == first
    assert demo.json("descend", "--yes")["climb"] == first
    assert picture_of(demo.site()) == before
    assert demo.prepared.file.read_text() == text


def test_a_service_that_a_climb_starts_hears_a_hang_up(demo: Demo) -> None:
    """Many servers read their settings again at SIGHUP; one that is ignored at the start stays so."""
    assert demo.yl_anew("climb", "--to", "2.6", "--yes").code == 0
    pid = (demo.folder / "run" / "web.pid").read_text().strip()
    status = Path(f"/proc/{pid}/status").read_text()
    ignored = int(next(line for line in status.splitlines() if line.startswith("SigIgn")).split()[1], 16)
    assert not ignored & 1 << (signal.SIGHUP - 1)


@pytest.mark.parametrize("ended_meanwhile", [False, True])
def test_a_climb_that_was_stopped_before_its_window_is_given_up_while_the_site_serves(
    ended_meanwhile: bool, demo: Demo
) -> None:
    site, seen = demo.site(), list[Event]()
    (web,) = services_of(site)
    pids, before = web.about().pids, picture_of(site)
    one_is_done = Conditions(seen.append, lambda: any(isinstance(event, StepDone) for event in seen))
    with pytest.raises(StoppedPartWay):
        begin(planned(site), one_is_done)
    if ended_meanwhile:  # with its machine
        psutil.Process(pids[0]).kill()
        psutil.wait_procs([psutil.Process(pid) for pid in pids if psutil.pid_exists(pid)], timeout=5)
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0
    assert "nothing of harbour was touched: it is at 2.4, as before" in answer.out
    assert web.state() is ServiceState.RUNNING
    assert (web.about().pids == pids) != ended_meanwhile, "it was not stopped"
    assert picture_of(site) == before
    assert not list(demo.folder.glob(".ladder/work*/*")), "what was made ready is gone"
    assert demo.yl("climb", "--yes").code == 0
