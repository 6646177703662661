"""A release is whatever its vendor makes it: in a folder of its own behind a link, or among others' files."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import shutil
import sqlite3
import sys
import time
import tomllib
import urllib.request
from pathlib import Path
from typing import Any

import psutil
import pytest

from tests.conftest import Demo, MakeDemo
from tests.crash_driver import in_child, planned
from tests.warm import Answer
from yellow_ladder.checks.machine import rooms_for
from yellow_ladder.checks.records import Circumstances
from yellow_ladder.climb.conduct import Conditions, begin
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.placing.pointer import unpacked_of
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.plan import freeze
from yellow_ladder.climb.record.step_names import StepKind
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.climb.steps.up import steps_up
from yellow_ladder.climb.works import patience
from yellow_ladder.climb.works.building import not_given
from yellow_ladder.database.sqlite.database import SqliteDatabase
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.demo.shapes import SECRET
from yellow_ladder.errors import StoppedPartWay
from yellow_ladder.events import Event, Note
from yellow_ladder.files.archives.unpack import Limits, unpack_archive
from yellow_ladder.release.sheet import SHEET_NAME
from yellow_ladder.services import services_of
from yellow_ladder.services.port import ServiceState


@pytest.fixture
def environment(make_demo: MakeDemo) -> Demo:
    return make_demo(shape="environment")


@pytest.fixture
def shared(make_demo: MakeDemo) -> Demo:
    return make_demo(shape="shared")


Look = dict[str, tuple[object, ...]]


def look(folder: Path, *, touched: bool = False) -> Look:
    """What every path below a folder is; with `touched`, when anything of it was changed last."""
    found: Look = {}
    for path in sorted(folder.rglob("*")):
        one = path.lstat()
        said = os.readlink(path) if path.is_symlink() else path.read_bytes() if path.is_file() else b""
        more = (one.st_ino, one.st_mtime_ns, one.st_ctime_ns) if touched else ()
        found[str(path.relative_to(folder))] = (one.st_mode, one.st_uid, one.st_gid, said, *more)
    return found


def change_sheet(demo: Demo, version: str, old: str, new: str) -> None:
    """Put a changed sheet beside a release's archive."""
    archive = demo.folder / "releases" / f"quaybook-{version}.tar.zst"
    beside = archive.with_name(f"quaybook-{version}.{SHEET_NAME}")
    if not beside.exists():
        tree = demo.folder / "tree"
        tree.mkdir()
        unpack_archive(archive, tree, Limits())
        beside.write_text((tree / SHEET_NAME).read_text())
        shutil.rmtree(tree)
    text = beside.read_text()
    assert old in text, old
    beside.write_text(text.replace(old, new))


def releases_of(demo: Demo) -> list[str]:
    return sorted(one.name for one in (demo.root / "releases").iterdir())


def test_a_release_is_built_at_its_place_and_the_link_is_turned_and_turned_back(environment: Demo) -> None:
    demo = environment
    before, link = look(demo.root), (demo.root / "current").lstat()
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer
    assert os.readlink(demo.root / "current") == "releases/4.0"
    assert releases_of(demo) == ["2.4", "4.0"]
    assert (demo.root / "releases" / "4.0" / "env" / "bin" / "python").exists()
    assert "name = Sandhavn Harbour Office" in (demo.root / "etc" / "quaybook.ini").read_text()
    words = psutil.Process(int((demo.folder / "run" / "web.pid").read_text())).cmdline()
    assert any("releases/4.0/server.py" in word for word in words)
    old = {path: one for path, one in before.items() if path.startswith("releases/2.4/")}
    assert {path: one for path, one in look(demo.root).items() if path in old} == old, "the old release is untouched"
    assert demo.yl("descend", "--yes").code == 0
    after = look(demo.root)
    before.pop("data/quaybook.sqlite"), after.pop("data/quaybook.sqlite")  # rows are compared by their own test
    assert after == before
    assert (demo.root / "current").lstat().st_ino == link.st_ino


def test_the_link_is_turned_by_one_rename_at_each_rung_and_the_site_is_closed_for_no_build(environment: Demo) -> None:
    demo = environment

    def climb() -> int:
        turned: list[str] = []

        def hook(event: str, arguments: tuple[Any, ...]) -> None:
            if event in ("os.rename", "os.remove", "os.symlink") and "current" in map(str, arguments[:2]):
                turned.append(event)

        plan = planned(demo.site())
        sys.addaudithook(hook)
        begin(plan, Conditions())
        return 100 * turned.count("os.rename") + len(turned)

    assert in_child(climb) == (202, 0), "three rungs, one of them a passage: two renames, and nothing else"
    plan = list_climbs(demo.site())[0].plan
    kinds = [step.name.kind for step in steps_up(plan)]
    assert max(at for at, kind in enumerate(kinds) if kind is StepKind.BUILD) < kinds.index(StepKind.CLOSE)


def test_the_plan_names_every_command_with_its_point_and_account(environment: Demo) -> None:
    demo = environment
    text = '[[commands]]\nname = "tell the office"\nat = "opened"\nrun = ["/bin/true", "{version}"]\n'
    demo.edit("[maintenance]", text + "\n[maintenance]")
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    told = " ".join(answer.out.split())
    for words in (
        "4.0 is built command 1", "-m venv --without-pip releases/4.0/env as root, for at most 1 h",
        "3.0 migrates prices to totals releases/3.0/env/bin/python -B releases/3.0/manage.py migrate as root",
        "4.0 migrates addresses at the first start start the services, shut away from users",
        "4.0 after-migrations index the boats", "4.0 opened tell the office (of the site) /bin/true 4.0",
        "made before 4.0 in releases/4.0, while the site serves", "stopped and started: web",
    ):  # fmt: skip
        assert words in told, words


