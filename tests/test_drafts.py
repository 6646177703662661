"""Sheets are drafted from what an archive, the environment in use and the site tell; every guess is marked as one."""

from __future__ import annotations

import json
import os
import re
import shutil
import sqlite3
import tomllib
from pathlib import Path

import pytest

from tests.archives import entry, write
from tests.conftest import Demo, MakeDemo, run_program
from tests.sites import HEAD, SHEET
from yellow_ladder.discovery.packages import version_in_name
from yellow_ladder.drafting.needs import as_range, needs_in
from yellow_ladder.files.archives.unpack import Limits, look_through
from yellow_ladder.release.sheet import parse_sheet

RUNTIME = '[runtime]\nname = "php"\ncommand = ["/bin/sh", "-c", "echo 8.2.1"]\n'


@pytest.fixture
def environment(make_demo: MakeDemo) -> Demo:
    return make_demo(shape="environment")


@pytest.fixture
def bare(tmp_path: Path) -> Path:
    """A site of 2.4 and archives of two releases as their vendor gives them, without sheets."""
    for version in ("2.4", "2.6"):
        parts = {
            "VERSION": version, "UPGRADE.md": "", "tools/upgrade-harbour.php": "", "src/update_berth.php": "",
            "composer.json": '{"require": {"php": "^8.1", "ext-intl": "*"}}', "sql/upgrades/26.sql": "",
            "sql/upgrades/27.sql": "", "tests/migrate.php": "",
        }  # fmt: skip
        entries = [entry(f"quaybook-{version}/{name}", content=text.encode()) for name, text in parts.items()]
        (tmp_path / "releases").mkdir(exist_ok=True)
        archive(tmp_path, f"quaybook-{version}", entries)
        for name, text in parts.items() if version == "2.4" else ():
            (tmp_path / "app" / name).parent.mkdir(parents=True, exist_ok=True)
            (tmp_path / "app" / name).write_text(text)
    (tmp_path / "ladder.toml").write_text(HEAD.replace("[[versions]]", f"{RUNTIME}[[versions]]"))
    return tmp_path


def archive(folder: Path, name: str, entries: list) -> None:  # type: ignore[type-arg]
    write(folder / "releases" / f"{name}.tar.zst", *entries, sheet=None)


def drafted(folder: Path, name: str) -> tuple[str, dict[str, object]]:
    text = (folder / "releases" / f"{name}.release.toml").read_text()
    return text, parse_sheet(text.encode(), name).model_dump(by_alias=True, exclude_defaults=True)


def test_what_is_drafted_is_a_sheet_with_which_a_site_climbs(bare: Path) -> None:
    told = run_program("check", folder=bare)
    assert "`yl sheet` drafts quaybook-2.6.release.toml beside it" in " ".join(told.out.split())
    made = run_program("sheet", folder=bare)
    assert made.code == 0, made.err
    assert "whether tools/upgrade-harbour.php migrates its data" in " ".join(made.out.split())
    text, sheet = drafted(bare, "quaybook-2.6")
    assert sheet["release"] == {"product": "quaybook", "version": "2.6"}
    assert sheet["reach"] == {"from": ">=2.4,<2.6"}
    assert sheet["needs"] == {"runtime": ">=8.1,<9"}
    assert '# run = ["php", "tools/upgrade-harbour.php"]' in text
    assert "# sql/upgrades has 2 files: steps of its migrations?" in text
    assert "# Its own words: UPGRADE.md" in text
    assert "modules intl" in text
    assert "reach" not in drafted(bare, "quaybook-2.4")[1], "the site is there already"
    up = run_program("climb", "--yes", folder=bare)
    assert up.code == 0, up.out + up.err
    assert (bare / "app" / "VERSION").read_text() == "2.6"


def test_a_migration_that_is_guessed_counts_once_somebody_takes_away_the_marks(bare: Path) -> None:
    run_program("sheet", folder=bare)
    text, _ = drafted(bare, "quaybook-2.6")
    lines = text.splitlines()
    at = lines.index("# [[migrations]]")
    whole = "\n".join([*lines[:at], *(line.removeprefix("# ") for line in lines[at : at + 4]), *lines[at + 4 :]])
    (migration,) = parse_sheet(whole.encode(), "whole").migrations
    assert migration.command is not None
    assert migration.command.run == ["php", "tools/upgrade-harbour.php"]


