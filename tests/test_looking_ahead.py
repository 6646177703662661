"""What is known before a climb: needs, landings, order, fixes, and every check's answer in one pass."""

from __future__ import annotations

import json
import os
import re
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import PROGRAM, Demo, MakeDemo
from yellow_ladder.checks import Level
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.plan import WayBack
from yellow_ladder.demo.troubles import RUNTIME_LATER, install_runtime, mend_troubles
from yellow_ladder.release.sheet import ReleaseSheet
from yellow_ladder.release.versions import Version, could_meet
from yellow_ladder.report.climbs import _ways_in_words
from yellow_ladder.route import Machine, Thing, order_of
from yellow_ladder.route.needs import find_landings, joined
from yellow_ladder.site.records import Replica
from yellow_ladder.site.state import StateFolder

NOW = datetime(2026, 11, 23, 22, 0, tzinfo=UTC)

# ---- versions


@pytest.mark.parametrize(
    "ordered",
    [
        ["2.9", "2.10", "2.10.1", "3.0rc1", "3.0"],
        ["3.0-SNAPSHOT", "3.0-M1", "3.0-beta.2", "3.0-rc.1", "3.0", "3.0+build.7", "3.0.1"],
        ["2025-12-31", "2026-01-20", "2026-11-23", "2027-01-01"],
        ["2025.12", "2026-01", "2026.2", "2026.11"],
        ["v2026-01-20T10-33-05Z", "2026-01-20T10-33-06Z", "20260120T104000Z", "2026-01-21"],
        ["2026-01-20", "2026-01-20a", "2026-01-20b", "2026-01-20T00-00-01", "2026-01-21rc1", "2026-01-21"],
        ["1.0.2", "1.0.2k", "1.0.2m", "1.0.2.1", "1.0.3b", "1.0.3"],
        ["release-2.6", "REL_2_6_1", "quaybook-3.0", "v3.1"],
    ],
)
def test_versions_order_however_products_write_them(ordered: list[str]) -> None:
    versions = [Version(text) for text in ordered]
    backwards = versions[::-1]
    assert sorted(backwards) == versions
    assert len(set(versions)) == len(versions)
    assert [str(one) for one in versions] == ordered


def test_ranges_hold_for_dates_too() -> None:
    assert Version("2026-01-20").is_in(">=2026-01-01,<2026-02-01")
    assert Version("2026-01-20a").is_in(">2026-01-20,<2026-01-20b")
    assert not Version("2026-02-01").is_in(">=2026-01-01,<2026-02-01")
    for text in ("", "three", "../3.0", "3.0/4", "1.1.1ww"):
        with pytest.raises(ValueError, match="should be a version"):
            Version(text)


NUMBER = st.integers(1, 6)
CLAUSE = st.tuples(st.sampled_from([">=", ">", "<=", "<", "==", "!="]), NUMBER).map(lambda pair: f"{pair[0]}{pair[1]}")


@given(st.lists(CLAUSE, max_size=4), st.integers(0, 70))
def test_a_range_that_nothing_could_meet_holds_nothing(clauses: list[str], tenths: int) -> None:
    version = Version(f"{tenths // 10}.{tenths % 10}")
    if not could_meet(clauses):
        assert not clauses or not version.is_in(",".join(clauses))
    if clauses and all(clause[1] not in "=" or clause[0] in "<>" for clause in clauses):
        assert version.is_in(",".join(clauses)) == version.is_in(joined(clauses))


# ---- needs and landings

RANGE = st.none() | st.tuples(NUMBER, NUMBER).map(lambda pair: (min(pair), max(pair)))


def sheet(version: str, **needs: Any) -> ReleaseSheet:
    reach = {"rest_days": needs.pop("rest_days", 0), "order": needs.pop("order", [])}
    about = {"product": "quaybook", "version": version, "parts": needs.pop("brings", {})}
    return ReleaseSheet.model_validate({"format": 1, "release": about, "needs": needs, "reach": reach})