def test_data_settings_and_scripts_beside_the_releases_stay_where_they_are(environment: Demo) -> None:
    demo = environment
    own = demo.root / "tools" / "nightly.sh"
    own.parent.mkdir()
    own.write_text("#!/bin/sh\n")
    before = {path: path.lstat().st_ino for path in (own, demo.root / "uploads", demo.root / "etc" / "secret.key")}
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert {path: path.lstat().st_ino for path in before} == before


def test_what_commands_migrations_and_builds_say_is_kept_and_no_secret_with_it(environment: Demo) -> None:
    demo = environment
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    output = next((demo.folder / ".ladder" / "climbs").iterdir()) / "output"
    assert "migrated to 30" in (output / "2-prices-to-totals.txt").read_text()
    assert "Go on? [yes/no]" in (output / "2-prices-to-totals.txt").read_text()
    assert (output / "1-build-1.txt").exists()
    kept = [path for path in (demo.folder / ".ladder").rglob("*") if path.is_file()]
    assert [str(path) for path in kept if SECRET.encode() in path.read_bytes()] == []


def test_the_survey_knows_a_built_release_by_what_was_recorded_of_it(environment: Demo) -> None:
    demo = environment
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    (demo.root / "releases" / "3.0" / "server.py").write_text("print('patched by hand')\n")
    files = demo.json("survey")["files"]
    assert files["edited"] == ["releases/3.0/server.py"]
    assert files["added"] == []


def test_a_build_that_fails_leaves_the_site_serving_and_nothing_half_made(environment: Demo) -> None:
    demo = environment
    before = look(demo.root)
    change_sheet(demo, "3.0", '"{release}/env"]]', '"{release}/env"], ["/bin/sh", "-c", "echo no wheel; exit 4"]]')
    answer = demo.yl("climb", "--to", "4.0", "--yes", PIP_CERT="/etc/ssl/harbour.pem")
    assert answer.code == 1
    assert "build 3.0, command 2" in answer.err
    assert "no wheel" in answer.err
    assert "PIP_CERT" not in answer.err  # it was given to what failed
    assert look(demo.root) == before
    assert demo.json("history")[0]["state"] == "given up"


def test_what_another_account_is_not_given_for_its_way_to_an_index_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("PIP_CERT", "HTTPS_PROXY", "BOAT"):
        monkeypatch.setenv(name, "harbour")
    told = "are set here and not given to commands that build: what they need goes into [build] environment"
    around = {name: "" for name in os.environ if name not in ("PIP_CERT", "HTTPS_PROXY", "BOAT")}
    assert not_given(around) == f"; HTTPS_PROXY, PIP_CERT {told}"
    assert not_given(dict(os.environ)) == ""


def test_an_account_that_could_not_build_where_a_release_will_lie_is_told_before(environment: Demo) -> None:
    """A new release belongs to whom the one in use does, whoever runs what releases bring."""
    demo = environment
    demo.edit('product = "quaybook"', 'product = "quaybook"\nrun_as = "nobody"')
    found = [one for one in demo.json("check", "--to", "3.0", code=1)["findings"] if one["check"] == "releases"]
    told = [one for one in found if one["level"] == "stop"]
    assert "2.6 is built as nobody, in a folder that will belong to root, as the one in use does" in told[0]["saw"]
    assert "as_user of [build]" in told[0]["remedy"]
    demo.edit('\nrun_as = "nobody"', "")
    os.chown(demo.root, 4321, 4321)
    found = [one["saw"] for one in demo.json("check", "--to", "3.0", code=1)["findings"] if one["level"] == "stop"]
    assert (
        f"2.6 is built as 4321 (it may write {demo.root}), in a folder that will belong to root, as the one in use does"
        in found
    )
    os.chown(demo.root, 0, 0)
    demo.edit("[maintenance]", '[build]\nas_user = "root"\n\n[maintenance]')
    findings = demo.json("check", "--to", "3.0")["findings"]
    assert not [one for one in findings if one["check"] == "releases" and one["level"] == "stop"]
    assert [one["level"] for one in findings if "releases are built by root" in one["saw"]] == ["warn"]
    demo.edit('as_user = "root"', 'as_user = "harbour-pilot"')
    told = [one["saw"] for one in demo.json("check", "--to", "3.0", code=1)["findings"] if one["level"] == "stop"]
    assert any("2.6 cannot be built: its account harbour-pilot is not known here" in one for one in told), told


def test_a_build_that_was_killed_and_given_up_leaves_nothing_of_it(environment: Demo) -> None:
    demo = environment
    before = look(demo.root)

    def climb() -> int:
        plan = planned(demo.site())
        for rung in plan.rungs:  # as a kill between unpacking and taking its place would leave it
            unpacked_of(plan, rung).mkdir()
            (unpacked_of(plan, rung) / "half").write_text("half of it")
        freeze(plan)
        return 0

    assert in_child(climb) == (0, 0)
    assert demo.yl("descend", "--yes").code == 0
    assert list(demo.folder.glob(".ladder/climbs/*/unpacked-*")) == []
    assert look(demo.root) == before


