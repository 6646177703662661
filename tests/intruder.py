"""Plays the account of a site that was broken into: exchanges its files and folders for links while the tool works.

Run as a program: python -m tests.intruder VICTIM CHOICE
VICTIM is one of VICTIMS, with the shape of the demonstration before a colon; CHOICE is one of `crash_driver.chosen`. At
the chosen instant (each call of the tool that names the victim, something in it or a folder above it, from planning a
climb to the end of going back; what comes before a call that does not is the same as what comes before the next one
that does) the victim becomes a link to something of root's outside the site; in every second attempt it is itself again
at the next instant. Prints one JSON object: how many instants there are, which were tried, and where something outside
was changed or came to light.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from tests.crash_driver import chosen, in_child, planned
from yellow_ladder.climb.conduct import Conditions, begin, descend
from yellow_ladder.climb.record.catalog import find_climb
from yellow_ladder.demo.prepare import prepare_demo
from yellow_ladder.errors import LadderError
from yellow_ladder.files.entry import Manifest
from yellow_ladder.files.manifest import take_manifest
from yellow_ladder.site.site import load_site

VICTIMS = (
    "data", "uploads", "uploads/03", "addons", "addons/regatta-calendar", "etc", "etc/quaybook.ini",
    "environment:releases", "environment:releases/2.4", "environment:current", "environment:etc", "environment:lamps",
    "shared:quaybook", "shared:etc", "shared:static",
)  # fmt: skip
SECRET = "only root may read this"
ROWS = 20
ACCOUNT = 4321  # of the site: whatever is exchanged is exchanged with its rights


def hand_over(folder: Path, account: int = ACCOUNT) -> None:
    """Give a folder and all in it to an account, the site's, which can reach it."""
    for path in (folder, *folder.rglob("*")):
        os.chown(path, account, account, follow_symlinks=False)
    for parent in folder.parents:
        if parent != Path("/"):
            parent.chmod(parent.stat().st_mode | 0o011)


def _names_something(event: str) -> bool:
    return event.startswith(("os.", "shutil.", "sqlite3.connect", "yellow_ladder.")) or event == "open"


def _folders(words: Iterable[Any]) -> Iterator[str]:
    """What is open under the numbers among some words."""
    for one in words:
        if isinstance(one, int) and one > 2:
            with suppress(OSError):
                yield os.readlink(f"/proc/self/fd/{one}")


def _named(arguments: tuple[Any, ...], near: Iterable[Any]) -> Iterator[str]:
    """Every path that a call may mean; a relative one below every folder whose descriptor may be among the words.

    Opening a file does not tell below which folder: there it is any folder that the caller has a number of (`near`).
    """
    folders = [os.getcwd(), *_folders(arguments), *_folders(near)]  # noqa: PTH109
    names = [os.fsdecode(one) for one in arguments if isinstance(one, str | bytes | os.PathLike)]
    if not names:
        yield from folders[1:]
    for name in names:
        text = name.removeprefix("file:").partition("?mode=")[0]
        yield from (os.path.normpath(os.path.join(folder, text)) for folder in folders)  # noqa: PTH118


class Intruder:
    """Counts instants, and exchanges the victim at one of them."""

    def __init__(self, victim: Path, bait: Path, at: int, *, returns: bool) -> None:
        self.victim, self.bait, self.at, self.returns = victim, bait, at, returns
        self.seen, self.armed, self.is_out = 0, False, False
        self._names = str(victim), f"{victim}/"
        sys.addaudithook(self._hook)

    @property
    def _aside(self) -> Path:
        return self.victim.with_name(self.victim.name + ".aside")

    def _concerns(self, event: str, arguments: tuple[Any, ...]) -> bool:
        """Whether a call could come to the victim; where the folder of a relative name is not known, it could."""
        near: list[Any] = []
        if event == "open" and isinstance(arguments[0], str) and not arguments[0].startswith("/"):
            caller = sys._getframe(2)
            near = [one for one in caller.f_locals.values() if isinstance(one, int)]
            if not any(Path(one).is_dir() for one in _folders(near)):
                return True
        victim, below = self._names
        return any(
            one == victim or one.startswith(below) or below.startswith(f"{one.rstrip('/')}/")
            for one in _named(arguments, near)
        )

    def _hook(self, event: str, arguments: tuple[Any, ...]) -> None:
        if not (self.armed and _names_something(event)):
            return
        self.armed = False
        if not self.is_out and not self._concerns(event, arguments):
            self.armed = True
            return
        with suppress(OSError):
            if self.seen == self.at:
                self.victim.rename(self._aside)
                self.victim.symlink_to(self.bait)
                os.chown(self.victim, ACCOUNT, ACCOUNT, follow_symlinks=False)
                self.is_out = True
            elif self.is_out and self.returns:
                self.victim.unlink()
                self._aside.rename(self.victim)
                self.is_out = False
        self.seen += 1
        # What it does once is done, and what it only counts is counted to the end.
        self.armed = self.at < 0 or self.seen <= self.at + self.returns