@given(have=NUMBER, ranges=st.lists(RANGE, min_size=2, max_size=7))
def test_landings_serve_every_rung_and_there_are_no_more_than_needed(
    have: int, ranges: list[tuple[int, int] | None]
) -> None:
    texts = ["" if one is None else f">={one[0]},<={one[1]}" for one in ranges]
    sheets = [sheet(f"{number}.0", **({"runtime": text} if text else {})) for number, text in enumerate(texts)]
    machine = Machine({Thing("runtime"): str(have)})
    landings = find_landings((Version("0.0"), sheets[0]), sheets[1:], machine)
    changes = {one.rungs: one.changes[0] for one in landings}

    def fits(version: int, place: int) -> bool:
        one = ranges[place]
        return one is None or one[0] <= version <= one[1]

    now = have
    for rung in range(1, len(ranges)):
        change = changes.get(rung - 1)
        if change is not None:
            chosen = [one for one in range(1, 7) if Version(str(one)).is_in(change.wanted)]
            assert chosen
            now = chosen[0]
            assert not change.serves_both or fits(now, rung - 1)
        assert fits(now, rung)
    if any(all(fits(one, place) for place in range(len(ranges))) for one in range(1, 7)):
        assert not any(one.rungs for one in landings)
    # No change where what is there serves all; and never more than one for each rung that the last state fails.
    if all(fits(have, place) for place in range(1, len(ranges))):
        assert landings == []


def test_what_no_version_serves_on_both_sides_says_to_stop_first() -> None:
    way = [sheet("2.6", runtime="<3.10"), sheet("3.0", runtime=">=3.10")]
    (landing,) = find_landings((Version("2.4"), None), way, Machine({Thing("runtime"): "3.8"}, "script"))
    assert (landing.rungs, str(landing.version)) == (1, "2.6")
    assert landing.instructions == (
        "stop the services, then bring the runtime script to >=3.10 (now 3.8):"
        " no version serves 2.6 and what comes next",
    )


def test_rest_days_people_tools_and_parts_make_landings() -> None:
    way = [
        sheet("2.6", rest_days=14, tools={"paper": ">=6"}),
        sheet("3.0", people={"what": "sort the old notices", "query": "SELECT 0"}, tools={"paper": ">=7"}),
        sheet("4.0", parts={"kit": ">=2", "rope": ">=1"}, brings={"kit": "2.1"}),
    ]
    machine = Machine({Thing("tool", "paper"): "6.1", Thing("part", "kit"): "1.0", Thing("part", "rope"): "1.5"})
    landings = find_landings((Version("2.4"), sheet("2.4", tools={"paper": "<7"})), way, machine)
    assert [(one.rungs, one.instructions) for one in landings] == [
        (1, ("bring the tool paper to >=7 (now 6.1)", "let people use 2.6 for 14 days",
             "have this done: sort the old notices")),
    ]  # fmt: skip


def test_the_copies_of_a_replicated_site_go_up_in_the_order_of_the_rules() -> None:
    replicas = [Replica(name="mole", role="standby"), Replica(name="quay", role="reader")]
    ordered = sheet(
        "3.0",
        order=[
            {"from": "<2.5", "first": ["standby"], "then": ["primary"], "detach": ["reader"]},
            {"first": ["primary"]},
        ],
    )
    assert order_of(ordered, Version("2.4"), "primary", replicas) == (
        "take quay (reader) off", "bring mole (standby) to 3.0", "bring this site (primary) to 3.0",
        "add quay (reader) again, at 3.0",
    )  # fmt: skip
    assert order_of(ordered, Version("2.6"), "primary", replicas)[0] == "bring this site (primary) to 3.0"
    assert order_of(ordered, Version("2.4"), "primary", []) == ()