def test_a_folder_that_is_there_already_is_never_taken_for_a_release(environment: Demo) -> None:
    demo = environment
    theirs = demo.root / "releases" / "3.0" / "notes.txt"
    theirs.parent.mkdir()
    theirs.write_text("a half environment of last year\n")
    answer = demo.yl("check", "--to", "4.0")
    assert answer.code == 1
    assert "releases/3.0 is there already" in answer.out
    assert theirs.read_text() == "a half environment of last year\n"


def test_a_file_may_name_the_release_in_place_of_a_link(environment: Demo) -> None:
    demo = environment
    (demo.root / "current").unlink()
    named = demo.root / "etc" / "quaybook.path"
    named.write_text("# where Quaybook is\nQUAYBOOK=releases/2.4\nPATH_FIRST=releases/2.4/env/bin:/usr/bin\n")
    named.chmod(0o640)
    demo.edit('link = "current"\nreleases', 'file = "etc/quaybook.path"\nreleases')
    demo.edit('link = "current"', 'file = "{release}/VERSION"')
    before = look(demo.root)
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer
    assert named.read_text().count("releases/3.0") == 2
    assert "releases/2.4" not in named.read_text()
    assert named.stat().st_mode & 0o777 == 0o640
    assert demo.yl("descend", "--yes").code == 0
    after = look(demo.root)
    before.pop("data/quaybook.sqlite"), after.pop("data/quaybook.sqlite")
    assert after == before
    named.write_text("QUAYBOOK=releases/2.4\nOLD=releases/2.2\n")
    answer = demo.yl("check")
    assert answer.code == 1
    assert "names releases/2.2 and releases/2.4" in " ".join(answer.out.split())


def test_a_sheet_alone_is_a_release_and_what_it_is_made_with_is_held_against_its_digest(environment: Demo) -> None:
    demo = environment
    source = demo.folder / "releases"
    (source / "quaybook-2.6.tar.zst").unlink()
    (source / "tide.txt").write_text("high\n")
    sheet = source / f"quaybook-2.5.{SHEET_NAME}"
    build = (
        'commands = [["/bin/sh", "-c", "cp -R {root}/releases/2.4/. {release}/"],'
        ' ["/bin/sh", "-c", "cp {source}/tide.txt {release}/tide.txt; echo 2.5 > {release}/VERSION"]]'
    )
    sheet.write_text(
        f'format = 1\n[release]\nproduct = "quaybook"\nversion = "2.5"\nschema = "24"\n'
        f'[reach]\nfrom = "2.4"\n[archive.build]\nfiles = ["tide.txt"]\n{build}\n'.replace('"2.4"', '"==2.4"')
    )
    answer = demo.yl("check", "--to", "2.5")
    assert answer.code == 1
    assert "tide.txt, which 2.5 is made with, has no published digest" in " ".join(answer.out.split())
    digests = source / "SHA256SUMS"
    lines = [f"{hashlib.sha256(path.read_bytes()).hexdigest()}  {path.name}" for path in (sheet, source / "tide.txt")]
    digests.write_text(digests.read_text() + "\n".join(lines) + "\n")
    assert demo.yl("climb", "--to", "2.5", "--yes").code == 0
    assert (demo.root / "releases" / "2.5" / "tide.txt").read_text() == "high\n"
    assert demo.yl("descend", "--yes").code == 0
    (source / "tide.txt").write_text("low\n")
    answer = demo.yl("check", "--to", "2.5")
    assert answer.code == 1
    assert "is not the file that was published" in " ".join(answer.out.split())


def test_data_pass_through_a_passage_that_is_never_placed(environment: Demo) -> None:
    """Quaybook 2.6 is one, as it is installed with an environment."""
    demo = environment
    log = demo.folder / "told.txt"
    for at in ("after-migrations", "before-start"):
        script = f"echo {at} {{version}} $(readlink {{root}}/current) >> {log}"
        text = f'[[commands]]\nname = "tell {at}"\nat = "{at}"\nrun = ["/bin/sh", "-c", {script!r}]\n\n'
        demo.edit("[maintenance]", text + "[maintenance]")
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer
    assert "2.6 in releases/2.6, while the site serves; it only carries the data on" in " ".join(answer.out.split())
    assert log.read_text().splitlines() == [
        "after-migrations 2.6 releases/2.4", "after-migrations 3.0 releases/3.0", "after-migrations 4.0 releases/4.0",
        "before-start 4.0 releases/4.0",
    ]  # fmt: skip
    assert releases_of(demo) == ["2.4", "4.0"]
    assert "name = Sandhavn Harbour Office" in (demo.root / "etc" / "quaybook.ini").read_text()
    assert demo.yl("descend", "--yes").code == 0
    assert picture_of(demo.site()) == before
    answer = demo.yl("check", "--to", "2.6")
    assert answer.code == 1
    assert "2.6 only carries the data on" in answer.out, "nobody stays at a passage"


def test_room_is_asked_for_as_much_as_the_release_in_use_takes(environment: Demo) -> None:
    demo = environment

    def wanted() -> int:
        prospect = look_ahead(demo.site(), None, utc_now())
        at = Circumstances(demo.site(), prospect.survey, prospect.releases, prospect.way, utc_now())
        return sum(room.count_bytes for room in rooms_for(at, prospect.route))

    before, size = in_child(wanted)[0], 64 * 1024**2
    with (demo.root / "releases" / "2.4" / "model.bin").open("wb") as stream:
        stream.truncate(size)
    assert in_child(wanted)[0] - before >= 4 * size * 0.9, "three releases that are built, and the backup"


