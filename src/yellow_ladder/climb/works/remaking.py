"""Data folders made anew: the release before exports what lies there, the new one imports it into an empty folder.

The old folder is set aside by a rename, as it stands, and is the way back; it goes when the climb is settled. What was
exported lies beside root, or in it where root stays: the application's account must reach it, and it may be large.
"""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.placing.aside import aside_folder
from yellow_ladder.climb.placing.kinds import release_before, release_folder
from yellow_ladder.climb.record.commands import PlannedCommand, PlannedRemaking, all_remade
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.commands import call_of, run_at_rest
from yellow_ladder.commands.watched import Call
from yellow_ladder.durable import private_folder, write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.attributes import match_attributes, read_attributes
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.release.commands import CommandKeys
from yellow_ladder.words import count_of


def export(made: PlannedRemaking) -> Work:
    """The work of exporting a data folder with the release that has it, and asking what must come through."""

    def do(run: Run) -> Facts:
        plan, folder = run.plan, run.site.root / made.before
        if not nolinks.is_folder(folder):
            text = f"{made.before}, which {made.rung.to_version} makes anew, is no folder of the site"
            raise AnswerNo(
                Problem("not-to-be-remade", text, "correct `folder` of [[remade]] in the sheet", str(folder))
            )
        values = {**_values(plan, made, folder), "release": str(release_before(plan, made.rung))}
        call = _call(plan, made, made.export_by, values)
        target = _exported(plan, made)
        remove_entry(target)  # of an export that was cut off
        nolinks.make_folder(target, 0o700)
        if call.how.account is not None:
            nolinks.set_owner(target, call.how.account.uid, call.how.account.gid)
        answers = {one.name: _answer(run, made, one.name, list(one.before), values) for one in made.same}
        facts = run_at_rest(run, call)
        if not nolinks.names_in(target):
            text = f"`{call.name}` ended as if all were well, and exported nothing"
            raise AnswerNo(Problem("exported-nothing", text, "run it by hand to see why", str(target)))
        write_json(_answers(plan, made), {"format": 1, "answers": answers})
        return facts

    return do


def make_anew(made: PlannedRemaking) -> Work:
    """The work of setting the old folder aside, importing into an empty one, and asking again."""

    def do(run: Run) -> Facts:
        plan, folder = run.plan, run.site.root / made.after
        if _is_made(plan, made).exists():  # and the step was cut off before it was written down
            remove_entry(_exported(plan, made))
            return {"summary": "imported before"}
        aside = _aside(plan, made)
        if nolinks.is_there(aside):
            remove_entry(folder)  # of an import that was cut off
        else:
            nolinks.make_folders(aside.parent, 0o700)
            nolinks.rename(folder, aside)
            nolinks.sync_folder(aside.parent)
            nolinks.sync_folder(folder.parent)
        _make_like(folder, aside)
        values = _values(plan, made, folder)
        facts = run_at_rest(run, _call(plan, made, made.import_by, values))
        if not nolinks.names_in(folder):
            text = f"`{made.import_by.name}` ended as if all were well, and imported nothing"
            raise AnswerNo(Problem("imported-nothing", text, "report it to the release's publisher", str(folder)))
        _compare(run, made, values)
        os.sync()  # of what somebody else's program wrote, nobody knows how far it has come to the disk
        write_json(_is_made(plan, made), {"format": 1})
        remove_entry(_exported(plan, made))
        same = f"; the same {', '.join(one.name for one in made.same)}" if made.same else ""
        return {**facts, "summary": f"{facts['summary'] or 'imported'}{same}"}

    return do


def put_folders_back(run: Run) -> Facts:
    """Take out what was made anew and give every folder that lies aside its place again; may be repeated."""
    plan, count = run.plan, 0
    drop_exported(plan)
    # The last one first: what lay there at the very beginning comes last, and stays.
    for made in reversed(all_remade(plan)):
        aside = _aside(plan, made)
        if not nolinks.is_there(aside):
            continue
        # The old tree is in its place by now, and what was made anew lies in it under the name of before.
        home = run.site.root / _first_name(plan, made)
        if nolinks.is_there(home):
            taken_out = aside.with_name(f"{aside.name}-newer")
            remove_entry(taken_out)
            nolinks.rename(home, taken_out)
            nolinks.sync_folder(taken_out.parent)
        nolinks.rename(aside, home)
        nolinks.sync_folder(home.parent)
        nolinks.sync_folder(aside.parent)
        count += 1
    return {"summary": f"{count_of(count, 'folder')} put back as set aside" if count else "nothing had been made anew"}


