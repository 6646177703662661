"""`yl demo`."""

from __future__ import annotations

import contextlib
import shutil
import sys
from pathlib import Path

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, show_problems
from yellow_ladder.climb.record.catalog import list_climbs
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.demo import DemoSite, prepare_demo
from yellow_ladder.demo.hurting import hurt, in_words, kinds
from yellow_ladder.demo.prepare import MARK_NAME, Place, server_below, start_site, stop_site
from yellow_ladder.demo.proof import picture_of
from yellow_ladder.demo.servers import ENGINES, remove_server
from yellow_ladder.demo.shapes import SHAPES
from yellow_ladder.demo.units import place_of_units, remove_unit
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.report.demonstration import (
    closing_page,
    command_line,
    damage_page,
    hurt_page,
    prepared_page,
    same_page,
    scene,
)
from yellow_ladder.report.look import Page
from yellow_ladder.site.site import load_site


@click.command("demo", cls=LadderCommand)
@click.argument("folder", metavar="[DIR]", type=click.Path(path_type=Path), default=Path("quaybook-demo"))
@click.option(
    "--rows",
    default=5_000,
    metavar="N",
    type=click.IntRange(10, 20_000_000),
    help="So many bookings (default: 5000).",
)
@click.option(
    "--engine",
    default="sqlite",
    type=click.Choice(["sqlite", *ENGINES]),
    help="Its database (default: sqlite); of the others a private server is started.",
)
@click.option(
    "--shape",
    default="plain",
    type=click.Choice(SHAPES),
    help="How it is installed: as one tree, as an environment per release behind a link, or in a shared folder.",
)
@click.option("--unit", is_flag=True, help="With --shape environment: its service is a unit of systemd, as root.")
@click.option("--prepare-only", is_flag=True, help="Prepare the site, start it, and leave it to you.")
@click.option("--broken", is_flag=True, help="With --prepare-only: the last release fails on purpose.")
@click.option("--troubled", is_flag=True, help="With --prepare-only: an installation with a past.")
@click.option("--damage", metavar="KIND", help="Hurt a demonstration that has climbed; `list` shows every kind.")
@click.option("--remove", is_flag=True, help="Stop a demonstration site and remove its folder.")
@click.pass_context
def command(
    ctx: click.Context, /, folder: Path, rows: int, engine: str, shape: str, damage: str | None, **wishes: bool
) -> None:
    """Prepare Quaybook, an invented harbour's berth-booking server, and run the full example on it."""
    choices: Choices = ctx.obj
    if choices.as_json:
        raise BadInput(Problem("usage", "demo is a show for people and has no JSON", "leave --json away"))
    folder = folder.absolute()
    if wishes["remove"]:
        _remove(folder)
        return
    out = console(choices)
    if damage is not None:
        out.print(_hurt(folder, damage))
        return
    if shape != "plain" and (engine != "sqlite" or wishes["troubled"]):
        text = f"--shape {shape} comes over SQLite and without a past"
        raise BadInput(Problem("usage", text, "leave --engine and --troubled away, or the shape"))
    if wishes["unit"] and shape != "environment":
        raise BadInput(Problem("usage", "--unit goes with --shape environment", "add that, or leave --unit away"))
    place = Place(engine, units=place_of_units() if wishes["unit"] else None)
    if wishes["prepare_only"]:
        troubled = wishes["troubled"]
        demo = prepare_demo(folder, rows=rows, broken=wishes["broken"], troubled=troubled, place=place, shape=shape)
        start_site(demo.load())
        out.print(prepared_page(demo, rows, _program_folder()))
        return
    if shape != "plain":
        demo = _show_shape(ctx, choices, folder / "first", rows, shape, place)
        out.print(scene("Try by hand"), prepared_page(demo, rows, _program_folder()))
        return
    first = _show_climb(ctx, choices, folder, rows, engine)
    _show_failure(ctx, choices, folder / "second", min(rows, 5_000), engine)
    if engine != "sqlite":  # what the third copy shows lies in files, on every engine
        out.print(closing_page(first, _program_folder()))
        return
    _show_past(ctx, choices, folder / "third", min(rows, 5_000))
    out.print(closing_page(first, _program_folder()))


def _program_folder() -> str:
    """The folder of this program where typing `yl` would not find it, nothing where it would."""
    found, own = shutil.which("yl"), Path(sys.argv[0]).absolute()
    return "" if found and Path(found).resolve() == own.resolve() else str(own.parent)


def _show_climb(ctx: click.Context, choices: Choices, folder: Path, rows: int, engine: str) -> DemoSite:
    """The first copy goes up."""
    out = console(choices)
    out.print(scene("A harbour office, three releases behind"))
    demo = prepare_demo(folder / "first", rows=rows, place=Place(engine))
    start_site(demo.load())
    out.print(prepared_page(demo, rows, ends=False))
    for words in (["survey"], ["route"], ["check"], ["climb", "--to", "4.0", "--yes"], ["verify"]):
        _type(ctx, choices, demo, words)
    return demo