def test_a_program_that_a_service_is_started_with_and_the_new_release_has_not_is_told_while_the_site_serves(
    environment: Demo,
) -> None:
    """Put into an environment by hand, like a server for its pages: with the site closed it would be too late."""
    demo = environment
    own = demo.root / "releases" / "2.4" / "env" / "bin" / "serve"
    place = f"{demo.root}/current"
    own.write_text(
        f"import runpy, sys\nsys.path.insert(0, '{place}')\nrunpy.run_path('{place}/server.py', run_name='__main__')\n"
    )
    own.chmod(0o755)
    demo.edit('"{release}/server.py"]', '"current/env/bin/serve"]')
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 1, answer
    told = "the service `web` is started with env/bin/serve of the release, which 3.0 has not"
    assert told in " ".join(answer.err.split())
    assert urllib.request.urlopen(f"{demo.prepared.url}about.json").status == 200
    assert os.readlink(demo.root / "current") == "releases/2.4"
    demo.edit("[maintenance]", f'[build]\nmore = [["cp", "{own}", "{{release}}/env/bin/serve"]]\n\n[maintenance]')
    answer = demo.yl("climb", "--to", "3.0", "--yes")
    assert answer.code == 0, answer


@pytest.mark.parametrize("target", ["releases/9.9", "/etc", "../elsewhere", "data"])
def test_a_link_that_leads_astray_stops_the_check(environment: Demo, target: str) -> None:
    demo = environment
    (demo.root / "current").unlink()
    (demo.root / "current").symlink_to(target)
    answer = demo.yl("check", "--to", "4.0")
    assert answer.code == 1
    assert f"leads to {target}, which is no release's folder" in " ".join(answer.out.split())


def test_a_runtime_that_does_not_fit_is_told_before_the_window(environment: Demo) -> None:
    demo = environment
    change_sheet(demo, "4.0", 'runtime = ">=3.8"', 'runtime = ">=9.1"')
    answer = demo.yl("check", "--to", "4.0")
    assert answer.code == 1
    assert "built with a runtime >=9.1" in " ".join(answer.out.split())


def test_settling_keeps_as_many_older_releases_as_the_site_file_says(environment: Demo) -> None:
    demo = environment
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert releases_of(demo) == ["2.4", "3.0"]
    assert demo.yl("settle", "--yes").code == 0
    assert releases_of(demo) == ["2.4", "3.0"], "one is kept where nothing is said"
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    assert demo.yl("settle", "--yes").code == 0
    assert releases_of(demo) == ["3.0", "4.0"]


def test_a_question_that_nobody_answers_ends_the_climb_and_says_what_was_asked(environment: Demo) -> None:
    demo = environment
    before = picture_of(demo.site())
    change_sheet(demo, "3.0", "answers = [{ asked = 'Go on\\?', say = \"yes\" }]", "terminal = true\nsilent_s = 0.5")
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "may be asking: This changes the schema from 26 to 30. Go on? [yes/no]" in answer.err
    assert picture_of(demo.site()) == before


def test_a_command_that_had_nothing_to_do_is_fine_where_the_schema_says_so_and_a_lie_is_not(environment: Demo) -> None:
    demo = environment
    before = picture_of(demo.site())
    change_sheet(demo, "3.0", '"{release}/manage.py", "migrate"]', '"-c", "print(\'migrated to 30\')"]')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "check that 3.0 is in place" in answer.err
    assert "26" in answer.err
    assert picture_of(demo.site()) == before


def test_a_first_start_that_fails_is_seen_in_its_log_and_nothing_keeps_running(make_demo: MakeDemo) -> None:
    demo = make_demo(shape="environment", broken=True)
    before = picture_of(demo.site())
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "its log has 'Traceback'" in answer.err
    assert picture_of(demo.site()) == before
    words = psutil.Process(int((demo.folder / "run" / "web.pid").read_text())).cmdline()
    assert any("releases/2.4/server.py" in word for word in words)


def test_what_users_wrote_since_is_told_apart_from_what_commands_did(environment: Demo) -> None:
    demo = environment
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    with contextlib.closing(sqlite3.connect(demo.database)) as connection:
        connection.execute("INSERT INTO notices (posted, title, body) VALUES ('2026-11-26', 'Fog', 'Stay in.')")
        connection.commit()
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0
    told = " ".join(answer.out.split())
    assert "main.notices 40 41 1 0 0" in told
    assert "main.addresses" not in told


def test_a_copy_that_cannot_be_kept_takes_no_site_back(environment: Demo) -> None:
    demo = environment

    def climb() -> int:
        backed_up = SqliteDatabase.backed_up

        def refuse(self: SqliteDatabase, target: Path, *words: Any, **more: Any) -> Any:
            if target.parent.name == "left":
                target.write_bytes(b"half of it")
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(target))
            return backed_up(self, target, *words, **more)

        SqliteDatabase.backed_up = refuse  # type: ignore[method-assign]
        begin(planned(demo.site()), Conditions())
        return 0

    assert in_child(climb) == (0, 0)
    assert demo.json("history")[0]["state"] == "climbed"
    assert [path for left in demo.folder.glob(".ladder/climbs/*/left") for path in left.iterdir()] == []
    with contextlib.closing(sqlite3.connect(demo.database)) as connection:
        connection.execute("INSERT INTO notices (posted, title, body) VALUES ('2026-11-26', 'Fog', 'Stay in.')")
        connection.commit()
    answer = demo.yl("descend", "--yes")
    assert answer.code == 0
    assert "no copy of it was kept" in answer.out
    assert list(demo.folder.glob(".ladder/climbs/*/written-since/database-main.sqlite"))