def make_bait(outside: Path, root: Path) -> None:
    """What only root may touch, under the very names that the site has."""
    shutil.copytree(root, outside / "bait", symlinks=True)
    for path in sorted((outside / "bait").rglob("*")):
        if path.is_file() and not path.is_symlink():
            path.write_text(f"{SECRET}: {path.name}\n" if path.suffix != ".ini" else f"[site]\nsecret = {SECRET}\n")
            path.chmod(0o600)
        os.chown(path, 0, 0, follow_symlinks=False)
    outside.chmod(0o700)


def up_and_down(folder: Path, victim: str, at: int) -> int:
    """Climb and go back with the intruder at work; however that ends, nothing outside may have changed."""
    intruder = Intruder(
        folder / "quaybook" / victim, folder.parent / "outside" / "bait" / victim, at, returns=at % 2 == 0
    )
    site = load_site(folder / "ladder.toml")
    steps: tuple[Callable[[], object], ...] = (
        lambda: begin(planned(site), Conditions()),
        lambda: descend(find_climb(site, None).plan, Conditions()),
    )
    intruder.armed = True
    for step in steps:
        with suppress(LadderError, OSError):
            step()
    intruder.armed = False
    return intruder.seen


def came_to_light(folder: Path) -> list[str]:
    """Files of the site that hold what only root may read."""
    found = []
    for path in folder.rglob("*"):
        if path.is_symlink() or not path.is_file() or ".ladder" in path.parts:
            continue
        if SECRET.encode() in path.read_bytes():
            found.append(str(path))
    return found


def _copy(source: Path, target: Path) -> None:
    subprocess.run(["cp", "-a", str(source), str(target)], check=True)


def attempt(folder: Path, victim: str, at: int, outside: Manifest) -> str:
    """One attempt on a fresh copy; returns what is wrong, or nothing."""
    hurt = folder / "hurt"
    _copy(folder / "pristine", hurt)
    try:
        in_child(lambda: up_and_down(hurt, victim, at))
        now = take_manifest(folder / "outside")
        changed = [path for path in sorted(now.keys() | outside.keys()) if now.get(path) != outside.get(path)]
        return "; ".join([f"changed outside: {path}" for path in changed] + came_to_light(hurt))
    except Exception:
        return traceback.format_exc()
    finally:
        shutil.rmtree(hurt)


def main() -> None:
    choice = sys.argv[2]
    # The site's account has to reach its own site: a test's folder is its own alone.
    folder = Path(tempfile.mkdtemp(prefix="quay-intruder-"))
    folder.chmod(0o755)
    try:
        _harm(folder, choice)
    finally:
        shutil.rmtree(folder)


def _harm(folder: Path, choice: str) -> None:
    shape, _, victim = sys.argv[1].rpartition(":")
    demo = prepare_demo(folder / "pristine", rows=ROWS, shape=shape or "plain")
    if shape == "environment":
        (folder / "pristine" / "releases" / "quaybook-4.0.tar.zst").unlink()  # it has to be started to migrate
    text = demo.file.read_text()
    head, _, rest = text.partition("[[services]]")
    for path in (folder / "pristine" / "quaybook", *(folder / "pristine" / "quaybook").rglob("*")):
        os.chown(path, ACCOUNT, ACCOUNT, follow_symlinks=False)
    demo.file.write_text(head + "[" + rest.partition("\n[")[2])
    (folder / "outside").mkdir(mode=0o700)
    make_bait(folder / "outside", folder / "pristine" / "quaybook")
    outside = take_manifest(folder / "outside")
    _copy(folder / "pristine", folder / "hurt")
    points, _ = in_child(lambda: up_and_down(folder / "hurt", victim, -1))
    ended = str(find_climb(load_site(folder / "hurt" / "ladder.toml"), None).standing.state)
    shutil.rmtree(folder / "hurt")
    tried = chosen(points, choice)
    wrong = {at: attempt(folder, victim, at, outside) for at in tried}
    failures = {at: one for at, one in wrong.items() if one}
    print(json.dumps({"points": points, "ended": ended, "tried": tried, "failures": failures}))


if __name__ == "__main__":
    main()
