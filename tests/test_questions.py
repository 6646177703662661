"""The site's own questions: asked as a visitor would, held against what was answered before, blamed on nobody else."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread
from typing import Any
from urllib.parse import parse_qs

import pytest

from tests.conftest import Demo, MakeDemo
from yellow_ladder import web
from yellow_ladder.site.moves import moved_text
from yellow_ladder.survey.questions import Reply, ask_questions

SECRET = "high-water-4711"
TOKEN = "tide-table-0815"
FORM = '<form><input name="q"></form><form method="post"><input type="hidden" name="stamp" value="{}">'


class Office(BaseHTTPRequestHandler):
    """A harbour office: a sign-in with a stamp that is good once, a desk behind it, jobs, pages and links."""

    state: dict[str, Any]

    def do_GET(self) -> None:
        state = self.state
        match self.path:
            case "/sign-in":
                state["stamp"] = f"stamp {state.get('stamps', 0)}"
                state["stamps"] = state.get("stamps", 0) + 1
                self.answer(200, FORM.format(state["stamp"]) + '<input name="clerk"><input name="word"></form>')
            case "/desk":
                is_in = "berth=open" in (self.headers["Cookie"] or "")
                self.answer(200 if is_in else 403, json.dumps({"boats": [{"name": "Zephyr"}], "count": 7, "a/b": None}))
            case "/home":
                there = (
                    '<a href="/desk">desk</a> <a href="tides#now">tides</a> <img src="/plan.png"> <a href="#x">x</a>'
                )
                self.answer(200, there + '<a href="http://elsewhere.invalid/">far</a>' + state.get("more", ""))
            case "/tides" | "/plan.png":
                self.answer(state.get(self.path, 200), "fine")
            case "/jobs/1":
                state["asked"] = state.get("asked", 0) + 1
                self.answer(200, "done" if state["asked"] > 2 else "waiting")
            case "/echo":
                self.answer(200, f"you said {self.headers['X-Token']}")
            case _:
                self.answer(404, "no such page")

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        if self.path == "/jobs":
            is_known = self.headers["Authorization"] == f"Bearer {TOKEN}" and json.loads(body) == {"job": ["count", 1]}
            self.answer(202 if is_known else 401, "")
            return
        sent = {name: values[0] for name, values in parse_qs(body).items()}
        stamp = self.state.pop("stamp", None)
        if sent == {"stamp": stamp, "clerk": "Käthe", "word": SECRET} and "sign-in" in (self.headers["Referer"] or ""):
            self.answer(302, "", Location="/desk", **{"Set-Cookie": "berth=open; Secure; HttpOnly; Path=/"})
        else:
            self.answer(401, "who are you?")

    def answer(self, status: int, text: str, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(text.encode())

    def log_message(self, *_: object) -> None:
        """Nothing."""


@pytest.fixture
def office() -> Iterator[tuple[str, dict[str, Any]]]:
    state: dict[str, Any] = {}
    handler = type("Here", (Office,), {"state": state})
    with ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        thread = Thread(target=server.serve_forever)
        thread.start()
        try:
            yield f"http://127.0.0.1:{server.server_port}", state
        finally:
            server.shutdown()
            thread.join()


def ask(demo: Demo, text: str, before: dict[str, Any] | None = None) -> dict[str, Reply]:
    """Put questions into the site file and ask them."""
    kept = demo.prepared.file.read_text()
    try:
        demo.edit("[maintenance]", f"{text}\n[maintenance]")
        site = demo.site()
        return ask_questions(site, site.record.checks, before)
    finally:
        demo.prepared.file.write_text(kept)


def only(demo: Demo, text: str, before: dict[str, Any] | None = None) -> Reply:
    (reply,) = ask(demo, f'[[checks]]\nname = "ours"\nwhen = "after"\n{text}', before).values()
    return reply


@pytest.fixture
def demo(make_demo: MakeDemo) -> Demo:
    made = make_demo(start=False)
    (made.folder / "site.env").write_text(f"CLERK_WORD={SECRET}\nTOKEN='{TOKEN}'\n")
    made.edit("[maintenance]", '[environment]\nfiles = ["site.env"]\n\n[maintenance]')
    return made


def test_a_session_signs_in_with_the_hidden_fields_of_the_form_and_reads_json(
    demo: Demo, office: tuple[str, dict[str, Any]]
) -> None:
    base, _ = office
    sign_in = f"""