def test_a_climb_lands_rests_and_goes_on(make_demo: MakeDemo) -> None:
    demo = make_demo(troubled=True)
    mend_troubles(demo.folder, demo.root)
    route = demo.json("route", "--all")
    assert [rung["to"] for rung in route["rungs"]] == ["2.6", "3.0", "4.0"]
    assert route["landings"] == [
        {"after": 2, "at": "3.0", "do": ["bring the runtime harbour-script to >=3.10, <3.12 (now 3.8.2)"]}
    ]
    over = {one["version"]: one["why"] for one in route["passed_over"]}
    assert over["2.6.1"].startswith("newer inside than 3.0 (schema 31 against 30)")
    assert over["3.1"].startswith("withdrawn")
    assert over["5.0b1"] == "a preview"
    landed = demo.yl("climb", "--yes", "--json")
    assert landed.code == 3  # whole, and not there yet: no script may take it for done
    assert landed.document["result"]["proof"]["whole"]
    assert landed.document["result"]["landing"]["to_version"] == "4.0"
    assert demo.json("survey")["versions"][1]["says"] == "3.0"  # open to users
    refused = demo.yl("climb", "--continue", "--yes", "--json")
    assert refused.code == 1
    assert "the runtime harbour-script is at 3.8.2" in refused.problems[0]["message"]
    assert ">=3.10, <3.12, which 3.0 runs on as well" in refused.problems[0]["remedy"]
    install_runtime(demo.folder, RUNTIME_LATER)
    assert demo.json("climb", "--continue", "--yes")["proof"]["to_version"] == "4.0"
    nothing = demo.yl("climb", "--continue", "--json")
    assert nothing.problems[0]["code"] == "nothing-to-continue"
    assert [one["to"] for one in demo.json("history")] == ["3.0", "4.0"]
    assert demo.yl("descend", "--yes").code == 0
    assert demo.yl("climb", "--continue", "--json").problems[0]["code"] == "not-agreed"  # it may go on again
    assert demo.yl("descend", "--yes").code == 0
    assert demo.json("survey")["version"] == "2.4"
    assert demo.yl("climb", "--continue", "--json").problems[0]["code"] == "nothing-to-continue"


def test_one_runtime_for_the_whole_way_is_asked_for_before(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False, troubled=True)
    for name in ("2.4", "4.0"):
        beside(demo, name, f'[needs]\nruntime = "{">=3.6,<3.12" if name == "2.4" else ">=3.10,<3.12"}"\n')
    (demo.folder / "releases" / "quaybook-2.6.release.toml").unlink(missing_ok=True)
    beside(demo, "2.6", '[needs]\nruntime = ">=3.6,<3.12"\n')
    route = demo.json("route")
    assert route["landings"] == []
    assert route["before"] == ["bring the runtime harbour-script to >=3.10, <3.12 (now 3.8.2)"]
    stops = {one["check"]: one for one in demo.json("check", code=1)["findings"] if one["level"] == "stop"}
    assert "which 2.4 runs on as well" in stops["machine"]["remedy"]


TOOL = '[[tools]]\nname = "paper"\ncommand = ["echo", "{}"]'
PART = '[[versions]]\nof = "disk"\npart = "kit"\ncommand = ["echo", "{}"]'
NEEDS = [
    ('tools = { paper = ">=6" }', "", "stop", "nothing tells the version of the tool paper"),
    ('tools = { paper = ">=6" }', TOOL.format("5.2"), "stop", "the tool paper is at 5.2"),
    ('tools = { paper = ">=6" }', TOOL.format("6.2"), "ok", "paper is at 6.2"),
    ('packages = { Tides = ">=1" }', '[runtime]\ncommand = ["echo", "3.9"]\npackages = ["echo", "ropes 2"]', "stop",
     "the package tides is not installed"),
    ('packages = { Tides = ">=1" }', '[runtime]\ncommand = ["echo", "3.9"]\npackages = ["echo", "TIDES==1.2"]', "ok",
     "the package tides is at 1.2"),
    ('database = { sqlite = ">=99" }', "", "stop", "the database server sqlite is at 3."),
    ('database = { mariadb = ">=10.6" }', "", "", ""),
    ('parts = { kit = ">=2" }', PART.format("1.9"), "stop", "kit is at 1.9"),
    ('licence = "of the year 2026"', "", "stop", "needs a licence (of the year 2026), and no licence file is here"),
]  # fmt: skip