_SCENES = {
    "environment": "A harbour office whose releases are environments behind a link",
    "shared": "A harbour office that shares its folder with another program",
}


def _show_shape(ctx: click.Context, choices: Choices, folder: Path, rows: int, shape: str, place: Place) -> DemoSite:
    """A copy in another shape goes up, and back."""
    out = console(choices)
    out.print(scene(_SCENES[shape]))
    demo = prepare_demo(folder, rows=rows, shape=shape, place=place)
    start_site(demo.load())
    before = picture_of(demo.load())
    out.print(prepared_page(demo, rows, ends=False))
    for words in (["survey"], ["check"], ["climb", "--to", "4.0", "--yes"], ["verify"], ["descend", "--yes"]):
        _type(ctx, choices, demo, words)
    after = picture_of(demo.load())
    out.print(same_page(before, after))
    if before != after:
        raise AnswerNo(Problem("not-as-before", "the copy is not as it was before", f"see {demo.folder}"))
    return demo


def _show_failure(ctx: click.Context, choices: Choices, folder: Path, rows: int, engine: str) -> None:
    """The second copy's last release fails, and the copy goes back by itself."""
    out = console(choices)
    out.print(scene("A second copy, whose release 4.0 fails in a migration on purpose"))
    demo = prepare_demo(folder, rows=rows, broken=True, place=Place(engine))
    site = demo.load()
    start_site(site)
    before = picture_of(site)
    try:
        _type(ctx, choices, demo, ["climb", "--to", "4.0", "--yes"])
    except AnswerNo as failure:
        show_problems(failure.problems)
    after = picture_of(site)
    out.print(same_page(before, after))
    stop_site(site)
    if before != after:
        text = "the second copy is not as it was before"
        raise AnswerNo(Problem("not-as-before", text, f"see {folder}"))


def _show_past(ctx: click.Context, choices: Choices, folder: Path, rows: int) -> None:
    """A third copy has a past: looking finds what would have been met at night."""
    console(choices).print(scene("A third copy, with a past: what looking finds before anything is touched"))
    demo = prepare_demo(folder, rows=rows, troubled=True)
    site = demo.load()
    start_site(site)
    for words in (["survey"], ["route", "--all"], ["check"]):
        with contextlib.suppress(click.exceptions.Exit):  # the check's answer is no, and that is the point
            _type(ctx, choices, demo, words)
    stop_site(site)


def _type(ctx: click.Context, choices: Choices, demo: DemoSite, words: list[str]) -> None:
    """Show a command as it is typed, and run it."""
    console(choices).print(command_line(words))
    program = ctx.find_root().command
    there = Choices(demo.file, plain=choices.plain)  # as in the folder that has it
    program.main(list(words), prog_name="yl", standalone_mode=False, obj=there)


def _hurt(folder: Path, kind: str) -> Page:
    """Do one kind of damage to a demonstration, or tell which kinds there are."""
    if kind == "list":
        return damage_page({one: in_words(one) for one in kinds()})
    marks = [one for one in (folder, folder / "first") if (one / MARK_NAME).exists()]
    if not marks:
        text = f"{folder} is no demonstration site"
        raise BadInput(Problem("no-demo", text, "yl demo DIR --prepare-only, then yl climb in it", str(folder)))
    site = load_site(marks[0] / "ladder.toml")
    if not any(one.standing.state is ClimbState.CLIMBED for one in list_climbs(site)):
        text = f"{marks[0]} has not climbed yet: there would be nothing to hold the damage against"
        raise BadInput(Problem("not-climbed", text, "yl climb in it, then come back", str(marks[0])))
    return hurt_page(kind, hurt(site, kind), marks[0])


def _remove(folder: Path) -> None:
    """Stop what runs there and remove it; only a folder that a demonstration made."""
    marks = [folder / MARK_NAME, *folder.glob(f"*/{MARK_NAME}")]
    sites = [mark.parent for mark in marks if mark.exists()]
    if not sites:
        text = f"{folder} was not made by `yl demo`"
        raise BadInput(Problem("no-demo", text, "name the folder of a demonstration", str(folder)))
    for site_folder in sites:
        try:
            stop_site(load_site(site_folder / "ladder.toml", under_way=True))
        except LadderError as fault:
            show_problems(fault.problems)
        try:
            remove_unit(site_folder)
        except LadderError as fault:
            show_problems(fault.problems)
        server = server_below(site_folder)
        if server is not None:
            remove_server(server)
        shutil.rmtree(site_folder)
    if folder.is_dir() and not any(folder.iterdir()):
        folder.rmdir()
