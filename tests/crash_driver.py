"""Kills climbs and descents at chosen instants, takes them to an end, and says where the end is not whole.

Run as a program: python -m tests.crash_driver FOLDER MODE CHOICE
CHOICE is `all`, `FIRST/STEP` (every STEPth from FIRST on), or `COUNT@SEED` (so many at random, other ones for another
seed). Prints one JSON object: how many kill points there are, which were tried here, and every failure.

Modes, `KILL-THEN`: kill at `record` (each journal record, before and after it is on disk), at `call` (each change of
the file system that the program makes once it plans) while climbing, or at `back-call` while descending; then
`continue`, `descend`, or one after the other in turn (`continue+descend`). With `failing-` before it, the last release
fails and the climb goes back by itself; with `plain-`, the kernel cannot exchange folders in one instant. With
`ENGINE:` before all that, on that engine's server; with `environment:` or `shared:`, in that shape of the
demonstration.
"""

from __future__ import annotations

import itertools
import json
import os
import random
import shutil
import signal
import sys
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from yellow_ladder.climb.conduct import Conditions, begin, descend, go_on
from yellow_ladder.climb.planning.prepare import stage_climb
from yellow_ladder.climb.planning.prospect import look_ahead
from yellow_ladder.climb.record.catalog import find_climb, list_climbs, open_climb
from yellow_ladder.climb.record.journal import Instant, JournalRecord
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.demo.prepare import Place, prepare_demo, start_site, stop_site
from yellow_ladder.demo.proof import Picture, picture_of
from yellow_ladder.demo.servers import remove_server
from yellow_ladder.demo.shapes import SHAPES
from yellow_ladder.errors import AnswerNo
from yellow_ladder.events import silent
from yellow_ladder.files.manifest import take_manifest, tree_digest
from yellow_ladder.release.versions import Version
from yellow_ladder.site.site import Site, load_site

ROWS = 60
CALLS = {
    "os.rename", "os.remove", "os.rmdir", "os.mkdir", "os.link", "os.symlink", "os.chmod", "os.chown", "os.utime",
    "os.truncate", "ctypes.dlsym", "sqlite3.connect", "subprocess.Popen",
}  # fmt: skip


class Killer:
    """Counts instants, and kills this process with SIGKILL at one of them."""

    def __init__(self, at: int) -> None:
        self.at, self.seen, self.armed = at, 0, False

    def tick(self) -> None:
        if self.seen == self.at:
            os.kill(os.getpid(), signal.SIGKILL)
        self.seen += 1

    def watch_journal(self) -> Callable[[Instant, JournalRecord], None]:
        return lambda _instant, _record: self.tick()

    @staticmethod
    def forbid_exchange() -> None:
        """Make this kernel one that lacks the call."""

        def hook(event: str, arguments: tuple[Any, ...]) -> None:
            if event == "ctypes.dlsym" and arguments[1] == "renameat2":
                raise AttributeError("this kernel has no renameat2")

        sys.addaudithook(hook)

    def watch_calls(self) -> None:
        def hook(event: str, _arguments: tuple[Any, ...]) -> None:
            if self.armed and event in CALLS:
                self.tick()

        sys.addaudithook(hook)
        self.armed = True


