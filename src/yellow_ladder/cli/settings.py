"""`yl settings`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click

from yellow_ladder.cli.base import Choices, LadderCommand, console, emit, to_option, wish_options
from yellow_ladder.climb.planning.prospect import look_at_settings
from yellow_ladder.climb.running.run import utc_now
from yellow_ladder.durable import private_folder, write_whole
from yellow_ladder.errors import AnswerNo, BadInput, Problem
from yellow_ladder.files.entry import below_any
from yellow_ladder.release.versions import Version
from yellow_ladder.report.settings import conflict_page, settings_page
from yellow_ladder.route import Route, Wishes
from yellow_ladder.settings.choices import Choices as Decisions
from yellow_ladder.settings.choices import keep_choices, read_choices
from yellow_ladder.settings.forecast import Forecast, Told
from yellow_ladder.settings.merging.outcomes import Answer
from yellow_ladder.settings.notes import note_of
from yellow_ladder.settings.shipped import secret_files
from yellow_ladder.site.site import Site

_WORDS = {"m": "mine", "n": "new", "t": "value", "e": "value"}


@click.command("settings", cls=LadderCommand)
@to_option
@wish_options
@click.option(
    "--decide",
    "decisions",
    metavar="KEY=ANSWER",
    multiple=True,
    help="Decide a conflict: KEY=mine, KEY=new, or KEY=VALUE (value:mine for the word itself). May be repeated.",
)
@click.option("--into", "folder", metavar="DIR", type=click.Path(path_type=Path), help="Write the merged files there.")
@click.option("--all", "show_all", is_flag=True, help="Every key, also those that stay as they are.")
@click.pass_obj
def command(
    choices: Choices,
    /,
    target: Version | None,
    decisions: tuple[str, ...],
    folder: Path | None,
    show_all: bool,
    **wishes: bool,
) -> None:
    """Show key by key what becomes of the site's settings, and decide what the site and the releases changed
    differently.

    What is decided is kept in choices.toml beside the site file, for this and every later climb. The site is not
    touched. Ends with 1 when something is left to decide.
    """
    site = choices.site()
    asked = Wishes(**wishes)
    known = read_choices(site.file.parent)
    route, forecast = look_at_settings(site, target, asked, known)
    for one in decisions:
        known = _decided(forecast, known, one)
        keep_choices(site.file.parent, known)
        route, forecast = look_at_settings(site, target, asked, known)
    if forecast.open and sys.stdin.isatty() and not choices.as_json and not decisions:
        forecast = _ask_each(choices, site, (target, asked), (forecast, known))
    if folder is not None:
        _write_into(folder, site, forecast, route)
    secret = secret_files(site)
    page = settings_page(site, route, forecast, secret, show_all=show_all)
    emit(
        "settings", choices, settings_record(route, forecast, secret), page,
        exit_code=1 if forecast.open else 0, problems=_problems(forecast.open),
    )  # fmt: skip


def settings_record(route: Route, forecast: Forecast, secret: set[str]) -> dict[str, Any]:
    """What becomes of the settings as JSON; values that sound like secrets are masked."""
    files = []
    for one in forecast.files:
        notes = [note_of(told, secret=one.file in secret) for told in one.summary]
        files.append({
            "file": one.file,
            "format": one.form,
            "compared_with": one.base,
            "keys": [
                {
                    "key": note.key, "version": note.version, "fate": str(note.fate), "was": note.old_key,
                    "detail": note.detail, "decided": note.took,
                }
                for note in notes
            ],
        })  # fmt: skip
    return {"from": str(route.present), "to": str(route.leg[-1].to_version), "open": len(forecast.open), "files": files}


def _problems(left: Sequence[Told]) -> list[Problem]:
    remedy = "decide it: yl settings --decide KEY=mine, KEY=new or KEY=VALUE"
    return [
        Problem("settings-conflict", f"{one.outcome.key} at {one.version} is not decided", remedy, one.file)
        for one in left
    ]


def _decided(forecast: Forecast, known: Decisions, text: str) -> Decisions:
    """The decisions with one more, of those that are open or were decided before."""
    name, sign, word = text.partition("=")
    if not sign or not name:
        raise BadInput(Problem("usage", f"{text!r} decides nothing", "write --decide KEY=mine, KEY=new or KEY=VALUE"))
    there = [one for one in forecast.told if one.is_open or one.outcome.took]
    file, colon, key = name.partition(":")
    fit = [one for one in there if one.outcome.key == name or (colon and (one.file, one.outcome.key) == (file, key))]
    if not fit:
        conflicts = ", ".join(sorted({one.outcome.key for one in there})) or "none"
        raise AnswerNo(Problem("no-such-conflict", f"there is no conflict about {name}", f"conflicts: {conflicts}"))
    if len({one.file for one in fit}) > 1:
        text = f"{name} is in conflict in {' and '.join(sorted({one.file for one in fit}))}"
        raise BadInput(Problem("usage", text, f"say which: --decide {fit[0].file}:{name}=…"))
    answer = Answer(word) if word in ("mine", "new") else Answer("value", word.removeprefix("value:"))
    for one in fit:
        known = known.with_choice(one.file, one.outcome.key, one.outcome.sides, answer, f"{utc_now():%Y-%m-%d}")
    return known


def _ask_each(
    choices: Choices, site: Site, wanted: tuple[Version | None, Wishes], seen: tuple[Forecast, Decisions]
) -> Forecast:
    """Ask about every conflict once; what was answered is kept at once. A later rung's conflict may come of it."""
    forecast, known = seen
    skipped: set[tuple[str, str, str]] = set()
    secret = secret_files(site)
    while True:
        left = [one for one in forecast.open if (one.file, one.version, one.outcome.key) not in skipped]
        if not left:
            return forecast
        one = left[0]
        console(choices, errors=True).print(conflict_page(one, len(forecast.open), secret=one.file in secret))
        word = click.prompt(
            "[m] yours, [n] the new one, [t] type a value, [e] edit it, [s] skip",
            type=click.Choice(["m", "n", "t", "e", "s"]),
            show_choices=False,
            err=True,
        )
        answer = _answer(word, one)
        if answer is None:
            skipped.add((one.file, one.version, one.outcome.key))
            continue
        known = known.with_choice(one.file, one.outcome.key, one.outcome.sides, answer, f"{utc_now():%Y-%m-%d}")
        keep_choices(site.file.parent, known)
        _, forecast = look_at_settings(site, *wanted, known)


def _answer(word: str, one: Told) -> Answer | None:
    sides = one.outcome.sides
    if word == "s":
        return None
    if word == "t":
        return Answer("value", click.prompt("Value", err=True))
    if word == "e":
        edited = click.edit(sides.mine or sides.new or "")
        return Answer("value", edited.rstrip("\n")) if edited is not None else None
    return Answer(_WORDS[word])


def _write_into(folder: Path, site: Site, forecast: Forecast, route: Route) -> None:
    """The merged files as the climb will write them, below a folder outside of the site."""
    if folder.absolute().is_relative_to(site.root):
        text = f"{folder} lies in the site"
        raise BadInput(Problem("bad-folder", text, "name a folder outside of it", str(folder)))
    last = str(route.leg[-1].to_version)
    for one in forecast.files:
        if last not in one.after:
            continue
        place = private_folder(folder.absolute()) / below_any(one.file)
        private_folder(place.parent)
        write_whole(place, one.after[last])
