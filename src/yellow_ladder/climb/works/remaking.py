"""Data folders made anew: the release before exports what lies there, the new one imports it into an empty folder; or
reads the old folder itself, or goes on with a copy of it.

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
from yellow_ladder.climb.proving.price import FOLDER_NAME, unread_mark
from yellow_ladder.climb.record.commands import PlannedCommand, PlannedRemaking, all_remade
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.commands import call_of, run_at_rest
from yellow_ladder.climb.works.servers import server_at
from yellow_ladder.commands.watched import Call
from yellow_ladder.durable import private_folder, write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Note
from yellow_ladder.files.attributes import match_attributes, read_attributes
from yellow_ladder.files.copying import copy_entry, remove_entry
from yellow_ladder.files.exchange import same_file_system
from yellow_ladder.release.commands import USUAL_LIMIT_S, CommandKeys
from yellow_ladder.words import count_of


def export(made: PlannedRemaking) -> Work:
    """The work of exporting a data folder with the release that has it, and asking what must come through."""

    def do(run: Run) -> Facts:
        plan, folder, planned = run.plan, run.site.root / made.before, made.export_by
        _see_folder(made, folder)
        values = {**_values(plan, made, folder), "release": str(release_before(plan, made.rung))}
        answers = {one.name: _answer(run, made, one.name, list(one.before), values) for one in made.same}
        facts: Facts = {}
        if planned is not None:
            facts = _exported_by(run, made, planned, values)
        write_json(_answers(plan, made), {"format": 1, "answers": answers})
        return facts

    return do


def _exported_by(run: Run, made: PlannedRemaking, planned: PlannedCommand, values: Mapping[str, str]) -> Facts:
    call, target = _call(run.plan, made, planned, values), _exported(run.plan, made)
    remove_entry(target)  # of an export that was cut off
    nolinks.make_folder(target, 0o700)
    if call.how.account is not None:
        nolinks.set_owner(target, call.how.account.uid, call.how.account.gid)
    facts = _run(run, made, call)
    if not nolinks.names_in(target):
        text = f"`{call.name}` ended as if all were well, and exported nothing"
        raise AnswerNo(Problem("exported-nothing", text, "run it by hand to see why", str(target)))
    return facts


def _run(run: Run, made: PlannedRemaking, call: Call) -> Facts:
    """Where the folder is a server's, nobody is let into its databases: what came in now would not come along."""
    server = server_at(run.site, made.before)
    return run_at_rest(run, call, apart=server.holds if server else ())


def make_anew(made: PlannedRemaking) -> Work:
    """The work of setting the old folder aside, importing into an empty one, and asking again."""

    def do(run: Run) -> Facts:
        plan, folder = run.plan, run.site.root / made.after
        if _is_made(plan, made).exists():  # and the step was cut off before it was written down
            _move_aside(_lent(plan, made), _aside(plan, made))
            remove_entry(_exported(plan, made))
            return {"summary": "imported before"}
        lent = _lent(plan, made)
        if not nolinks.is_there(lent):
            _see_folder(made, folder)
        _note_inode(plan, made, folder)
        if nolinks.is_there(lent):
            _see_that_it_is_ours(plan, made, lent)
            remove_entry(folder)  # of an import that was cut off
        else:
            _move_aside(folder, lent)
        values = _values(plan, made, folder)
        if made.copied:
            copy_entry(lent, folder)
        else:
            _make_like(folder, lent)
        facts = _imported_by(run, made, values, folder)
        for name in made.carries:
            _carry(lent / name, folder / name)
        _compare(run, made, values)
        os.sync()  # of what somebody else's program wrote, nobody knows how far it has come to the disk
        _see_that_it_is_ours(plan, made, lent)
        write_json(_is_made(plan, made), {"format": 1})
        _move_aside(lent, _aside(plan, made))
        remove_entry(_exported(plan, made))
        same = f"; the same {', '.join(one.name for one in made.same)}" if made.same else ""
        return {**facts, "summary": f"{facts.get('summary') or ('copied' if made.copied else 'imported')}{same}"}

    return do