@pytest.mark.parametrize(("needs", "site", "level", "told"), NEEDS)
def test_what_a_release_needs_is_asked_of_the_machine(idle: Demo, needs: str, site: str, level: str, told: str) -> None:
    beside(idle, "2.6", f"[needs]\n{needs}\n")
    idle.edit('digests = "required"', 'digests = "wanted"')
    idle.edit("[[databases]]", f"{site}\n\n[[databases]]")
    findings = [*found(idle, "machine", "--to", "2.6"), *found(idle, "licence", "--to", "2.6")]
    assert [one["level"] for one in findings] == ([level] if level else [])
    assert not told or told in findings[0]["saw"]
    assert not findings or level == "ok" or findings[0]["remedy"]


def beside(demo: Demo, version: str, needs: str) -> None:
    """Lay a sheet beside a release that says the same with other needs."""
    from yellow_ladder.release.source import sheet_in

    archive = demo.folder / "releases" / f"quaybook-{version}.tar.zst"
    raw = sheet_in(archive)
    assert raw is not None
    text = raw.decode().split("[needs]")[0].split("[archive]")[0]
    (demo.folder / "releases" / f"quaybook-{version}.release.toml").write_text(text + needs)


# ---- checks


def found(demo: Demo, check: str, *words: object) -> list[dict[str, str]]:
    """The findings of one check."""
    answer = demo.yl("check", *words, "--json")
    assert "Traceback" not in answer.err
    return [one for one in answer.document["result"]["findings"] if one["check"] == check]


def test_every_finding_comes_in_one_pass_with_a_remedy(make_demo: MakeDemo) -> None:
    demo = make_demo(start=False, troubled=True)
    (demo.root / "data" / "closed").write_text("left over")
    demo.edit('wanted = "0"', 'wanted = "7"')
    answer = demo.yl("check", "--json")
    findings = answer.document["result"]["findings"]
    stops = [one["check"] for one in findings if one["level"] == "stop"]
    assert {"core edits", "unclaimed files", "add-ons", "maintenance", "open invoices"} <= set(stops)
    levels = [one["level"] for one in findings]
    assert levels == sorted(levels, key=["stop", "warn", "ok"].index)
    assert all(one["remedy"] for one in findings if one["level"] != "ok")
    assert len(answer.problems) == len(stops)
    shown = demo.yl("check", COLUMNS="80")
    assert max(map(len, shown.out.splitlines())) <= 80
    assert shown.out.index("stop") < shown.out.index("warn")


def occupied(demo: Demo) -> Callable[[], None]:
    """Somebody else listens on the service's port."""
    holder = socket.create_server(("127.0.0.1", demo.prepared.port))
    return holder.close


def shell_below(demo: Demo) -> Callable[[], None]:
    """Somebody's shell works below root."""
    shell = subprocess.Popen(["sleep", "60"], cwd=demo.root / "uploads")

    def end() -> None:
        shell.kill()
        shell.wait()

    return end


def open_transaction(demo: Demo) -> Callable[[], None]:
    code = (
        "import sqlite3, sys, time; c = sqlite3.connect(sys.argv[1], isolation_level=None);"
        "c.execute('BEGIN IMMEDIATE'); print(1, flush=True); time.sleep(60)"
    )
    holder = subprocess.Popen([sys.executable, "-c", code, str(demo.database)], stdout=subprocess.PIPE)
    assert holder.stdout
    holder.stdout.readline()

    def end() -> None:
        holder.kill()
        holder.communicate()

    return end


def debug_on(demo: Demo) -> None:
    settings = demo.root / "etc" / "quaybook.ini"
    settings.write_text(settings.read_text().replace("[database]", "debug = on\n\n[database]"))


def old_backup(demo: Demo) -> None:
    demo.yl("backup", "make")
    (index,) = (demo.folder / ".ladder/backups").glob("*/backup.json")
    record = json.loads(index.read_text())
    record["made_at"] = f"{datetime.now(UTC) - timedelta(days=40):%Y-%m-%dT%H:%M:%SZ}"
    index.write_text(json.dumps(record))


def backup_of_tomorrow(demo: Demo) -> None:
    old_backup(demo)
    (index,) = (demo.folder / ".ladder/backups").glob("*/backup.json")
    record = json.loads(index.read_text())
    record["made_at"] = f"{datetime.now(UTC) + timedelta(days=1):%Y-%m-%dT%H:%M:%SZ}"
    index.write_text(json.dumps(record))