[[checks]]
name = "sign in"
url = "{base}/sign-in"
form_page = "/sign-in"
form = {{ clerk = "Käthe", word = "{{env.CLERK_WORD}}" }}
session = "clerk"
status = 302
leads_to = "/desk"

[[checks]]
name = "boat"
url = "{base}/desk"
session = "clerk"
pointer = "/boats/0/name"
wanted = "Zephyr"

[[checks]]
name = "stranger"
url = "{base}/desk"
status = [401, 403]
"""
    replies = ask(demo, sign_in)
    assert {name: one.is_good for name, one in replies.items()} == {"sign in": True, "boat": True, "stranger": True}
    assert replies["boat"].saw == "the answer is Zephyr"
    wrong = ask(demo, sign_in.replace("{env.CLERK_WORD}", "low water"))
    assert not wrong["sign in"].is_good
    assert "401, 302 is wanted" in wrong["sign in"].saw
    assert not wrong["boat"].is_good, "nobody is signed in"
    assert "no form with a field pilot" in ask(demo, sign_in.replace("clerk =", "pilot ="))["sign in"].saw
    assert "has no PILOT" in ask(demo, sign_in.replace("env.CLERK_WORD", "env.PILOT"))["sign in"].saw


def test_a_job_is_begun_and_waited_for(demo: Demo, office: tuple[str, dict[str, Any]]) -> None:
    base, _ = office
    replies = ask(
        demo,
        f"""
[[checks]]
name = "begin"
url = "{base}/jobs"
headers = {{ Authorization = "Bearer {{env.TOKEN}}" }}
json_body = {{ job = ["count", 1] }}
status = 202

[[checks]]
name = "old token"
url = "{base}/jobs"
headers = {{ Authorization = "Bearer of before" }}
json_body = {{ job = ["count", 1] }}
status = 401

