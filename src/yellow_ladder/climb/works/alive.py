"""Asks the started site whether it lives: versions, the site's own questions, that its start has lost no row, and who
keeps old code.

What an application writes by itself when it starts is its own affair, and was compared before that.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.proving.inventory import AFTER_NAME, read_inventory
from yellow_ladder.climb.proving.living import Moment, ask_again
from yellow_ladder.climb.proving.proof import version_faults
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.climb.works.waking import ask_awake
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Note
from yellow_ladder.services.resident import keeping_old_code
from yellow_ladder.site.pointer import release_folders
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import count_of


def look_alive(run: Run) -> Facts:
    """See that the new version serves and answers as it should; raises AnswerNo with all that it does not."""
    plan = run.plan
    answers = ask_awake(run, site_after(plan))
    asked = ask_again(plan, served=True, moment=Moment.CLOSED)
    faults = [*version_faults(plan, answers), *asked.faults, *_rows_gone(plan)]
    if faults:
        remedy = "read what the services write to their logs"
        if any(one.of == "served" and one.trouble for one in answers):
            remedy += (
                f"; where the page of {plan.to_version} is there and tells its version otherwise or not at all, correct"
                f' the probe in [[versions]]: `holds = "<{plan.to_version}"` makes it one for versions before'
            )
        raise AnswerNo([Problem("not-alive", fault, remedy) for fault in faults])
    for one in asked.remarks:
        run.listen(Note(one, is_warning=True))
    old = list(_old_code(run))
    for one in old:
        run.listen(Note(f"{one}: restart it", is_warning=True))
    facts = {"old_code": old, "answers": asked.good, "remarks": list(asked.remarks)}
    return {"versions": [one.says for one in answers], **{name: one for name, one in facts.items() if one}}


def ask_opened(run: Run) -> Facts:
    """Ask what is asked as soon as users are in again; raises AnswerNo with every answer that is not as it should be.

    Nothing is taken back by itself then: people work there.
    """
    asked = ask_again(run.plan, served=run.plan.serves, moment=Moment.OPENED)
    if asked.faults:
        # A question that was wrong itself must leave a way on.
        remedy = (
            "put it right and go on with `yl climb --continue`, correct the question with `yl adjust`, or go back"
            " with `yl descend`, which keeps what users wrote"
        )
        raise AnswerNo([Problem("not-alive", fault, remedy) for fault in asked.faults])
    for one in asked.remarks:
        run.listen(Note(one, is_warning=True))
    return {"answers": asked.good, **({"remarks": list(asked.remarks)} if asked.remarks else {})}


def _old_code(run: Run) -> Iterator[str]:
    """Processes that are none of the site's services and still have code of before loaded."""
    plan, root = run.plan, run.plan.site.root
    aside = [Path(plan.work)]
    pointing = plan.site.record.pointing
    if pointing is not None:
        in_use = plan.rungs[-1].folder
        aside += [root / path for path in release_folders(root, pointing) if path != in_use]
    for one in keeping_old_code(root, aside):
        yield f"process {one.pid} ({one.name}, {one.account}) keeps old code: it {one.what}"


def look_alive_again(run: Run) -> Facts:
    """See that the old version serves again; raises AnswerNo with what it tells."""
    answers = ask_awake(run, run.site)
    for one in judge_versions(answers, run.plan.from_version):
        if not one.is_right:
            raise AnswerNo(Problem("not-as-before", one.fault, "see `yl survey`", one.answer.where))
    return {"versions": [one.says for one in answers]}


def _rows_gone(plan: Plan) -> Iterator[str]:
    """Tables that have fewer rows than before the services were started, but for those that may lose some."""
    at_rest, site = read_inventory(plan, AFTER_NAME), site_after(plan)
    for name, database in site.databases().items():
        may = set(site.database_spec(name).volatile)
        may |= {one.name for _, contract in plan.contracts_of(name) for one in contract.tables if one.rows == "any"}
        before = {table: one.rows for table, one in at_rest.databases[name].tables.items() if table not in may}
        now = database.count_all(list(before))
        for table, rows in before.items():
            gone = rows - now[table]
            if gone > 0:
                lost = count_of(gone, "row")
                yield f"{name}.{table}: {lost} fewer than before {plan.to_version} was started"