def in_child(work: Callable[[], int]) -> tuple[int, int]:
    """Run in a forked process; returns (number given back, signal that ended it)."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.write(writing, str(work()).encode())
            os._exit(0)
        except BaseException:
            traceback.print_exc()
            os._exit(1)
    os.close(writing)
    with os.fdopen(reading) as answer:
        text = answer.read()
    _, status = os.waitpid(child, 0)
    if os.WIFEXITED(status) and os.WEXITSTATUS(status):
        raise AssertionError("the child failed by itself")
    return int(text or 0), os.WTERMSIG(status) if os.WIFSIGNALED(status) else 0


def die_at_rename(number: int, is_meant: Callable[[list[str]], bool]) -> None:
    """Be killed just before the `number`th rename of which the names are meant."""
    seen = [0]

    def hook(event: str, arguments: tuple[Any, ...]) -> None:
        if event == "os.rename" and is_meant([str(one) for one in arguments[:2]]):
            seen[0] += 1
            if seen[0] == number:
                os.kill(os.getpid(), signal.SIGKILL)

    sys.addaudithook(hook)


def planned(site: Site) -> Plan:
    return stage_climb(look_ahead(site, None, utc_now()), utc_now(), silent)


def climb_with(site: Site, kill: str, at: int) -> int:
    """Climb, and die at an instant; returns how many there were when it did not come to that."""
    killer = Killer(at)
    if kill.startswith("plain"):
        killer.forbid_exchange()
    plan = planned(site)
    conditions = Conditions()
    if kill.endswith("record"):
        conditions = replace(conditions, on_append=killer.watch_journal())
    else:
        killer.watch_calls()
    with suppress(AnswerNo):  # a failing release takes the site back and says so
        begin(plan, conditions)
    killer.armed = False
    return killer.seen


def is_killed_after(site: Site, version: str, number: int) -> bool:
    """Climb in a process of its own that dies just after a record of the journal; whether it came to that."""

    def watch(when: Instant, record: JournalRecord) -> None:
        if (when, record.number) == (Instant.AFTER, number):
            os.kill(os.getpid(), signal.SIGKILL)

    def climb() -> int:
        begin(
            stage_climb(look_ahead(site, Version(version), utc_now()), utc_now(), silent), Conditions(on_append=watch)
        )
        return 0

    return in_child(climb)[1] == signal.SIGKILL


def descend_with(site: Site, at: int) -> int:
    killer = Killer(at)
    killer.watch_calls()
    descend(find_climb(site, None).plan, Conditions())
    killer.armed = False
    return killer.seen


class Bench:
    """A pristine site, a copy to hurt, and pictures of how it should look in the end."""

    def __init__(self, folder: Path, kill: str, engine: str) -> None:
        self.shape, engine = (engine, "sqlite") if engine in SHAPES else ("plain", engine)
        self.pristine, self.hurt, self.kill, self.engine = folder / "pristine", folder / "hurt", kill, engine
        broken = kill.startswith("failing")
        self.demo = prepare_demo(self.pristine, rows=ROWS, broken=broken, place=Place(engine), shape=self.shape)
        self.dump, self.details = folder / "pristine-dump", {}
        if engine != "sqlite":
            database = load_site(self.pristine / "ladder.toml").databases()["main"]
            self.details = dict(database.details())
            with database.backed_up(self.dump, lambda _done, _total: None, at_rest=True):
                pass
        with_outside = (self.pristine / "ladder.toml").read_text()
        (folder / "outside.conf").write_text("proxy to quaybook\n")
        line = f'keys = ["etc/secret.key"]\noutside = ["{folder / "outside.conf"}"]\n'
        with_outside = with_outside.replace('keys = ["etc/secret.key"]\n', line)
        self.elsewhere = folder / "berths"
        with_outside = with_outside.replace("data = [", f'data = ["{self.elsewhere}", ')
        self.settings = folder / "etc" / "quaybook.ini"
        named = f'{{ file = "{self.settings}", shipped = "etc/quaybook.ini" }}'
        with_outside = with_outside.replace("settings = [", f"settings = [{named}, ")
        (self.pristine / "ladder.toml").write_text(with_outside)
        site = self.fresh()
        self.before = picture_of(site)
        self.site_text = (self.hurt / "ladder.toml").read_text()
        self.points, _ = in_child(lambda: climb_with(site, "call" if kill == "back-call" else kill, -1))
        self.after = picture_of(self.site())
        self.settings_after = self.settings.read_bytes()
        own = (self.pristine / "quaybook" / "etc" / "quaybook.ini").read_bytes()
        assert broken or self.settings_after != own, "nothing would be seen of the settings outside root"
        if kill == "back-call":
            self.disturb()
            self.points, _ = in_child(lambda: descend_with(self.site(), -1))
        self.clear()

    def site(self) -> Site:
        return load_site(self.hurt / "ladder.toml", under_way=True)

    def fresh(self) -> Site:
        shutil.copytree(self.pristine, self.hurt, symlinks=True)
        shutil.rmtree(self.elsewhere, ignore_errors=True)
        for name in ("plans/north", "plans/south", "photos/buoy"):
            (self.elsewhere / name).parent.mkdir(parents=True, exist_ok=True)
            (self.elsewhere / name).write_text(name)
        self.settings.parent.mkdir(exist_ok=True)
        shutil.copyfile(self.pristine / "quaybook" / "etc" / "quaybook.ini", self.settings)
        self.lies_elsewhere = tree_digest(take_manifest(self.elsewhere))
        site = self.site()
        if self.engine != "sqlite":
            site.databases()["main"].restore_from(self.dump, self.details)
        start_site(site)
        return site

    def disturb(self) -> None:
        """Write in the data folder outside root, as users do between a climb and the way back."""
        (self.elsewhere / "plans" / "north").write_text("written since")
        (self.elsewhere / "plans" / "south").unlink()
        (self.elsewhere / "plans" / "more").mkdir()
        (self.elsewhere / "plans" / "more" / "new").write_text("came since")

    def clear(self) -> None:
        stop_site(self.site())
        shutil.rmtree(self.hurt)

    def attempt(self, at: int, then: str) -> str:
        """Kill at one instant, go to the end; returns what is wrong there, or nothing."""
        site = self.fresh()
        try:
            if self.kill == "back-call":
                in_child(lambda: climb_with(site, "record", -1))
                self.disturb()
                _, signalled = in_child(lambda: descend_with(site, at))
            else:
                _, signalled = in_child(lambda: climb_with(site, self.kill, at))
            if signalled != signal.SIGKILL:
                return "was not killed"
            state = _to_the_end(self.site(), then)
            return self.judge(state, then)
        except Exception:
            return traceback.format_exc()
        finally:
            self.clear()

    def judge(self, state: ClimbState, then: str) -> str:
        allowed = {ClimbState.CLIMBED} if then == "continue" else {ClimbState.DESCENDED, ClimbState.GIVEN_UP}
        if self.kill.startswith("failing"):
            allowed = {ClimbState.DESCENDED, ClimbState.GIVEN_UP}
        if self.kill == "back-call" and then == "continue":
            allowed = {
                ClimbState.DESCENDED,
                ClimbState.CLIMBED,
            }  # killed before the direction was written down, it stays up
        wanted: Picture = self.after if state is ClimbState.CLIMBED else self.before
        if not list((self.hurt / ".ladder" / "climbs").glob("*/plan.json")):
            allowed, wanted = {ClimbState.GIVEN_UP}, self.before  # killed before the plan was frozen: nothing has begun
        if state not in allowed:
            return f"ended {state}"
        found = picture_of(self.site())
        if found != wanted:
            return f"not whole: {found.files} files, {found.rows} rows, tree same: {found.tree == wanted.tree}"
        if wanted is self.before and tree_digest(take_manifest(self.elsewhere)) != self.lies_elsewhere:
            return "the data folder outside root is not as before"
        before = (self.pristine / "quaybook" / "etc" / "quaybook.ini").read_bytes()
        if self.settings.read_bytes() != (before if wanted is self.before else self.settings_after):
            return "the settings outside root are not what they should be"
        if [one.name for one in self.settings.parent.iterdir()] != [self.settings.name]:
            return "something was left beside the settings outside root"
        return self.judge_rest(then, ["2.4", "4.0"] if wanted is self.after else ["2.4"])

    def judge_rest(self, then: str, releases: list[str]) -> str:
        """What is wrong beside the tree and the data."""
        if then == "descend" and (self.hurt / "ladder.toml").read_text() != self.site_text:
            return "the site file is not as before"
        if (self.hurt / "quaybook" / "data" / "closed").exists():
            return "the site was left closed"
        if self.shape == "environment":
            there = sorted(one.name for one in (self.hurt / "quaybook" / "releases").iterdir())
            if there != releases:
                return f"releases were left: {there}"
        if any(self.pristine.parent.rglob(".quaybook.*")):
            return "a folder of the climb was left beside root"
        if not (self.hurt / "run" / "web.pid").exists():
            return "the service was left stopped"
        return ""


def _to_the_end(site: Site, then: str) -> ClimbState:
    climb = open_climb(site)
    if climb is None and not list_climbs(site):
        return ClimbState.GIVEN_UP
    if then == "continue":
        with suppress(AnswerNo):
            return go_on(climb.plan, Conditions()) if climb else find_climb(site, None).standing.state
        return find_climb(site, None).standing.state
    last = climb or find_climb(site, None)
    if last.standing.state in (ClimbState.DESCENDED, ClimbState.GIVEN_UP):
        return last.standing.state
    return descend(last.plan, Conditions())


def chosen(points: int, choice: str) -> list[int]:
    """The kill points that a choice means; pure."""
    if choice == "all":
        return list(range(points))
    if "@" in choice:
        count, _, seed = choice.partition("@")
        return sorted(random.Random(seed).sample(range(points), min(int(count), points)))
    first, _, step = choice.partition("/")
    return list(range(int(first), points, int(step)))


def main() -> None:
    folder, mode, choice = Path(sys.argv[1]), sys.argv[2], sys.argv[3]
    engine, _, mode = mode.rpartition(":")
    kill, _, thens = mode.rpartition("-")
    in_turn = itertools.cycle(thens.split("+"))
    bench = Bench(folder, kill, engine or "sqlite")
    failures: dict[int, str] = {}
    tried = chosen(bench.points, choice)
    try:
        for at in tried:
            wrong = bench.attempt(at, next(in_turn))
            if wrong:
                failures[at] = wrong
    finally:
        if bench.demo.server is not None:
            remove_server(bench.demo.server)
    print(json.dumps({"points": bench.points, "tried": tried, "failures": failures}))


if __name__ == "__main__":
    main()