[[checks]]
name = "result"
url = "{base}/jobs/1"
wanted = "done"
until_s = 20
""",
    )
    assert [one.is_good for one in replies.values()] == [True, True, True]
    assert "the answer is no such page" in only(demo, f'url = "{base}/jobs/2"\nstatus = 404\nwanted = "done"').saw


def test_secrets_are_in_no_reply(demo: Demo, office: tuple[str, dict[str, Any]]) -> None:
    base, _ = office
    reply = only(demo, f'url = "{base}/echo"\nheaders = {{ X-Token = "{{env.TOKEN}}" }}\npattern = "said (.*)"')
    assert reply.is_good
    assert TOKEN not in f"{reply}"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('contains = ["tides"]\nlacks = ["storm"]', ""),
        ('contains = ["storm"]', "does not say 'storm'"),
        ('lacks = ["tides"]', "says 'tides'"),
        ('header = "X-Pilot"', "no header X-Pilot"),
        ('pointer = "/count"', "Expecting value"),
        ('leads_to = "/desk"', "leads to nowhere"),
        ("status = [301, 302]", "200, 301 or 302 is wanted"),
    ],
)
def test_what_a_page_must_say(demo: Demo, office: tuple[str, dict[str, Any]], text: str, told: str) -> None:
    reply = only(demo, f'url = "{office[0]}/home"\n{text}')
    assert reply.is_good == (not told)
    assert told in reply.saw


def test_links_that_were_broken_before_are_blamed_on_nobody(demo: Demo, office: tuple[str, dict[str, Any]]) -> None:
    base, state = office
    state["more"] = '<a href="/gone">gone</a>'
    asked = f'url = "{base}/home"\nlinks = true'
    first = only(demo, asked)
    assert first.saw == "2 links of it broken: /desk, /gone"
    before = {"ours": {**first.kept}}
    assert only(demo, asked, before).is_good, "they were broken before"
    state["/plan.png"] = 500
    assert only(demo, asked, before).saw == "1 link of it broken: /plan.png"


def test_a_page_of_errors_with_status_200_is_known_by_what_it_did_not_say_before(
    demo: Demo, office: tuple[str, dict[str, Any]]
) -> None:
    base, state = office
    state["more"] = "We log every exception: MooringException."
    asked = f'url = "{base}/home"'
    first = only(demo, asked)
    assert first.is_good
    assert only(demo, asked, {"ours": first.kept}).is_good
    state["more"] += " Traceback (most recent call last)"
    assert only(demo, asked, {"ours": first.kept}).saw == "the page speaks of traceback, and did not before"
    slow = {**first.kept, "took_s": 0.000001}
    assert only(demo, f"{asked}\ntimes = 2", {"ours": {**slow, "signs": ["traceback", "mooringexception"]}}).is_good


def test_answers_are_held_against_those_of_before(demo: Demo) -> None:
    asked = 'query = "SELECT count(*) FROM berths"\nas_before = true'
    first = only(demo, asked)
    assert first.is_good
    assert only(demo, asked, {"ours": first.kept}).is_good
    worse = only(demo, asked, {"ours": {"answer": "119"}})
    assert worse.saw == "the answer is 120, and was 119 before"


NAMES = 'query = "SELECT file FROM documents"\nfiles_in = "uploads"'


def without_strays(demo: Demo) -> Path:
    """The folder of documents, with nothing in it that no row names."""
    uploads = demo.root / "uploads"
    with sqlite3.connect(demo.database) as connection:
        named = {name for (name,) in connection.execute("SELECT file FROM documents")}
    for path in uploads.rglob("*"):
        if (path.is_symlink() or path.is_file()) and str(path.relative_to(uploads)) not in named:
            path.unlink()
    return uploads


def test_files_that_rows_name_must_be_there(demo: Demo) -> None:
    uploads = without_strays(demo)
    first = only(demo, NAMES)
    assert (first.is_good, first.saw) == (True, "24 rows, 24 files in uploads: all there")
    gone = sorted(path for path in uploads.rglob("*") if path.is_file())[:2]
    gone[0].unlink()
    name = str(gone[0].relative_to(uploads))
    told = f"24 rows, 23 files in uploads: 1 row names a file that is not there: {name}"
    before = only(demo, NAMES)
    assert (before.is_good, before.saw) == (True, f"{told}, as before"), "nobody has climbed"
    assert only(demo, NAMES, {"ours": before.kept}).is_good
    assert only(demo, NAMES, {"ours": first.kept}).saw == told
    gone[1].unlink()
    worse = only(demo, NAMES, {"ours": before.kept})
    assert not worse.is_good
    assert worse.saw.endswith(f"1 row names a file that is not there: {gone[1].relative_to(uploads)}")
    (reply,) = ask(demo, f'[[checks]]\nname = "ours"\nwhen = "both"\n{NAMES}').values()
    assert "2 rows name files that are not there" in reply.saw
    assert not reply.is_good


def test_files_that_no_row_names_are_told_where_that_is_asked_for(demo: Demo) -> None:
    (without_strays(demo) / "stray.txt").write_text("nobody's")
    assert only(demo, NAMES).saw == "24 rows, 25 files in uploads: all there"
    asked = f"{NAMES}\nunnamed_files = true"
    before = only(demo, asked)
    assert before.saw.endswith("1 file that no row names: stray.txt, as before")
    (demo.root / "uploads" / "forgotten.txt").write_text("nobody's")
    worse = only(demo, asked, {"ours": before.kept})
    assert (worse.is_good, worse.saw) == (
        False,
        "24 rows, 26 files in uploads: 1 file that no row names: forgotten.txt",
    )


@pytest.mark.parametrize(
    ("query", "told"),
    [
        ("SELECT id, file FROM documents", "has 2 columns"),
        ("SELECT file FROM parcels", "parcels"),
        ("SELECT '{root}/uploads/' || file FROM documents", "all there"),
        ("SELECT CAST(file AS BLOB) FROM documents UNION ALL SELECT NULL UNION ALL SELECT ''", "all there"),
        ("SELECT '../data/' || file FROM documents", "24 rows name files that are not there"),
    ],
)
def test_names_of_files_in_other_forms(demo: Demo, query: str, told: str) -> None:
    query = query.replace("{root}", str(demo.root))
    asked = f'[[checks]]\nname = "ours"\nwhen = "both"\nquery = "{query}"\nfiles_in = "uploads"'
    (reply,) = ask(demo, asked).values()
    assert told in reply.saw
    assert reply.is_good is (told == "all there")


def test_a_folder_that_a_question_names_is_followed_where_it_moves(demo: Demo) -> None:
    text = f'[[checks]]\nname = "ours"\n{NAMES}\n'
    assert 'files_in = "media/all"' in moved_text(text, {"uploads": "media/all"})


def test_only_errors_of_a_new_kind_are_told_of_a_log(demo: Demo) -> None:
    log = demo.folder / "office.log"
    asked = 'log = "{site}/office.log"'
    assert only(demo, asked).is_good, "no log yet"
    log.write_text("12:00:01 ERROR cannot reach buoy 4711\n12:00:02 all well\n")
    first = only(demo, asked)
    with log.open("a") as stream:
        stream.write("13:37:42 ERROR cannot reach buoy 1\n13:38:00 nothing to say of error0x\n")
    assert only(demo, asked, {"ours": first.kept}).is_good, "the same as ever"
    with log.open("a") as stream:
        stream.write("14:00:00 CRITICAL no table tides, password=abc\n14:00:00 CRITICAL no table tides\n")
    reply = only(demo, asked, {"ours": first.kept})
    assert not reply.is_good
    assert "2 lines of errors that were not there before: 14:00:00 CRITICAL no table tides" in reply.saw
    assert "abc" not in reply.saw
    log.unlink()
    log.write_text("00:00:00 FATAL begun anew\n")
    assert "begun anew" in only(demo, asked, {"ours": first.kept}).saw
    log.unlink()
    os.mkfifo(log)
    assert not only(demo, asked, {"ours": first.kept}).is_good, "it keeps nobody waiting"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('query = "SELECT 1"\nwanted = "1"\nheaders = { a = "b" }', "`headers`, which goes with `url`"),
        ('url = "http://127.0.0.1:1/"\nform = { a = "b" }\njson_body = { a = 1 }', "not both"),
        ('url = "http://127.0.0.1:1/"\nform_page = "/"', "go along with `form`"),
        ('url = "http://127.0.0.1:1/"\nmethod = "GET"\nform = { a = "b" }', "which GET cannot"),
        ('url = "http://127.0.0.1:1/"\nlinks = true\nsession = "a"', "as a visitor without cookies"),
        ('log = "x.log"', 'when = "after"'),
        ('query = "SELECT 1"\nas_before = true', 'when = "both", "after" or "opened"'),
        ('url = "http://127.0.0.1:1/"\nlog = "x.log"', "exactly one of"),
        ('command = ["true"]\nfiles_in = "uploads"', "goes with a `query`"),
        ('query = "SELECT 1"\nwanted = "1"\nunnamed_files = true', "goes with `files_in`"),
        ('query = "SELECT 1"\nwanted = "1"\nfiles_in = "uploads"', "leave out `wanted`"),
        ('query = "SELECT 1"\nfiles_in = "../etc"', "plain path below"),
    ],
)
def test_a_question_that_cannot_be_asked_is_refused(demo: Demo, text: str, told: str) -> None:
    demo.edit("[maintenance]", f'[[checks]]\nname = "ours"\n{text}\n\n[maintenance]')
    answer = demo.yl("check", "--json")
    assert answer.code == 2
    assert told in answer.problems[0]["message"]


def test_a_climb_asks_before_and_after_and_blames_only_what_has_become_worse(make_demo: MakeDemo) -> None:
    demo = make_demo()
    known = demo.prepared.file.read_text()
    lamp = demo.folder / "lamp"
    lamp.write_text("lit\n")
    asked = f"""
