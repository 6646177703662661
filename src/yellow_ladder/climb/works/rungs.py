"""Takes the site over one rung: the new tree into its place, migrations, and a look that both are right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from yellow_ladder.climb.placing.elsewhere import place_elsewhere
from yellow_ladder.climb.placing.kinds import placement_of
from yellow_ladder.climb.proving.closed import not_by_closing
from yellow_ladder.climb.record.commands import commands_at, written_by_commands
from yellow_ladder.climb.record.plan import Plan, RungPlan, migrations_folder
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.climb.works.door import close_site, close_tree
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.entry import within
from yellow_ladder.files.listing import Chosen
from yellow_ladder.files.manifest import Difference, count_files, take_manifest
from yellow_ladder.migrations.apply import apply_scripts, read_scripts
from yellow_ladder.release.commands import Point
from yellow_ladder.release.sheet import Migration
from yellow_ladder.survey.probes import ask_all
from yellow_ladder.survey.questions import ask_for_release
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import count_of, some_of

_MOST_NAMED = 5
_WITH_THE_TREE = (Point.PLACED, Point.BEFORE_MIGRATIONS, Point.AFTER_MIGRATIONS)
"""When commands run between a release's placing and the look at it."""


def place(rung: RungPlan) -> Work:
    """The work of putting a staged release in place of the present one."""

    def do(run: Run) -> Facts:
        placed = placement_of(run.site).bring_in(run.plan, rung, lambda tree: close_tree(run.site, tree, run.plan))
        elsewhere = place_elsewhere(run.plan, rung)
        close_site(run.site, run.plan)
        came = f"{count_of(placed.brought, 'file')} new or renewed in data folders" if placed.brought else ""
        facts = {"settings_elsewhere": elsewhere, "summary": came}
        return {**asdict(placed), **{key: value for key, value in facts.items() if value}}

    return do


def ask_of_data(rung: RungPlan) -> Work:
    """The work of asking what a release wants to know of the data before it comes."""

    def do(run: Run) -> Facts:
        questions = rung.parsed.checks
        replies = ask_for_release(run.site, questions)
        bad = [one for one in questions if not replies[one.name].is_good]
        for one in bad:
            if one.level == "stop":
                text = f"{rung.to_version} asks, {one.name}: {replies[one.name].saw}"
                raise AnswerNo(Problem("release-asks", text, one.remedy or "put that right, then climb again"))
        told = "; ".join(f"{one.name}: {replies[one.name].saw}" for one in bad)
        return {"asked": len(questions), **({"summary": told} if told else {})}

    return do


def migrate(rung: RungPlan, migrations: Sequence[Migration]) -> Work:
    """The work of applying a release's SQL files, each once."""

    def do(run: Run) -> Facts:
        databases = run.site.databases()
        scripts = read_scripts(migrations, [migrations_folder(run.plan.folder, rung.number)], databases)
        done = apply_scripts(databases, scripts, rung.to_version, run.stamp())
        return {"migrations": list(done), "applied_now": sum(done.values())}

    return do


def _differs(plan: Plan, rung: RungPlan, differences: Sequence[Difference]) -> Problem:
    """What was written in the tree since it was placed, and how to say that a command is meant to."""
    named = some_of((f"{one.path} ({one.change})" for one in differences), _MOST_NAMED)
    text = f"{count_of(len(differences), 'file')} of {rung.to_version} not as placed: {named}"
    commands = [one.id for one in rung.migrations if one.command is not None]
    commands += [one.name for at in _WITH_THE_TREE for one in commands_at(plan, at, rung)]
    remedy = "see what else writes there"
    if commands:
        paths = ", ".join(f'"{one.path}"' for one in differences[:_MOST_NAMED])
        remedy = (
            f"where {' or '.join(commands)} is meant to write that, say so there: writes = [{paths}]; else {remedy}"
        )
    return Problem("rung-differs", text, remedy, differences[0].path)


def check_rung(rung: RungPlan) -> Work:
    """The work of seeing that a rung's files and schema are what they should be."""

    def do(run: Run) -> Facts:
        expected, folders = run.plan.expected(rung), [new for _, new in rung.data]
        skip = run.plan.site_at(rung).skipped()
        found = take_manifest(run.site.root, lambda path: skip(path) or path in folders, known=expected)
        wanted = Chosen(expected, lambda path: not skip(path))
        # What a command said that it writes is its own; the proof counts it.
        theirs = written_by_commands(run.plan, rung)
        differences = [one for one in not_by_closing(run.plan, wanted, found) if not within(one.path, theirs)]
        if differences:
            raise AnswerNo(_differs(run.plan, rung, differences))
        # A passage is on no disk of the site's: only the schema tells that it has done its work.
        kinds = ("schema",) if rung.is_passage else ("disk", "schema")
        says = ask_all(run.plan.site_at(rung), kinds)
        for one in judge_versions(says, rung.to_version, rung.parsed):
            if not one.is_right:
                raise AnswerNo(
                    Problem("rung-version", one.fault, "report it to the release's publisher", one.answer.where)
                )
        return {"files": count_files(found), "versions": [answer.says for answer in says]}

    return do