def other_files(demo: Demo) -> Look:
    return look(demo.root / "tidewatch", touched=True)


def test_in_a_shared_folder_nothing_of_others_is_touched_up_or_back(shared: Demo) -> None:
    demo = shared
    (demo.root / "index.html").write_text("somebody's page, of which nobody told\n")
    before, theirs = look(demo.root), other_files(demo)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    assert other_files(demo) == theirs
    assert (demo.root / "index.html").read_text() == "somebody's page, of which nobody told\n"
    assert not (demo.root / "docs").exists()
    assert (demo.root / "config" / "secret.key").exists()
    assert not (demo.root / "etc").exists()
    assert demo.yl("verify").code == 0
    assert demo.yl("descend", "--yes").code == 0
    after = look(demo.root)
    before.pop("data/quaybook.sqlite"), after.pop("data/quaybook.sqlite")
    assert after == before
    assert other_files(demo) == theirs


@pytest.mark.parametrize("shape", ["shared", "environment"])
def test_bringing_the_old_files_back_may_be_repeated(make_demo: MakeDemo, shape: str) -> None:
    demo = make_demo(shape=shape)

    def files() -> Look:
        # Data come back by steps of their own.
        there = look(demo.root).items()
        return {path: one for path, one in there if one[3] and not path.startswith(("data/", "lamps/"))}

    wanted = files()
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    plan = list_climbs(demo.site())[0].plan
    trees = []
    for _ in range(2):
        assert placement_of(plan.site).bring_back(plan, lambda _tree: None)
        trees.append(files())
    assert trees[0] == trees[1]
    assert {path: one for path, one in trees[0].items() if path in wanted} == wanted
    assert [path for path in trees[0].keys() - wanted.keys() if not path.startswith(("releases/4.0/", "index/"))] == []


def test_only_what_a_release_changes_is_replaced(shared: Demo) -> None:
    demo = shared
    same = ["server.py", "quaybook/store.py", "addons/regatta-calendar/races.csv", "uploads/01"]
    before = {path: (demo.root / path).lstat().st_ino for path in same}
    changed = (demo.root / "quaybook" / "queries.py").lstat().st_ino
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0
    assert {path: (demo.root / path).lstat().st_ino for path in same} == before
    assert (demo.root / "quaybook" / "queries.py").lstat().st_ino != changed


def test_without_the_installed_package_nobody_knows_what_is_the_releases(shared: Demo) -> None:
    demo = shared
    (demo.folder / "releases" / "quaybook-2.4.tar.zst").unlink()
    answer = demo.yl("check", "--to", "4.0")
    assert answer.code == 1
    assert "nothing tells which files of quaybook are those of 2.4" in " ".join(answer.out.split())


def test_a_failed_climb_in_a_shared_folder_goes_back_whole(make_demo: MakeDemo) -> None:
    demo = make_demo(shape="shared", broken=True)
    before, theirs = look(demo.root), other_files(demo)
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 1
    after = look(demo.root)
    before.pop("data/quaybook.sqlite"), after.pop("data/quaybook.sqlite")
    assert after == before
    assert other_files(demo) == theirs


def test_what_no_release_declares_is_proposed_as_narrowly_as_it_was_seen(environment: Demo) -> None:
    demo = environment
    change_sheet(demo, "3.0", 'columns_renamed = { price_cents = "total_cents" }', 'columns_changed = ["state"]')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    proposal = next(demo.folder.glob(".ladder/climbs/*/seen-contract.toml"))
    assert str(proposal) in answer.err
    text = proposal.read_text()
    assert 'columns_renamed = {price_cents = "total_cents"}' in text, "its values stand there"


def a_climb_that_proposes(demo: Demo, migration: str, and_then: str = "") -> tuple[str, Answer]:
    """What a climb to a release with this migration proposes, and how it ends when the sheet says just that.

    `and_then` is what the sheet of another release says that comes after it.
    """
    name = "migrations/2.5-appears.sql"
    for path in demo.folder.glob("releases/quaybook-2.6*"):
        path.unlink()
    release = demo.folder / "tree"
    shutil.copytree(demo.root, release)
    for place in ("data", "uploads", "run"):
        shutil.rmtree(release / place, ignore_errors=True)
    (release / "VERSION").write_text("2.5\n")
    (release / "migrations").mkdir(exist_ok=True)
    (release / name).write_text(migration)
    sheet = release / "release.toml"
    head = 'format = 1\n\n[release]\nproduct = "quaybook"\nversion = "2.5"\n\n[reach]\nfrom = ">=2.4"\n'
    sheet.write_text(f'{head}\n[[migrations]]\nid = "appears"\nfile = "{name}"\n')
    packed = ["pack", release, "--into", demo.folder / "releases"]
    assert demo.yl(*packed).code == 0, demo.yl(*packed)
    last = "2.5"
    if and_then:
        last, said = "2.5.1", sheet.read_text()
        (release / "VERSION").write_text(f"{last}\n")
        sheet.write_text(f"{head}\n{and_then}".replace("2.5", last).replace(">=2.4", ">=2.5"))
        assert demo.yl(*packed).code == 0, demo.yl(*packed)
        (release / "VERSION").write_text("2.5\n")
        sheet.write_text(said)
    assert demo.yl("climb", "--to", last, "--yes").code == 1
    (proposal,) = demo.folder.glob(".ladder/climbs/*/seen-contract.toml")
    text = proposal.read_text()
    sheet.write_text(sheet.read_text() + text)
    for path in demo.folder.glob("releases/quaybook-2.5.tar*"):
        path.unlink()
    assert demo.yl(*packed).code == 0
    return text, demo.yl("climb", "--to", last, "--yes")