[[checks]]
name = "lamp"
command = ["cat", "{lamp}"]
as_before = true
when = "after"

[[checks]]
name = "broken ever since"
command = ["false"]
when = "after"

[[checks]]
name = "version"
command = ["cat", "{demo.root}/VERSION"]
as_before = true
when = "after"
"""
    demo.edit("[maintenance]", f"{asked}\n[maintenance]")
    answer = demo.yl("climb", "--to", "2.6", "--yes", "--json")
    assert answer.code == 1, "the version has changed, and the climb went back"
    assert any("version: the answer is 2.6, and was 2.4 before" in one["message"] for one in answer.problems)
    assert not any("broken ever since" in one["message"] for one in answer.problems)
    assert (demo.root / "VERSION").read_text().strip() == "2.4"
    demo.prepared.file.write_text(known)
    demo.edit("[maintenance]", f"{asked.rpartition('[[checks]]')[0]}\n[maintenance]")
    told = demo.yl("climb", "--to", "2.6", "--yes")
    assert told.code == 0
    assert "broken ever since" in told.out + told.err
    assert "it was no better before" in told.out + told.err
    climbs = sorted((demo.folder / ".ladder/climbs").iterdir())
    kept = json.loads((climbs[-1] / "answers-before.json").read_text())["answers"]
    assert kept["lamp"] == {"good": True, "saw": "the answer is lit", "kept": {"answer": "lit"}}
    assert Path(climbs[-1] / "answers-before.json").stat().st_mode & 0o077 == 0
    lamp.write_text("out\n")
    assert demo.yl("verify").code == 0, "while the site is open, people change what is answered"


def test_what_only_an_open_site_answers_is_asked_when_it_is_open(make_demo: MakeDemo) -> None:
    demo = make_demo()
    known = demo.prepared.file.read_text()
    flag = demo.root / "data" / "closed"
    asked = f"""
