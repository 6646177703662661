"""The words between the scenes of the demonstration."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from pathlib import Path

from rich.rule import Rule
from rich.text import Text

from yellow_ladder.demo import DemoSite
from yellow_ladder.demo.proof import Picture
from yellow_ladder.report.look import ACCENT, Page, labelled, next_command, verdict
from yellow_ladder.words import count_of


def scene(words: str) -> Rule:
    """The title of a scene."""
    return Rule(Text(words, style=ACCENT), style="yellow", align="left")


def command_line(words: Sequence[str]) -> Text:
    """A command as a person would have typed it."""
    return Text("\n$ ", style="dim").append(shlex.join(["yl", *words]), style="bold cyan")


def prepared_page(demo: DemoSite, rows: int, program_folder: str = "", *, ends: bool = True) -> Page:
    """The site that was prepared. `program_folder` is named where the shell would not find `yl` by itself."""
    page = Page().add(
        labelled(
            [
                ("site", f"Quaybook 2.4 with {count_of(rows, 'booking')}, serving at {demo.url}"),
                ("folder", str(demo.folder)),
                ("releases", "2.4, 2.6, 3.0 and 4.0 in the folder releases"),
            ]
        )
    )
    if not ends:
        return page
    return page.add(
        next_command(
            *_find_program(program_folder),
            (f"cd {shlex.quote(str(demo.folder))}", "everything below is typed there"),
            ("yl survey", "what is installed"),
            ("yl check", "whether anything stands in the way"),
            ("yl climb --to 4.0", "see the plan and climb"),
            (f"yl demo --remove {shlex.quote(str(demo.folder))}", "stop it and remove the folder"),
        )
    )


def damage_page(kinds: Mapping[str, str]) -> Page:
    """Every kind of damage that can be done to a demonstration."""
    page = Page().add(Text("Done to a demonstration that has climbed, so that you can see what is found of it."))
    return page.add(labelled(list(kinds.items())), next_command(("yl demo DIR --damage cut", "do one of them")))


def hurt_page(kind: str, done: str, folder: Path) -> Page:
    """What was done to a demonstration, and how it is looked for."""
    page = Page().add(labelled([("damage", kind), ("done", done)]))
    return page.add(
        next_command(
            (f"cd {shlex.quote(str(folder))}", "everything below is typed there"),
            ("yl verify", "what is found of it"),
            ("yl descend", "go back, to before it was done"),
        )
    )


def same_page(before: Picture, after: Picture) -> Page:
    """Whether the second copy is as it was."""
    if before == after:
        words = f"as before: {count_of(after.files, 'file')} with owner and mode, {count_of(after.rows, 'row')}"
        return Page().add(verdict(words, good=True))
    return Page().add(verdict("the copy is not as it was before", good=False))


def _find_program(folder: str) -> list[tuple[str, str]]:
    return [(f"PATH={shlex.quote(folder)}:$PATH", "so that the shell finds yl")] if folder else []


def closing_page(first: DemoSite, program_folder: str = "") -> Page:
    """What to try by hand. `program_folder` is named where the shell would not find `yl` by itself."""
    return Page().add(
        Rule(Text("Try by hand", style=ACCENT), style="yellow", align="left"),
        labelled([("still serving", f"Quaybook 4.0 at {first.url}")]),
        next_command(
            *_find_program(program_folder),
            (f"cd {shlex.quote(str(first.folder))}", "the first copy, at 4.0"),
            ("yl history --steps", "how long each step took"),
            ("yl descend", "go back to 2.4; it says its price first"),
            ("yl settle", "accept 4.0 for good"),
            ("yl backup test", "read the climb's backup once more"),
            (f"yl demo --remove {shlex.quote(str(first.folder.parent))}", "stop it and remove the folder"),
        ),
    )