def test_a_sheet_that_is_there_is_never_written_over(bare: Path) -> None:
    mine = bare / "releases" / "quaybook-2.6.release.toml"
    mine.write_text('format = 1\n[release]\nproduct = "quaybook"\nversion = "2.6"\n# mine\n')
    assert run_program("sheet", folder=bare).code == 0
    assert mine.read_text().endswith("# mine\n")
    assert run_program("sheet", str(bare / "releases" / "quaybook-2.6.tar.zst"), folder=bare).code == 0
    assert mine.read_text().endswith("# mine\n")
    assert run_program("sheet", "--show", folder=bare).code == 0
    assert "reach" not in drafted(bare, "quaybook-2.4")[1]


def test_the_tree_is_where_the_file_with_the_version_lies(bare: Path) -> None:
    """As in archives that have their documents beside the tree; the version is the file's, whatever the name says."""
    entries = [entry("kit/upload/VERSION", content=b"2.7\n"), entry("kit/docs/VERSION/notes.txt", content=b"")]
    archive(bare, "harbour-kit", entries)
    assert run_program("sheet", folder=bare).code == 0
    _, sheet = drafted(bare, "harbour-kit")
    assert (sheet["archive"], sheet["release"]["version"]) == ({"top": "kit/upload"}, "2.7")  # type: ignore[index]
    up = run_program("climb", "--to", "2.7", "--yes", folder=bare)
    assert up.code == 0, up.out + up.err
    assert (bare / "app" / "VERSION").read_text() == "2.7\n"


def test_an_archive_of_which_nothing_can_be_told_keeps_no_other_from_its_sheet(bare: Path) -> None:
    archive(bare, "harbour", [entry("pages.py", content=b"")])
    archive(bare, "quaybook-2.8", [entry("../VERSION", content=b"2.8")])
    made = run_program("sheet", folder=bare)
    assert made.code == 0
    said = " ".join(made.out.split())
    assert "nothing tells which version harbour.tar.zst is" in said
    assert "quaybook-2.8.tar.zst is refused" in said
    assert (bare / "releases" / "quaybook-2.6.release.toml").exists()
    for wrong in ("3.0", "none"):
        assert run_program("sheet", wrong, folder=bare).code == 2


@pytest.mark.parametrize(
    ("says", "meant"),
    [
        ("^8.1", ">=8.1,<9"), (">=8.1", ">=8.1"), ("~8.1", ">=8.1,<9"), ("~8.1.2", ">=8.1.2,<8.2"),
        ("^7.4 || ^8.0", ">=7.4,<9"), ("^8.0|^7.4", ">=7.4,<9"), (">=18.0.0 <21", ">=18.0.0,<21"),
        (">=3.9,<4.0", ">=3.9,<4.0"), ("20.x", ">=20,<21"), ("8.2.*", ">=8.2,<8.3"),
        ("^18 || >=20", ""), ("latest", ""), (">7", ""), ("", ""), (">=3.9, !=3.10.1", ""),
    ],
)  # fmt: skip
def test_what_a_package_needs_becomes_a_range_or_stays_words(says: str, meant: str) -> None:
    assert as_range(says) == meant


@pytest.mark.parametrize(
    ("line", "meant"),
    [("ruby '>= 2.5.0', '< 3.2.0'", ">=2.5.0,<3.2.0"), ("ruby('~> 3.1')", ">=3.1,<4"), ("ruby File.read('x')", None)],
)
def test_what_a_list_of_gems_needs(line: str, meant: str | None) -> None:
    needs = needs_in({"Gemfile": f"source 'https://gems.example'\n\n{line}\ngem 'knots', '~> 1.0'\n"})
    assert [(one.runtime, one.range) for one in needs] == ([("ruby", meant)] if meant else [])