def with_tides(demo: Demo) -> Demo:
    connection = sqlite3.connect(demo.database)
    connection.executescript(
        "CREATE TABLE tides (id INTEGER PRIMARY KEY, port TEXT, level TEXT DEFAULT 'low');"
        " INSERT INTO tides VALUES (1, 'Nordmole', 'high'), (2, 'Sandhavn', 'low');"
    )
    connection.commit()
    connection.close()
    return demo


def test_what_is_proposed_is_enough_for_the_next_climb(make_demo: MakeDemo) -> None:
    """A column that appeared hides what else its table's definition has become: the proposal has both."""
    text, answer = a_climb_that_proposes(
        with_tides(make_demo(start=False)),
        "ALTER TABLE tides ADD COLUMN seen TEXT;"
        " CREATE TABLE anew (id INTEGER PRIMARY KEY, port TEXT NOT NULL, level TEXT, seen TEXT);"
        " INSERT INTO anew SELECT * FROM tides; DROP TABLE tides; ALTER TABLE anew RENAME TO tides;",
    )
    assert 'columns_added = ["seen"]' in text
    assert 'definition_changed = ["table tides"]' in text
    assert answer.code == 0, answer.err


def test_a_column_whose_values_stand_under_another_name_is_proposed_as_renamed(make_demo: MakeDemo) -> None:
    """So that its values are held; one that only looks alike, since it is empty, is not."""
    text, answer = a_climb_that_proposes(
        with_tides(make_demo(start=False)),
        "ALTER TABLE tides RENAME COLUMN port TO harbour; ALTER TABLE tides ADD COLUMN also TEXT;"
        " ALTER TABLE tides ADD COLUMN twice TEXT; UPDATE tides SET also = level, twice = level;"
        " ALTER TABLE tides DROP COLUMN level;",
    )
    assert 'columns_renamed = {port = "harbour"}' in text
    assert 'columns_added = ["also", "twice"]\ncolumns_dropped = ["level"]' in text, "which of the two, nobody knows"
    assert answer.code == 0, answer.err


def test_a_table_whose_rows_stand_under_another_name_is_proposed_as_renamed(make_demo: MakeDemo) -> None:
    """So that its rows are held. Of empty tables that look alike, indexes tell which is which; what holds other values
    is another table.
    """
    demo = with_tides(make_demo(start=False))
    connection = sqlite3.connect(demo.database)
    connection.executescript(
        "CREATE TABLE ropes (id INTEGER PRIMARY KEY, length INTEGER); INSERT INTO ropes VALUES (1, 20);"
        " CREATE TABLE logs_in (at TEXT, who TEXT); CREATE INDEX in_at ON logs_in (at);"
        " CREATE TABLE logs_out (at TEXT, who TEXT); CREATE INDEX out_at ON logs_out (at);"
        " CREATE TABLE notes (at TEXT); CREATE TABLE papers (at TEXT);"
        " CREATE TABLE knots (id INTEGER PRIMARY KEY, name TEXT); INSERT INTO knots VALUES (1, 'bowline');"
    )
    connection.commit()
    connection.close()
    text, answer = a_climb_that_proposes(
        demo,
        'ALTER TABLE tides RENAME TO "port-tides"; ALTER TABLE "port-tides" ADD COLUMN seen TEXT;'
        ' ALTER TABLE logs_in RENAME TO "logs-in"; ALTER TABLE logs_out RENAME TO "logs-out";'
        " CREATE TABLE cables (id INTEGER PRIMARY KEY, length INTEGER); INSERT INTO cables VALUES (1, 21);"
        ' CREATE TABLE "all-knots" (id INTEGER PRIMARY KEY, name TEXT NOT NULL);'
        ' INSERT INTO "all-knots" SELECT * FROM knots; DROP TABLE knots;'
        " DROP TABLE ropes; DROP TABLE notes; DROP TABLE papers; CREATE TABLE leaves (at TEXT);",
    )
    tables = {one["name"]: one for one in tomllib.loads(text)["contract"][0].pop("tables")}
    assert {name: one.get("renamed_from") for name, one in tables.items()} == {
        "port-tides": "tides", "logs-in": "logs_in", "logs-out": "logs_out", "all-knots": "knots",
    }  # fmt: skip
    assert tables["port-tides"]["columns_added"] == ["seen"]
    (contract,) = tomllib.loads(text)["contract"]
    assert contract["tables_added"] == ["cables", "leaves"]
    assert contract["definition_changed"] == ["table all-knots"]
    assert contract["tables_dropped"] == ["notes", "papers", "ropes"]
    assert "objects_dropped" not in contract, "indexes follow their table"
    assert answer.code == 0, answer.err


def test_rows_that_came_do_not_hide_that_old_ones_were_rewritten(make_demo: MakeDemo) -> None:
    """Neither from the proposal, nor, once it is declared, from the verdict."""
    text, answer = a_climb_that_proposes(
        with_tides(make_demo(start=False)),
        "UPDATE tides SET level = 'very high' WHERE id = 1; INSERT INTO tides VALUES (3, 'Ostkai', 'low');",
    )
    assert 'rows = "grow"\ncolumns_changed = ["level"]' in text
    assert answer.code == 0, answer.err
    told = " ".join(answer.out.split())
    assert "1 row came, the 2 old ones compared by key" in told
    assert "main.tides: level rewritten where id = 1, and held in all other rows" in told, "what is given up is told"