def _first_name(plan: Plan, made: PlannedRemaking) -> str:
    """The tree path that a folder had before the climb."""
    moved = {later[made.rung.number - 1]: first for first, later in plan.data_folders()}
    return moved.get(made.after, made.before)


def drop_exported(plan: Plan) -> None:
    """Remove what was exported: it is in the new folder by now, or not wanted any more."""
    for made in all_remade(plan):
        remove_entry(_exported(plan, made))


def _make_like(folder: Path, model: Path) -> None:
    """Make an empty folder with the owner, mode and attributes of another."""
    like = nolinks.status_of(model)
    nolinks.make_folder(folder, 0o700)
    nolinks.set_owner(folder, like.st_uid, like.st_gid)
    nolinks.set_mode(folder, stat.S_IMODE(like.st_mode))
    match_attributes(folder, read_attributes(model))


def _compare(run: Run, made: PlannedRemaking, values: Mapping[str, str]) -> None:
    """Ask the new release what the one before was asked; raises AnswerNo with every answer that is another."""
    before = json.loads(_answers(run.plan, made).read_text())["answers"] if made.same else {}
    problems = []
    for one in made.same:
        now = _answer(run, made, one.name, list(one.after or one.before), values)
        if now != before[one.name]:
            text = f"{one.name}: {_first_line_that_differs(before[one.name], now)}"
            remedy = "see what the import said in the climb's folder `output`"
            problems.append(Problem("not-come-through", text, remedy, made.after))
    if problems:
        raise AnswerNo(problems)


def _first_line_that_differs(before: str, now: str) -> str:
    old, new = before.splitlines(), now.splitlines()
    pairs = enumerate(zip(old, new, strict=False))
    at = next((at for at, (one, other) in pairs if one != other), min(len(old), len(new)))
    was = repr(old[at][:80]) if at < len(old) else "nothing"
    is_now = repr(new[at][:80]) if at < len(new) else "nothing"
    return f"line {at + 1} was {was}, and is {is_now} ({count_of(len(old), 'line')} before, {len(new)} now)"


def _answer(run: Run, made: PlannedRemaking, name: str, words: list[str], values: Mapping[str, str]) -> str:
    keys = CommandKeys(run=words, folder=values["release"], within_s=made.export_by.keys.within_s)
    call = _call(run.plan, made, replace(made.export_by, name=f"{made.of} {name}", keys=keys), values)
    run_at_rest(run, call)
    return call.output.read_text(errors="replace").strip()


def _call(plan: Plan, made: PlannedRemaking, command: PlannedCommand, values: Mapping[str, str]) -> Call:
    return call_of(plan, made.rung, command.name, command.keys, command.as_user, values)


def _values(plan: Plan, made: PlannedRemaking, folder: Path) -> dict[str, str]:
    release = release_folder(plan, made.rung)
    return {"folder": str(folder), "exported": str(_exported(plan, made)), "release": str(release)}


def _exported(plan: Plan, made: PlannedRemaking) -> Path:
    name = f"exported-{plan.climb}-{made.rung.number}-{made.number}"
    root = plan.site.root
    return root.with_name(f".{root.name}.{name}") if plan.site.record.placement == "exchange" else root / f".{name}"


def _aside(plan: Plan, made: PlannedRemaking) -> Path:
    return aside_folder(plan) / "remade" / f"{made.rung.number}-{made.number}"


def _answers(plan: Plan, made: PlannedRemaking) -> Path:
    return private_folder(plan.folder / "remade") / f"answers-{made.rung.number}-{made.number}.json"


def _is_made(plan: Plan, made: PlannedRemaking) -> Path:
    return private_folder(plan.folder / "remade") / f"made-{made.rung.number}-{made.number}.json"