@pytest.mark.parametrize("is_at_hand", [True, False])
def test_the_archive_of_the_installed_release_tells_init_what_is_the_sites_own(
    is_at_hand: bool, tmp_path: Path
) -> None:
    """Times do not: what was built with a release is younger than its code, and what was taken over is older."""
    app = tmp_path / "app"
    files = {"VERSION": 0, "pages.py": 0, "berths.py": 0, "words/de.mo": 900, "words/fr.mo": 900, "words/it.mo": 900,
             "kit/one.xml": 0, "kit/two.xml": 0, "kit/three.xml": 0, "kit/four.xml": 0, "plans/none": 0}  # fmt: skip
    for name, days in {**files, "plans/ost.pdf": -900, "plans/west.pdf": -900, "kit/ours.xml": 900}.items():
        (app / name).parent.mkdir(parents=True, exist_ok=True)
        (app / name).write_text("2.4")
        os.utime(app / name, (1_600_000_000 + days * 86_400,) * 2)
    if is_at_hand:
        (tmp_path / "releases").mkdir()
        archive(tmp_path, "berth-map-2.4", [entry("map.py", content=b"an add-on of that version")])
        archive(tmp_path, "quaybook-2.4", [entry(f"quaybook-2.4/{name}", content=b"2.4") for name in files])
    said = run_program("--json", "init", str(app), folder=tmp_path).document["result"]
    site = tomllib.loads(said["text"])
    assert site["product"] == ("quaybook" if is_at_hand else "app")
    assert site.get("keep", {}).get("data", []) == (["plans"] if is_at_hand else [])
    if is_at_hand:
        assert "2 of 3 files not from the release" in said["text"]


def test_a_version_that_only_the_code_tells_is_found_by_the_archives_at_hand(tmp_path: Path) -> None:
    """Libraries have versions, too; of the archives, the one counts whose files are installed."""
    (tmp_path / "releases").mkdir()
    for version, more in (("2.4.1", "berths"), ("2.6", "berths and boats")):
        tree = {
            "index.php": "<?php // the harbour's " + more,
            "lib/mail.php": "<?php define('MAILER_VERSION', '6.1');",
            "program/boot.php": f"<?php\ndefine('QUAY_VERSION', '{version}');\ndefine('X', 1);\n",
            "conf/defaults.inc.php": "<?php $c['db_dsn'] = 'mysql://quay@localhost/quay';\n",
        }
        archive(
            tmp_path, f"quaybook-{version}-complete", [entry(f"q/{n}", content=t.encode()) for n, t in tree.items()]
        )
        for name, text in tree.items() if version == "2.4.1" else ():
            (tmp_path / "app" / name).parent.mkdir(parents=True, exist_ok=True)
            (tmp_path / "app" / name).write_text(text)
    database = tmp_path / "app" / "store" / "q.db"
    database.parent.mkdir()
    with sqlite3.connect(database) as made:
        made.execute("CREATE TABLE berths (id)")
    (tmp_path / "app" / "conf" / "config.inc.php").write_text(
        f"<?php $c['db_dsn'] = 'sqlite:///{database}?mode=0640';\n"
    )
    said = run_program("--json", "init", str(tmp_path / "app"), folder=tmp_path).document["result"]
    site = tomllib.loads(said["text"])
    (probe,) = site["versions"]
    assert probe["file"] == "program/boot.php"
    assert re.search(probe["pattern"], (tmp_path / "app" / probe["file"]).read_text())[1] == "2.4.1"  # type: ignore[index]
    assert site["product"] == "quaybook"
    assert [one["url"] for one in site["databases"]] == ["sqlite:///app/store/q.db"], "a shipped default is none"
    assert [one["file"] for one in site["keep"]["settings"]] == ["conf/config.inc.php"]


@pytest.mark.parametrize("is_at_hand", [True, False])
def test_what_is_the_sites_own_lies_further_down_as_well(is_at_hand: bool, tmp_path: Path) -> None:
    app = tmp_path / "app"
    shipped = ["VERSION", "index.php", "content/index.php", "content/plugins/tide/tide.php", "content/readme.txt",
               "include/themes/plain/a.css", "content/plugins/rope/rope.php", "include/a.php"]  # fmt: skip
    shipped += ["conf/users.php.dist", "conf/defaults.php", "content/dress/plain/page.php", "content/dress/list.txt"]
    own = ["content/uploads/2026/ship.jpg", "content/plugins/ours/ours.php", ".htaccess", "content/plans/ost.pdf",
           "conf/users.php", "conf/rules.php", "content/dress/ours/page.php", "include/left_over.php"]  # fmt: skip
    for name in (*shipped, *own):
        (app / name).parent.mkdir(parents=True, exist_ok=True)
        (app / name).write_text("2.4")
    if is_at_hand:
        (tmp_path / "releases").mkdir()
        archive(tmp_path, "quaybook-2.4", [entry(name, content=b"2.4") for name in shipped])
    keep = tomllib.loads(run_program("--json", "init", str(app), folder=tmp_path).document["result"]["text"])["keep"]
    wanted = {"data": ["content/uploads"], "addons": ["content/plugins"]}
    if is_at_hand:
        wanted |= {"data": ["content/plans", "content/uploads"], "addons": ["content/dress", "content/plugins"]}
        wanted["assets"] = [".htaccess", "conf/rules.php", "conf/users.php"]  # other code may be an older release's
    assert keep == wanted