GIVES_UP = '[[contract]]\n[[contract.tables]]\nname = "tides"\ncolumns_changed = ["port"]\n'


@pytest.mark.parametrize(
    ("migration", "wanted"),
    [
        (
            "UPDATE tides SET level = 'high' WHERE id = 2; INSERT INTO tides VALUES (3, 'Ostkai', 'low');",
            {"rows": "grow", "columns_changed": ["level"], "changed_where": "id = 2"},
        ),
        (
            "UPDATE tides SET level = 'very high' WHERE id = 1;",
            {"columns_changed": ["level"], "changed_where": "id = 1"},
        ),
        (
            "DELETE FROM tides WHERE id = 1; INSERT INTO tides VALUES (3, 'Ostkai', 'low'), (4, 'Ost', 'low');",
            {"gone_where": "id = 1", "rows": "grow"},
        ),
        (
            "DELETE FROM tides WHERE id = 2; UPDATE tides SET level = 'low';",
            {"gone_where": "id = 2", "columns_changed": ["level"]},
        ),
        ("UPDATE tides SET id = 7 WHERE id = 1; INSERT INTO tides VALUES (3, 'Ostkai', 'low');", {"rows": "any"}),
    ],
    ids=["rewritten and come", "rewritten", "gone", "gone and rewritten", "numbered anew"],
)
def test_what_is_proposed_between_two_releases_is_enough_as_well(
    migration: str, wanted: dict[str, object], make_demo: MakeDemo
) -> None:
    text, answer = a_climb_that_proposes(with_tides(make_demo(start=False)), migration, GIVES_UP)
    ((table,),) = (one["tables"] for one in tomllib.loads(text)["contract"])
    assert table == {"name": "tides", **wanted}
    assert answer.code == 0, answer.err


def test_files_that_nothing_declares_are_proposed_as_what_a_command_writes(environment: Demo) -> None:
    demo = environment
    queue = demo.root / "uploads" / "queue"
    queue.mkdir()
    for number in range(2):
        (queue / f"{number}.message").write_text("the tide is high\n")
    done = "echo x > {root}/stamp; rm {root}/uploads/queue/*"
    text = f'[[commands]]\nname = "stamp"\nat = "before-start"\nrun = ["/bin/sh", "-c", "{done}"]\n\n'
    demo.edit("[maintenance]", text + "[maintenance]")
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "file stamp: is there and is part of neither" in answer.err
    proposal = next(demo.folder.glob(".ladder/climbs/*/seen-contract.toml"))
    proposed = proposal.read_text()
    assert 'writes = ["stamp", "uploads/queue/0.message", "uploads/queue/1.message"]' in proposed
    assert '# writes = ["uploads/queue"]' in proposed
    demo.edit('at = "before-start"', 'at = "before-start"\nwrites = ["stamp", "uploads/queue"]')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 0, answer.err


def test_what_a_first_start_rewrites_of_the_sites_own_is_no_difference_where_the_sheet_says_so(
    environment: Demo,
) -> None:
    """A stamp of the version among the data, as programs keep one that migrate when they are started."""
    demo = environment
    stamp = demo.root / "uploads" / "stamp"
    stamp.write_text("2.4")
    stamp.chmod(0o666)
    demo.edit(
        'run = ["', 'run = ["/bin/sh", "-c", "readlink {root}/current > {root}/uploads/stamp; exec \\"$@\\"", "-", "'
    )
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    assert "file uploads/stamp: has another content" in answer.err
    change_sheet(
        demo, "4.0", "within_s = 120\n\n[[commands]]", 'within_s = 120\nwrites = ["uploads/stamp"]\n\n[[commands]]'
    )
    result = demo.json("climb", "--to", "4.0", "--yes")
    assert "written by `addresses at the first start`: 1 file" in result["proof"]["remarks"]
    price = demo.json("descend", "--price")["price"]
    assert "uploads/stamp" not in price["files"], "nobody has written it since"
    stamp.write_text("4.0, looked after by Käthe")
    assert "uploads/stamp" in demo.json("descend", "--price")["price"]["files"]