def account_without_rights(demo: Demo) -> None:
    demo.edit('kind = "process"', 'kind = "process"\nas_user = "nobody"')


def key_named_in_a_template(demo: Demo) -> None:
    demo.edit('assets = ["static/logo.svg"]', 'assets = ["static/logo.svg", "static/our.css"]')
    (demo.root / "static" / "our.css").write_text("/* x */\nlegacy_theme: yes;\n")


def question(text: str) -> Callable[[Demo], None]:
    def ask(demo: Demo) -> None:
        demo.edit("[maintenance]", f'[[checks]]\nname = "ours"\n{text}\n\n[maintenance]')

    return ask


CASES: list[tuple[str, Callable[[Demo], Any], str, str]] = [
    ("ports", occupied, "stop", "is held by process"),
    ("others at work", shell_below, "warn", "works in"),
    ("transactions", open_transaction, "stop", "stays open"),
    ("mode switches", debug_on, "warn", "server.debug = on"),
    ("last backup", old_backup, "warn", "40 days old"),
    ("clock", backup_of_tomorrow, "stop", "the newest backup was made at"),
    ("accounts", account_without_rights, "warn", "runs as nobody and cannot write"),
    ("settings elsewhere", key_named_in_a_template, "warn", "line 2, names ui.legacy_theme"),
    ("settings changes", lambda _: None, "warn", "3.0 no longer accepts ui.legacy_theme"),
    ("settings changes", lambda _: None, "warn", "4.0 requires mail.sender"),
    ("backup place", lambda _: None, "warn", "on the same disk as the site"),
    ("what changes", lambda _: None, "warn", "4.0, one way"),
    ("ours", question('query = "SELECT count(*) FROM berths"\nwanted = "0"\nremedy = "wait"'), "stop", "is 120, 0 is"),
    ("ours", question('query = "DELETE FROM berths"\nwanted = "0"'), "stop", "readonly"),
    ("ours", question('command = ["sleep", "9"]\nwithin_s = 0.2\nlevel = "warn"'), "warn", "did not end within"),
    ("ours", question('command = ["echo", "3 left"]\npattern = "(\\\\d+) left"\nwanted = "3"'), "ok", "is 3"),
    ("ours", question('url = "http://127.0.0.1:1/"'), "stop", "refused"),
    ("versions", lambda demo: (demo.root / "VERSION").write_text("soon"), "stop", "cannot be read"),
    ("data folders", lambda demo: (demo.root / "uploads").rename(demo.root / "data/u"), "warn", "uploads is not there"),
]  # fmt: skip


@pytest.mark.parametrize(("check", "hurt", "level", "told"), CASES, ids=[f"{c[0]}: {c[3]}" for c in CASES])
def test_a_check_finds_what_it_asks_for(
    idle: Demo, check: str, hurt: Callable[[Demo], Any], level: str, told: str
) -> None:
    undo = hurt(idle)
    try:
        findings = found(idle, check)
    finally:
        if callable(undo):
            undo()
    assert [one for one in findings if one["level"] == level and told in one["saw"]], findings


def test_a_running_service_is_no_stranger_to_its_port_and_files(make_demo: MakeDemo) -> None:
    demo = make_demo()
    assert {one["level"] for one in found(demo, "ports")} == {"ok"}
    assert {one["level"] for one in found(demo, "others at work")} == {"ok"}
    url = demo.prepared.url
    asked = f'[[checks]]\nname = "page"\nurl = "{url}about.json"\n'
    asked += f'[[checks]]\nname = "shut"\nurl = "{url}nowhere"\nstatus = 404\n'
    demo.edit("[maintenance]", asked + "\n[maintenance]")
    assert {one["level"] for one in [*found(demo, "page"), *found(demo, "shut")]} == {"ok"}