[[checks]]
name = "users are let in"
command = ["test", "!", "-e", "{flag}"]
when = "opened"
"""
    demo.edit("[maintenance]", f"{asked}\n[maintenance]")
    told = demo.yl("climb", "--to", "2.6", "--yes")
    assert told.code == 0, "it is not asked while users are shut out"
    assert "ask what only an open site answers" in told.out + told.err
    assert demo.yl("verify").code == 0
    assert demo.yl("descend", "--yes").code == 0
    demo.prepared.file.write_text(known)
    worse = f'name = "version"\ncommand = ["cat", "{demo.root}/VERSION"]\nas_before = true\nwhen = "opened"'
    demo.edit("[maintenance]", f"{asked}\n[[checks]]\n{worse}\n\n[maintenance]")
    answer = demo.yl("climb", "--to", "2.6", "--yes", "--json")
    assert answer.code == 3
    assert [one["message"] for one in answer.problems if one["code"] == "not-alive"] == [
        "version: the answer is 2.6, and was 2.4 before"
    ]
    assert not flag.exists(), "people work already: nothing is taken back by itself"
    assert (demo.root / "VERSION").read_text().strip() == "2.6"
    assert demo.yl("climb", "--continue").code == 3, "it is asked again"
    demo.edit('as_before = true\nwhen = "opened"', 'when = "opened"')
    assert demo.yl("adjust", "--yes").code == 0, "a question that was wrong itself is corrected"
    assert demo.json("history")[-1]["state"] == "climbed", "and the climb goes on to its end"
    assert demo.yl("descend", "--yes").code == 0
    assert (demo.root / "VERSION").read_text().strip() == "2.4"


def test_a_page_that_somebody_vouches_for_is_asked_with_authorities_however_its_address_is_written(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    asked: list[dict[str, Any]] = []
    monkeypatch.setattr(web, "client", lambda **wishes: asked.append(wishes))
    for url in ("https://quay.example/", "HTTPS://quay.example/", "http://quay.example/"):
        web.client_of_page(url, 1.0)
    assert [one.get("verify", "as usual") for one in asked] == ["as usual", "as usual", False]
    assert not any(one["follow_redirects"] for one in asked), "it could lead to one that is vouched for"