@pytest.mark.parametrize(
    ("name", "version"),
    [
        ("quaybook-3.0.tar.gz", "3.0"), ("quaybook_3.0.1_all.zip", "3.0.1"), ("quaybook-v3.0-linux-amd64.tgz", "3.0"),
        ("quay-linux-x86_64.tar.gz", ""), ("quay-linux-x86_64-3.0.tar.gz", "3.0"),
        ("quay-2-3.0rc1.tar.xz", "3.0rc1"), ("quaybook-2026-01-20.zip", "2026-01-20"), ("quaybook.zip", ""),
    ],
)  # fmt: skip
def test_versions_in_the_names_of_archives(name: str, version: str) -> None:
    assert version_in_name(name) == version


def test_a_release_that_commands_make_is_drafted_from_the_environment_in_use(environment: Demo) -> None:
    demo = environment
    made = next((demo.root / "releases" / "2.4").rglob("pyvenv.cfg")).parent
    about = made / "lib" / "python3.11" / "site-packages" / "quaybook-2.4.dist-info"
    about.mkdir(parents=True)
    (about / "REQUESTED").touch()
    answer = demo.yl("sheet", "5.0")
    assert answer.code == 0, answer.err
    sheet = tomllib.loads((demo.folder / "releases" / "quaybook-5.0.release.toml").read_text())
    assert sheet["archive"]["build"]["files"] == ["packages-5.0.txt"]
    first, second = sheet["archive"]["build"]["commands"]
    assert first[:3] == ["{runtime}", "-m", "venv"]
    assert second[-1] == "{source}/packages-5.0.txt"
    assert "quaybook==5.0" in (demo.folder / "releases" / "packages-5.0.txt").read_text().splitlines()
    assert demo.yl("sheet", "5.0").code == 2, "it is there by now"


@pytest.mark.parametrize("is_told", [True, False])
def test_an_environment_is_drafted_with_the_application_and_its_parts_at_the_new_version(
    is_told: bool, tmp_path: Path
) -> None:
    """What one of its parts needs is the application all the same; a name that nothing tells installs nothing."""
    release = tmp_path / "harbour" / "releases" / "2.4"
    packages = release / "lib" / "python3.11" / "site-packages"
    parts = {"quaybook": "", "quaybook_web": "quaybook>=2", "knots": "", "rope": "hemp"} if is_told else {"rope": ""}
    for name, needs in parts.items():
        folder = packages / f"{name}-{'2.4' if name.startswith('quay') else '1.0'}.dist-info"
        folder.mkdir(parents=True)
        (folder / "REQUESTED").touch()
        (folder / "METADATA").write_text(f"Name: {name}\nRequires-Dist: {needs or 'tidelib'}\n")
    if is_told:
        (packages / "hemp-0.3.dist-info").mkdir()
        (packages / "hemp-0.3.dist-info" / "REQUESTED").touch()
    else:
        (packages / "rope-1.0.dist-info").rename(packages / "hemp-1.0.dist-info")
        shutil.copytree(packages / "hemp-1.0.dist-info", packages / "knots-1.0.dist-info")
    (release / "pyvenv.cfg").write_text("home = /usr/bin\nversion = 3.11.2\n")
    (tmp_path / "harbour" / "current").symlink_to("releases/2.4")
    (tmp_path / "releases").mkdir()
    assert run_program("init", "harbour", folder=tmp_path).code == 0
    product = tomllib.loads((tmp_path / "ladder.toml").read_text())["product"]
    assert product == ("quaybook" if is_told else "harbour")
    answer = run_program("sheet", "3.0", folder=tmp_path)
    sheet = tomllib.loads((tmp_path / "releases" / f"{product}-3.0.release.toml").read_text())
    made = tmp_path / "releases" / "packages-3.0.txt"
    if is_told:
        assert sheet["archive"]["build"]["files"] == [made.name]
        lines = made.read_text().splitlines()
        assert [one for one in lines if one and "Asked" not in one] == [
            "quaybook==3.0", "knots==1.0", "quaybook_web==3.0", "rope==1.0", "# hemp==0.3"]  # fmt: skip
    else:
        assert "archive" not in sheet
        assert not made.exists()
        assert "which package is the application" in answer.out