@pytest.mark.parametrize("how", ["its port", "where it is asked"])
def test_the_program_itself_started_otherwise_is_told_how_it_is_taken_over(make_demo: MakeDemo, how: str) -> None:
    """Left as it is, it would be at work when the services are stopped, and end the climb there."""
    demo = make_demo()
    pid_file = demo.site().resolve("run/web.pid")
    port, number = demo.prepared.port, pid_file.read_text()
    if how == "where it is asked":
        demo.edit(f"ports = [{port}]\n", "")
        demo.edit(f'{{ url = "http://127.0.0.1:{port}/about.json", within_s', f"{{ port = {port}, within_s")
    pid_file.unlink()
    (told,) = [one for one in found(demo, "ports") if one["level"] != "ok"]
    assert told["level"] == "stop"
    assert "`web` is stopped" in told["saw"]
    command = re.search(r"say so: (.+?); else end it", told["remedy"])
    assert command is not None, told
    assert subprocess.run(["/bin/sh", "-c", command[1]], check=False).returncode == 0
    assert pid_file.read_text().split()[0] == number.split()[0]
    assert {one["level"] for one in found(demo, "ports")} <= {"ok"}
    assert demo.yl("climb", "--to", "2.6", "--yes").code == 0


def test_of_a_server_and_its_children_the_server_is_taken_over(idle: Demo) -> None:
    """A child that were ended would be started anew by it."""
    script = f"import os, socket, time; s = socket.create_server(('127.0.0.1', {idle.prepared.port})); "
    script += "[os.fork() for _ in range(2)]; print(flush=True); time.sleep(60)"
    words = ["/bin/sh", "-c", f'"{sys.executable}" -c "{script}" & echo $!; wait']
    with subprocess.Popen(words, cwd=idle.root, stdout=subprocess.PIPE, start_new_session=True) as shell:
        assert shell.stdout is not None
        server = int(shell.stdout.readline())
        for _ in range(4):
            shell.stdout.readline()
        try:
            (told,) = [one for one in found(idle, "ports") if one["level"] == "stop"]
        finally:
            os.killpg(shell.pid, 9)
    assert f"; echo {server} > " in told["remedy"]


def test_an_unfinished_climb_is_a_finding_among_others(idle: Demo) -> None:
    climb = idle.folder / ".ladder" / "climbs"
    idle.yl("climb", "--to", "2.6", "--yes")
    (journal,) = climb.glob("*/journal.jsonl")
    journal.write_bytes(b"".join(journal.read_bytes().splitlines(keepends=True)[:-1]))
    findings = found(idle, "earlier work")
    assert [one["level"] for one in findings] == ["stop"]
    assert "is not finished" in findings[0]["saw"]


def test_an_altered_journal_is_a_finding_among_others(idle: Demo) -> None:
    idle.yl("climb", "--to", "2.6", "--yes")
    (journal,) = (idle.folder / ".ladder" / "climbs").glob("*/journal.jsonl")
    journal.write_text(journal.read_text().replace("look-again", "look-never", 1))
    findings = found(idle, "earlier work")
    assert [one["level"] for one in findings] == ["stop"]
    assert "was altered" in findings[0]["saw"]
    assert found(idle, "database")


def test_another_run_at_work_is_a_finding(idle: Demo) -> None:
    with StateFolder(idle.folder / ".ladder").locked("climb"):
        findings = found(idle, "earlier work")
    assert [(one["level"], "is at work" in one["saw"]) for one in findings] == [("stop", True)]


def test_days_of_use_and_peoples_work_are_waited_for_unless_told(idle: Demo) -> None:
    beside(idle, "2.6", "")
    path = idle.folder / "releases" / "quaybook-2.6.release.toml"
    path.write_text(path.read_text().replace("[reach]", "[reach]\nrest_days = 9"))
    beside(idle, "3.0", '[needs.people]\nwhat = "sort the notices"\nquery = "SELECT count(*) FROM notices"\n')
    idle.edit('digests = "required"', 'digests = "wanted"')
    assert idle.json("route")["landings"] == [
        {"after": 1, "at": "2.6", "do": ["let people use 2.6 for 9 days", "have this done: sort the notices"]}
    ]
    assert idle.json("route", "--no-wait")["landings"] == []
    assert idle.yl("climb", "--yes").code == 3
    refused = idle.yl("climb", "--continue", "--yes", "--json")
    told = " ".join(one["message"] for one in refused.problems)
    assert "rest: 2.6 is in use since" in told
    assert "people: 40 left to do: sort the notices" in told
    assert idle.json("climb", "--continue", "--no-wait", "--yes")["proof"]["whole"]