def _imported_by(run: Run, made: PlannedRemaking, values: Mapping[str, str], folder: Path) -> Facts:
    if made.import_by is None:
        return {}
    facts = _run(run, made, _call(run.plan, made, made.import_by, values))
    if not nolinks.names_in(folder):
        text = f"`{made.import_by.name}` ended as if all were well, and imported nothing"
        raise AnswerNo(Problem("imported-nothing", text, "report it to the release's publisher", str(folder)))
    return facts


def _move_aside(folder: Path, aside: Path) -> None:
    """Set a folder aside by a rename; may be repeated."""
    if folder != aside and nolinks.is_there(folder):
        nolinks.make_folders(aside.parent, 0o700)
        nolinks.rename(folder, aside)
        nolinks.sync_folder(aside.parent)
        nolinks.sync_folder(folder.parent)


def _see_folder(made: PlannedRemaking, folder: Path) -> None:
    """Raise AnswerNo where the folder that is to be made anew is none of the site."""
    if not nolinks.is_folder(folder):
        text = f"{made.before}, which {made.rung.to_version} makes anew, is no folder of the site"
        raise AnswerNo(Problem("not-to-be-remade", text, "correct `folder` of [[remade]] in the sheet", str(folder)))


def _note_inode(plan: Plan, made: PlannedRemaking, folder: Path) -> None:
    """Write down which folder is set aside, before it is: what the site's account can reach, it can exchange."""
    if not _noted(plan, made).exists():
        write_json(_noted(plan, made), {"format": 1, "inode": nolinks.status_of(folder).st_ino})


def _see_that_it_is_ours(plan: Plan, made: PlannedRemaking, lent: Path) -> None:
    """Raise AnswerNo where another folder lies where the old one was put."""
    if nolinks.status_of(lent).st_ino != json.loads(_noted(plan, made).read_bytes())["inode"]:
        text = f"{lent} is not the folder that was set aside: somebody has exchanged it"
        raise AnswerNo(Problem("set-aside-exchanged", text, f"see whose it is: ls -ld {lent}", str(lent)))


def _carry(source: Path, target: Path) -> None:
    """Put a file of the old folder in place of what the import has left there."""
    if nolinks.is_there(source):
        remove_entry(target)
        copy_entry(source, target)


def put_folders_back(run: Run) -> Facts:
    """Take out what was made anew and give every folder that lies aside its place again; may be repeated."""
    plan, count = run.plan, 0
    drop_exported(plan)
    # The last one first: what lay there at the very beginning comes last, and stays.
    for made in reversed(all_remade(plan)):
        aside = _aside(plan, made)
        lent = _lent(plan, made)
        if lent != aside and nolinks.is_there(lent):  # of an import that was cut off
            _see_that_it_is_ours(plan, made, lent)
            _move_aside(lent, aside)
        if not nolinks.is_there(aside):
            continue
        # The old tree is in its place by now, and what was made anew lies in it under the name of before.
        home = run.site.root / _first_name(plan, made)
        if nolinks.is_there(home):
            taken_out = aside.with_name(f"{aside.name}-newer")
            remove_entry(taken_out)
            nolinks.rename(home, taken_out)
            nolinks.sync_folder(taken_out.parent)
        _keep_unread(run, made, aside.with_name(f"{aside.name}-newer"))  # also of what a kill has left there
        nolinks.rename(aside, home)
        nolinks.sync_folder(home.parent)
        nolinks.sync_folder(aside.parent)
        count += 1
    return {"summary": f"{count_of(count, 'folder')} put back as set aside" if count else "nothing had been made anew"}