def test_modules_of_one_series_and_the_extras_that_were_installed_are_asked_for_again(tmp_path: Path) -> None:
    """The core is needed by each of its modules, which have last numbers of their own; what else is there tells the
    extras, but for what another package brought.
    """
    release = tmp_path / "harbour" / "releases" / "7.6.20"
    packages = release / "lib" / "python3.11" / "site-packages"
    of_core = """Requires-Dist: letters[fast]>=1; python_version >= "3"
Provides-Extra: postgresql
Requires-Dist: tidesql>=2; extra == "postgresql"
Requires-Dist: rope; platform_release ~= "no version"
Provides-Extra: x
 --index-url=http://127.0.0.1:1/
Requires-Dist: tidesql>=2; extra == "x"
Provides-Extra: pictures
Requires-Dist: brush; extra == "pictures"
Provides-Extra: speed
Requires-Dist: quickletters; extra == "speed"
Provides-Extra: all
Requires-Dist: brush; extra == "all"
Requires-Dist: tidesql; extra == "all"
"""
    of_letters = 'Provides-Extra: fast\nRequires-Dist: quickletters; extra == "fast"\n'
    for name, is_asked, needs in (
        ("quaybook-7.6.20", True, of_core), ("quaybook_berths-7.6.3", True, "Requires-Dist: quaybook<7.7,>=7.6\n"),
        ("quaybook_tides-7.6.0", True, "Requires-Dist: quaybook-berths\nRequires-Dist: not a requirement!\n"),
        ("quaybook_ferry-7.5.1", True, ""), ("quaybook_moon-7.6.1", False, ""), ("letters-1.0", False, of_letters),
        ("quickletters-1.0", False, ""), ("tidesql-2.9", False, ""),
    ):  # fmt: skip
        folder = packages / f"{name}.dist-info"
        folder.mkdir(parents=True)
        (folder / "METADATA").write_text(f"Name: {name.partition('-')[0]}\n{needs}\nRequires-Dist: in the text\n")
        if is_asked:
            (folder / "REQUESTED").touch()
    (release / "pyvenv.cfg").write_text("home = /usr/bin\nversion_info = 3.11.2\nvirtualenv = 20.17.1\n")
    (tmp_path / "harbour" / "current").symlink_to("releases/7.6.20")
    (tmp_path / "releases").mkdir()
    assert run_program("init", "harbour", folder=tmp_path).code == 0
    assert tomllib.loads((tmp_path / "ladder.toml").read_text())["product"] == "quaybook"
    answer = run_program("sheet", "7.8.2", folder=tmp_path)
    assert answer.code == 0, answer.err
    made = (tmp_path / "releases" / "packages-7.8.2.txt").read_text().split()
    assert made[:2] == ["quaybook[postgresql]==7.8.2", "quaybook_ferry==7.5.1"]
    assert made[2:] == ["quaybook_tides~=7.8.0", "quaybook_berths~=7.8.0"]
    told = " ".join(answer.out.split())
    sheet = tomllib.loads((tmp_path / "releases" / "quaybook-7.8.2.release.toml").read_text())
    assert sheet["archive"]["build"]["commands"][0] == ["virtualenv", "--python", "{runtime}", "{release}"]
    assert "extras of quaybook, told by what else is there: quaybook[postgresql]" in told
    assert "whether quaybook_tides, quaybook_berths are released in the same series as quaybook" in told