def test_a_question_for_before_and_after_fails_a_climb_that_breaks_it(idle: Demo) -> None:
    question('query = "SELECT count(*) FROM pragma_table_info(\'owners\') WHERE name = \'street\'"\n'
             'wanted = "1"\nwhen = "both"')(idle)  # fmt: skip
    assert idle.json("climb", "--to", "3.0", "--yes")["proof"]["whole"]
    failed = idle.yl("climb", "--to", "4.0", "--yes", "--json")
    assert failed.code == 1
    assert any("ours: the answer is 0, 1 is wanted" in one["message"] for one in failed.problems)
    assert idle.json("survey")["version"] == "3.0"


def test_watching_ends_when_all_is_well(idle: Demo) -> None:
    flag = idle.root / "data" / "closed"
    flag.write_text("left over")
    watch = subprocess.Popen([str(PROGRAM), "check", "--watch", "--every", "0.2"], cwd=idle.folder,
                             stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)  # fmt: skip
    assert watch.stderr
    assert "1 finding to go: maintenance" in watch.stderr.readline()
    assert watch.poll() is None
    flag.unlink()
    out, err = watch.communicate(timeout=60)
    assert watch.returncode == 0
    assert "nothing stops the climb" in out
    assert "nothing stops any more" in err
    assert idle.yl("check", "--watch", "--json").code == 2


def test_a_check_that_is_at_fault_itself_hides_no_other(idle: Demo, monkeypatch: pytest.MonkeyPatch) -> None:
    from yellow_ladder.checks import ask

    def broken(_at: object) -> list[Any]:
        raise KeyError("a fault of ours")

    monkeypatch.setitem(ask.SITE_CHECKS, "clock", broken)
    findings = look_ahead(idle.site(), None, NOW).findings
    at_fault = [one for one in findings if one.level is Level.STOP]
    assert [(one.check, "at fault itself" in one.saw) for one in at_fault] == [("clock", True)]
    assert len(findings) > 25


def test_a_crashed_writer_is_told(idle: Demo) -> None:
    code = (
        "import os, sqlite3, sys; c = sqlite3.connect(sys.argv[1], isolation_level=None);"
        "c.execute('PRAGMA cache_size = 1'); c.execute('PRAGMA cache_spill = 1'); c.execute('BEGIN');"
        "c.execute('UPDATE bookings SET remark = hex(zeroblob(3000))'); os._exit(1)"
    )
    subprocess.run([sys.executable, "-c", code, str(idle.database)], check=False)
    journal = Path(f"{idle.database}-journal")
    if not journal.exists():
        pytest.skip("this SQLite kept its journal in memory")
    (finding,) = found(idle, "transactions") or [{}]
    assert "a crash left" in finding["saw"]


def test_looking_twice_takes_no_longer(idle: Demo) -> None:
    idle.yl("survey")
    before = {path: path.stat().st_mtime_ns for path in (idle.folder / ".ladder/memory").rglob("*.json")}
    time.sleep(2.2)  # what changed within the last two seconds is not remembered as settled
    idle.yl("survey")
    idle.yl("survey")
    index = json.loads((idle.folder / ".ladder/memory/files/index.json").read_bytes())
    assert index["result_key"]
    assert {path.parent.name for path in before} >= {"files", "packages"}
    os.utime(idle.root / "server.py")
    assert idle.json("survey")["files"]["edited"] == []
    connection = sqlite3.connect(idle.database)
    connection.execute("SELECT 1").close()
    connection.close()


def test_databases_that_go_back_alike_are_told_together() -> None:
    ways = [
        WayBack("main", clone=False, load_s=1, clone_s=0, why="a file needs none"),
        WayBack("tides", clone=True, load_s=2, clone_s=1),
        WayBack("jobs", clone=False, load_s=1, clone_s=0, why="a file needs none"),
    ]
    assert _ways_in_words(ways) == [
        "databases main, jobs: each from the backup in about 1.0 s (no quick clone: a file needs none)",
        "database tides: from a quick clone in about 1.0 s, or from the backup in about 2.0 s",
    ]