def test_waiting_for_a_first_start_is_told_and_ends_with_ctrl_c(
    environment: Demo, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A sign that never comes would keep users out for an hour; nobody can tell from silence what is waited for."""
    demo = environment
    change_sheet(demo, "4.0", 'log_line = "schema is at 40"', 'log_line = "schema is at 41"')
    monkeypatch.setattr(patience, "FIRST_WORD_S", 0.2)
    told, since = list[str](), time.monotonic()

    def listen(event: Event) -> None:
        told.extend([event.text] if isinstance(event, Note) else [])

    def is_interrupted() -> int:
        return int(any("waiting for `web`" in one for one in told))

    with pytest.raises(StoppedPartWay):
        begin(planned(demo.site()), Conditions(listen, is_interrupted))
    (words,) = [one for one in told if "waiting for `web`" in one]
    assert "of at most 2 min" in words
    assert "'schema is at 41' in" in words
    assert time.monotonic() - since < 100, "and not the 120 s of the sheet"
    assert services_of(demo.site())[0].state() is ServiceState.STOPPED, "a first start leaves nothing at work"
    assert demo.yl("descend", "--yes").code == 0


def test_where_the_log_of_a_failed_start_lies_after_going_back_is_told(environment: Demo) -> None:
    demo = environment
    log = demo.root / "log" / "web.log"
    demo.edit('log = "run/web.log"', f'log = "{log}"')
    demo.edit("[keep]\n", '[keep]\nlogs = ["log"]\n')
    log.parent.mkdir(exist_ok=True)
    log.write_text("begun\n")
    change_sheet(demo, "4.0", 'failed = "Traceback"', 'failed = "schema is at 40"')
    change_sheet(demo, "4.0", 'log_line = "schema is at 40"', 'log_line = "schema is at 41"')
    answer = demo.yl("climb", "--to", "4.0", "--yes")
    assert answer.code == 1
    (kept,) = demo.folder.glob(".ladder/climbs/*/written-since/files/log/web.log")
    assert f"what its services logged by then is in {kept}" in answer.err
    assert "schema is at 40" in kept.read_text()


def test_edits_of_a_release_that_a_climb_has_built_are_seen_by_the_next_check(environment: Demo) -> None:
    assert environment.yl("climb", "--to", "3.0", "--yes").code == 0
    assert environment.yl("settle", "--yes").code == 0
    found = environment.json("check", "--to", "4.0")["findings"]
    assert not [one for one in found if one["check"] == "core edits" and one["level"] != "ok"]
    path = next(environment.root.glob("releases/3.0/**/server.py"))
    path.write_text(path.read_text() + "# edited here\n")
    found = environment.json("check", "--to", "4.0", code=1)["findings"]
    (told,) = [one for one in found if one["check"] == "core edits"]
    assert told["level"] == "stop"
    assert "server.py" in told["saw"]


@pytest.mark.parametrize("shape", ["environment", "plain"])
def test_what_a_release_makes_by_itself_in_its_tree_is_nobodys(make_demo: MakeDemo, shape: str) -> None:
    """A cache of compiled pages beside the release's files: no file of the site's, where the sheet says so."""
    demo = make_demo(shape=shape)
    version = "3.0" if shape == "environment" else "2.6"
    assert demo.yl("climb", "--yes", "--to", version).code == 0
    assert demo.yl("settle", "--yes").code == 0
    inside = demo.root / "releases" / version if shape == "environment" else demo.root
    (inside / "berths.page").write_text("made at the first visit")
    told = " ".join(demo.yl("check").out.split())
    assert "1 file neither the release's nor named in the site file" in told
    assert ("generated under [files]" in told) == (shape == "environment")
    says = 'generated = ["berths.page"]\n'
    old, new = (
        ("\n[reach]", f"\n[files]\n{says}\n[reach]") if shape == "environment" else ("[files]\n", f"[files]\n{says}")
    )
    change_sheet(demo, version, old, new)
    told = " ".join(demo.yl("check", "-v").out.split())
    assert "every file below root is the release's or named" in told, told


def test_what_tools_keep_among_a_releases_libraries_is_a_cache_unnamed(environment: Demo) -> None:
    """Written when it is built and again by what runs: no part of the release, and no file of the site's."""
    demo = environment
    keep = "mkdir -p {release}/node_modules/.cache/pages && echo built > {release}/node_modules/.cache/pages/a"
    change_sheet(demo, "3.0", '"{release}/env"]]', f'"{{release}}/env"], ["/bin/sh", "-c", "{keep}"]]')
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    cache = demo.root / "releases/3.0/node_modules/.cache/pages"
    (cache / "a").unlink()
    (cache / "b").write_text("kept by what runs")
    assert demo.yl("verify").code == 0
    told = " ".join(demo.yl("check", "-v").out.split())
    assert "every file below root is the release's or named" in told
    assert demo.yl("descend", "--yes").code == 0


def test_what_a_release_exchanges_of_its_own_tree_by_itself_is_nobodys_edit(environment: Demo) -> None:
    """An application that brings its own packages up to date when it is started."""
    demo = environment
    assert demo.yl("climb", "--to", "3.0", "--yes").code == 0
    assert demo.yl("settle", "--yes").code == 0
    inside = demo.root / "releases" / "3.0"
    server = next(inside.glob("**/server.py"))
    server.write_text(server.read_text() + "# brought up to date\n")
    (inside / "static" / "logo.svg").unlink()
    (inside / "quaybook" / "more.py").write_text("")

    def edits(code: int) -> list[str]:
        found = demo.json("check", "--to", "4.0", code=code)["findings"]
        return [one["level"] for one in found if one["check"] == "core edits" and one["level"] != "ok"]

    assert edits(1) == ["stop", "warn"], "edited, and removed"
    change_sheet(demo, "3.0", "\n[reach]", '\n[files]\ngenerated = ["server.py", "quaybook", "static"]\n\n[reach]')
    assert edits(0) == []
    assert demo.yl("climb", "--to", "4.0", "--yes").code == 0


def test_an_archive_that_a_release_is_made_with_is_no_release_without_a_sheet(make_demo: MakeDemo) -> None:
    demo = make_demo(shape="environment", start=False)
    source = demo.folder / "releases"
    (source / "quaybook-9.0-vendor.tar.gz").write_bytes((source / "quaybook-4.0.tar.zst").read_bytes()[:500])
    sheet = (
        'format = 1\n[release]\nproduct = "quaybook"\nversion = "9.0"\n[archive.build]\n'
        'files = ["quaybook-9.0-vendor.tar.gz"]\ncommands = [["true"]]\n'
    )
    (source / f"quaybook-9.0.{SHEET_NAME}").write_text(sheet)
    answer = demo.yl("check")
    assert "has no release sheet" not in answer.out
    assert "quaybook-9.0-vendor.tar.gz cannot" not in " ".join(answer.out.split())