def test_libraries_that_are_installed_into_the_tree_are_made_anew_with_each_release(tmp_path: Path) -> None:
    """As of a checkout in which an installer has filled a folder: none of it is the site's own, or the archive's."""
    app = tmp_path / "app"
    (tmp_path / "releases").mkdir()
    for version in ("2.4", "2.6"):
        parts = {"VERSION": version, "package.json": "{}", "package-lock.json": "{}", "server.js": "",
                 "public/plans/.keep": ""}  # fmt: skip
        archive(tmp_path, f"quaybook-{version}", [entry(name, content=t.encode()) for name, t in parts.items()])
        for name, text in parts.items() if version == "2.4" else ():
            (app / name).parent.mkdir(parents=True, exist_ok=True)
            (app / name).write_text(text)
    for name in ("node_modules/knots/index.js", ".git/HEAD", "public/plans/ost.pdf"):
        (app / name).parent.mkdir(parents=True, exist_ok=True)
        (app / name).write_text("as of 2.4")
    assert run_program("init", str(app), folder=tmp_path).code == 0
    site = tomllib.loads((tmp_path / "ladder.toml").read_text())
    assert site["keep"]["data"] == [".git", "public/plans"]
    assert run_program("sheet", folder=tmp_path).code == 0
    for version, name in (("2.4", "quaybook-2.4"), ("2.6", "quaybook-2.6")):
        _, sheet = drafted(tmp_path, name)
        assert sheet["files"] == {"generated": ["node_modules"]}
        assert ("commands" in sheet) is (version == "2.6")
    file = tmp_path / "releases" / "quaybook-2.6.release.toml"
    text = file.read_text()
    assert 'run = ["npm", "ci", "--omit=dev"]' in text
    made = "mkdir -p node_modules/knots && echo as of 2.6 > node_modules/knots/index.js"
    file.write_text(text.replace('["npm", "ci", "--omit=dev"]', f'["/bin/sh", "-c", "{made}"]'))
    up = run_program("climb", "--yes", folder=tmp_path)
    assert up.code == 0, up.out + up.err
    assert (app / "node_modules" / "knots" / "index.js").read_text() == "as of 2.6\n"
    assert (app / ".git" / "HEAD").read_text() == "as of 2.4"
    down = run_program("descend", "--yes", folder=tmp_path)
    assert down.code == 0, down.out + down.err
    assert (app / "node_modules" / "knots" / "index.js").read_text() == "as of 2.4"
    file.write_text(text.replace("generated", "# generated").replace("writes", "# writes"))
    (tmp_path / "releases" / "quaybook-2.4.release.toml").write_text(SHEET.format("2.4"))
    told = " ".join(run_program("check", folder=tmp_path).out.split())
    assert 'generated = ["node_modules"] under [files] of its sheet' in told


def test_what_came_with_a_release_and_is_as_it_came_says_nothing_of_the_site(tmp_path: Path) -> None:
    """Its defaults, its folder of data that has the release's own in it, the version of a library that it brings."""
    app = tmp_path / "app"
    (tmp_path / "releases").mkdir()
    for version in ("2.4", "2.6"):
        parts = {
            "index.php": "<?php // berths" + " and boats" * (version == "2.6"),
            "boot.php": "<?php", "conf/menu.ini": "[menu]\nberths = yes\n",
            "lib/setup.php": "<?php $db_name = 'quay'; $db_host = 'localhost'; $db_user = 'quay';",
            "data/words.txt": "rope " * 900, "library/vendor/other/VERSION": "9.9", "forms/MigrationForm.php": "",
            "library/vendor/other/more.php": version * 50,
        }  # fmt: skip
        archive(tmp_path, f"quaybook-{version}", [entry(f"q/{n}", content=x.encode()) for n, x in parts.items()])
        for name, text in parts.items() if version == "2.4" else ():
            (app / name).parent.mkdir(parents=True, exist_ok=True)
            (app / name).write_text(text)
    said = run_program("--json", "init", str(app), folder=tmp_path).document["result"]
    assert said["found"]["package"] == "quaybook-2.4.tar.zst"
    site = tomllib.loads((tmp_path / "ladder.toml").read_text())
    assert not site.get("keep")
    assert "databases" not in site
    assert run_program("sheet", folder=tmp_path).code == 0
    text, sheet = drafted(tmp_path, "quaybook-2.4")
    assert (sheet["release"]["version"], "archive" in sheet) == ("2.4", False)  # type: ignore[index]
    assert "MigrationForm" not in text
    (app / "conf" / "menu.ini").write_text("[menu]\nberths = no\n")
    again = tomllib.loads(run_program("--json", "init", str(app), "--show", folder=tmp_path).document["result"]["text"])
    assert [one["file"] for one in again["keep"]["settings"]] == ["conf/menu.ini"], "an edit makes it the site's own"