def _keep_unread(run: Run, made: PlannedRemaking, newer: Path) -> None:
    """Keep the newer data folder of a server that could not be read: users may have written to it."""
    server = server_at(run.site, made.before)
    is_unread = server is not None and any(unread_mark(run.plan, one).exists() for one in server.holds)
    if server is None or not is_unread or not nolinks.is_there(newer):
        return
    kept = private_folder(run.plan.folder / FOLDER_NAME) / f"data-folder-of-{server.name}"
    if nolinks.is_there(kept):
        return
    if same_file_system(newer, kept.parent):
        nolinks.rename(newer, kept)
    else:
        begun = kept.with_name(f"{kept.name}.part")
        remove_entry(begun)  # of a copy that was cut off
        copy_entry(newer, begun)
        os.sync()
        nolinks.rename(begun, kept)
    nolinks.sync_folder(kept.parent)
    run.listen(Note(f"what `{server.name}` has written could not be read; all of it is in {kept}", is_warning=True))


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
        was, now = before[one.name], _answer(run, made, one.name, list(one.after or one.before), values)
        if now["digest"] != was["digest"]:
            text = f"{one.name}: {_first_line_that_differs(was['text'], now['text'])}"
            remedy = "see what the import said in the climb's folder `output`"
            problems.append(Problem("not-come-through", text, remedy, made.after))
    if problems:
        raise AnswerNo(problems)


def _first_line_that_differs(before: str, now: str) -> str:
    if before == now:
        return "it differs in what is not shown: in a secret, or in bytes that are no text"
    old, new = before.splitlines(), now.splitlines()
    pairs = enumerate(zip(old, new, strict=False))
    at = next((at for at, (one, other) in pairs if one != other), min(len(old), len(new)))
    was = repr(old[at][:80]) if at < len(old) else "nothing"
    is_now = repr(new[at][:80]) if at < len(new) else "nothing"
    return f"line {at + 1} was {was}, and is {is_now} ({count_of(len(old), 'line')} before, {len(new)} now)"


def _answer(run: Run, made: PlannedRemaking, name: str, words: list[str], values: Mapping[str, str]) -> dict[str, str]:
    """What a command prints: a digest of it, which is compared, and its text without secrets, which may be shown."""
    model = made.export_by or made.import_by
    within_s = model.keys.within_s if model is not None else USUAL_LIMIT_S
    keys = CommandKeys(run=words, folder=values["release"], within_s=within_s)
    account = run.site.record.run_as
    call = call_of(run.plan, made.rung, f"{made.of} {name}", keys, account, values)
    digest = str(_run(run, made, replace(call, answers=True))["digest"])
    return {"digest": digest, "text": call.output.read_text(errors="replace")}


def _call(plan: Plan, made: PlannedRemaking, command: PlannedCommand, values: Mapping[str, str]) -> Call:
    return call_of(plan, made.rung, command.name, command.keys, command.as_user, values)


def _values(plan: Plan, made: PlannedRemaking, folder: Path) -> dict[str, str]:
    return {
        "folder": str(folder),
        "exported": str(_exported(plan, made)),
        "before": str(_lent(plan, made)),
        "release": str(release_folder(plan, made.rung)),
        "release_before": str(release_before(plan, made.rung)),
    }


def _exported(plan: Plan, made: PlannedRemaking) -> Path:
    return _in_reach(plan, f"exported-{plan.climb}-{made.rung.number}-{made.number}")


def _lent(plan: Plan, made: PlannedRemaking) -> Path:
    """Where the old folder lies while the import works: where its account can read it, if it is to."""
    if made.import_by is not None and made.import_by.keys.names("before"):
        return _in_reach(plan, f"before-{plan.climb}-{made.rung.number}-{made.number}")
    return _aside(plan, made)


def _in_reach(plan: Plan, name: str) -> Path:
    """A place that the application's account can come to."""
    root = plan.site.root
    return root.with_name(f".{root.name}.{name}") if plan.site.record.placement == "exchange" else root / f".{name}"


def _aside(plan: Plan, made: PlannedRemaking) -> Path:
    return aside_folder(plan) / "remade" / f"{made.rung.number}-{made.number}"


def _answers(plan: Plan, made: PlannedRemaking) -> Path:
    return private_folder(plan.folder / "remade") / f"answers-{made.rung.number}-{made.number}.json"


def _noted(plan: Plan, made: PlannedRemaking) -> Path:
    return private_folder(plan.folder / "remade") / f"set-aside-{made.rung.number}-{made.number}.json"


def _is_made(plan: Plan, made: PlannedRemaking) -> Path:
    return private_folder(plan.folder / "remade") / f"made-{made.rung.number}-{made.number}.json"