def test_an_archive_cannot_write_into_the_draft_of_its_sheet(bare: Path) -> None:
    """Whoever made it chooses the names of its files and the words in them; the draft is read and run by root."""
    evil = '\n[[commands]]\nname = "evil"\nat = "closed"\nrun = ["/bin/true"]\n#'
    names = [f"CHANGES{evil}", f"upgrade{evil}.php", f"migrations{evil}/up.sql", f"sql/{evil}-upgrade.sql"]
    said = {"composer.json": '{"require": {"php": ">=8\\n[[commands]]\\n", "ext-a\\n[[commands]]\\nx": "*"}}'}
    entries = [entry(name, content=b"#!/bin/sh \n[[commands]]\n") for name in (*names, os.fsdecode(b"upgrade-\xff.sh"))]
    entries += [entry(name, content=text.encode()) for name, text in said.items()]
    archive(bare, "quaybook-2.9", [entry("VERSION", content=b"2.9"), *entries])
    made = run_program("sheet", folder=bare)
    assert made.code == 0, made.err
    text, sheet = drafted(bare, "quaybook-2.9")
    assert "commands" not in sheet
    assert all(line.startswith(("#", "[", "format", "product", "version", "from", "runtime")) or not line
               for line in text.splitlines())  # fmt: skip
    assert "[[commands]]" not in text.splitlines()


def test_an_archive_of_countless_files_that_look_telling_takes_no_room(tmp_path: Path) -> None:
    file = tmp_path / "many.tar.zst"
    write(file, *(entry(f"{n}/upgrade.php", content=b"x" * 200_000) for n in range(200)), sheet=None)
    sizes, found = look_through(file, Limits(), lambda _: True, 256 * 1024)
    assert len(sizes) == 200
    assert sum(map(len, found.values())) <= 16 * 1024**2


@pytest.mark.parametrize("is_told", [True, False])
def test_a_folder_of_libraries_is_drafted_with_the_application_that_its_version_tells(
    is_told: bool, tmp_path: Path
) -> None:
    """A name alone may be anybody's in a registry, and installing runs code: then no command is drafted."""
    release = tmp_path / "harbour" / "releases" / "2.4"
    packages = {
        "quaybook": "2.4" if is_told else "2.3",
        "pg": "8.1.0",
        "../knots": "2.4",
        "rope": "git+file:///tmp/rope",
    }
    for name, version in packages.items():
        place = release / "node_modules" / name.replace("../", "")
        place.mkdir(parents=True)
        (place / "package.json").write_text(json.dumps({"name": name, "version": version}))
    (release / "package.json").write_text(json.dumps({"private": True, "dependencies": packages}))
    (tmp_path / "harbour" / "current").symlink_to("releases/2.4")
    (tmp_path / "releases").mkdir()
    assert run_program("init", "harbour", folder=tmp_path).code == 0
    site = tomllib.loads((tmp_path / "ladder.toml").read_text())
    assert (site["product"], site["placement"]) == ("quaybook" if is_told else "harbour", "pointer")
    answer = run_program("sheet", "3.0", folder=tmp_path)
    assert answer.code == 0, answer.err
    sheet = tomllib.loads((tmp_path / "releases" / f"{site['product']}-3.0.release.toml").read_text())
    made = tmp_path / "releases" / "packages-3.0.json"
    if is_told:
        copy, install = sheet["archive"]["build"]["commands"]
        assert (copy[1:], install[:2]) == (["{source}/packages-3.0.json", "{release}/package.json"], ["npm", "install"])
        assert json.loads(made.read_text())["dependencies"] == {"quaybook": "3.0", "pg": "8.1.0"}
    else:
        assert "archive" not in sheet
        assert not made.exists()
        assert "which package is the application" in answer.out
