"""Narrows what differs to rows: key, column, the value that should be there and the one that is.

The values of before come from a quick clone where the engine's can be read, else from the backup, made once more up to
the point that the rows are held against. All rows are written to a file, the first are told.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator, Mapping
from pathlib import Path

from yellow_ladder.climb.proving.basis import Basis, basis_before, exact_tables, expected_of, told_of, whole_way
from yellow_ladder.climb.proving.price import as_left, drop_scratch, see_room
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.database import Database
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.database.row_changes import csv_path
from yellow_ladder.durable import private_folder
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.events import Note
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.fingerprints.narrowing import PART, Look, Pair, find_rows, known_by, pairs_of, references_of, told_in
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.rows import InWords
from yellow_ladder.fingerprints.told import Reading
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.masking import sounds_secret
from yellow_ladder.words import bytes_in_words, time_in_words

FOLDER_NAME = "differing-rows"
# Users wait for this. Whoever needs all of it asks again: `yl verify`, or the file of what was found so far.
LONGEST_S = 300.0
LARGEST_MADE_BYTES = 2 * 1024**3


@connections_kept()
def locate(
    run: Run, basis: Basis, prints: Mapping[str, DatabasePrint], verdicts: Mapping[str, tuple[TableVerdict, ...]]
) -> dict[str, tuple[TableVerdict, ...]]:
    """The same verdicts, with differences of values and rows told to the row; those that cannot be stay as they are."""
    until = time.monotonic() + LONGEST_S
    remove_entry(run.plan.folder / FOLDER_NAME)  # of an earlier look
    found = dict(verdicts)
    lines = basis.lineages()
    try:
        for name, judged in verdicts.items():
            volatile = run.plan.site.database_spec(name).volatile
            wanted = [one.table for one in judged if _has_rows_that_differ(one) and one.table not in volatile]
            if wanted:
                readings = _readings(run.plan, basis, name)
                pairs = pairs_of(basis.databases[name], prints[name], lines[name], readings)
                whole, since_start = _over_the_whole_way(run.plan, basis, name, prints[name])
                ours = {one: since_start[one] for one in wanted if one in since_start}
                others = {one: pairs[one] for one in wanted if one in pairs and one not in ours}
                told: dict[str, InWords] = {}
                for since, some in ((whole, ours), (basis, others)):
                    told |= _locate_in(run, since, name, some, until) if some else {}
                found[name] = tuple(told_in(one, told.get(one.table)) for one in judged)
    finally:
        drop_scratch(run.plan)
    return found


def _over_the_whole_way(plan: Plan, basis: Basis, name: str, now: DatabasePrint) -> tuple[Basis, Mapping[str, Pair]]:
    """Before the climb, and the tables to be held against that: of which nothing is given up on the way, and which were
    not read between rungs.
    """
    if not basis.rung:
        return basis, {}
    whole = whole_way(plan, basis.since[-1])
    exact = exact_tables(plan, name, basis.since[-1])
    pairs = pairs_of(whole.databases[name], now, whole.lineages()[name], [])
    return whole, {one: pair for one, pair in pairs.items() if one in exact}


def where_listed(plan: Plan) -> str:
    """Where the rows that differ are written down, in words; nothing where there are none."""
    folder = plan.folder / FOLDER_NAME
    names = [one.name for one in folder.iterdir()] if folder.is_dir() else []
    some = "some of the rows" if any(name.endswith(PART) for name in names) else "the rows"
    return f"{some} that differ are listed in {folder}" if names else ""


def _has_rows_that_differ(one: TableVerdict) -> bool:
    return one.verdict is Verdict.DIFFERS and one.rows_after is not None


def _readings(plan: Plan, basis: Basis, name: str) -> list[Reading]:
    """What the last rung told of the tables of a database."""
    if not basis.since:
        return []
    rung = basis.since[-1]
    known = expected_of(plan, rung)
    return told_of(rung, basis, plan.site_at(rung).databases(), known).get(name, []) if known else []


def _locate_in(run: Run, basis: Basis, name: str, pairs: Mapping[str, Pair], until: float) -> dict[str, InWords]:
    """What was found of each table of a database, in words."""
    plan, told = run.plan, dict[str, InWords]()
    now = plan.site_at(basis.since[-1]).databases()[name]
    masked = plan.site.database_spec(name).masked
    try:
        objects = now.objects()
        references = references_of(objects)
        for table, pair in pairs.items():
            hidden = {one.partition(".")[2] for one in masked if one.partition(".")[0] == table}
            hidden |= {one for one in pair.sides.columns if sounds_secret(one)}
            path = csv_path(_folder(plan), name, table)
            with _then(run, _read_at(plan, basis, name, pair), name, now) as then:
                called = known_by(objects, table, pair.sides.columns, pair.sides.key)
                findings = find_rows(Look(then, now, pair, path, hidden, until, called), run.look_on)
            findings.references = references.get(table, ())
            findings.settle()
            told[table] = findings.in_words(hidden)
            if told[table].is_nothing:
                text = f"which rows of {name}.{table} differ could not be told: done once more, the release's"
                run.listen(Note(f"{text} migrations make the same of them", is_warning=True))
    except TimeoutError:
        run.listen(Note(f"looking for the rows that differ was broken off after {time_in_words(LONGEST_S)}"))
    except (LadderError, OSError) as fault:
        first = fault.problems[0] if isinstance(fault, LadderError) else None
        why = f"{first.message}; {first.remedy}" if first else str(fault)
        run.listen(Note(f"which rows of {name} differ could not be told: {why}", is_warning=True))
    return told


def _read_at(plan: Plan, basis: Basis, name: str, pair: Pair) -> int:
    """The first rung after which a table held what it held at the basis: 0 is the backup itself."""
    table = pair.old.table
    base = basis.databases[name].tables.get(table)
    for rung in plan.rungs:
        if rung.number > basis.rung or base is None:
            break
        before = basis_before(plan, rung)
        if before.databases[name].tables.get(table) == base:
            return before.rung
    return basis.rung


@contextlib.contextmanager
def _then(run: Run, number: int, name: str, now: Database) -> Iterator[Database]:
    """The database as it was after a rung."""
    plan = run.plan
    if number == 0:
        with now.opened_clone(plan.clone_place(name)) as clone:
            if clone is not None:
                yield clone
                return
        _see_time(run, now)
        see_room(plan, now)
        yield as_left(plan, name, set())
        return
    rungs = [one for one in plan.rungs if one.number <= number]
    if any(not one.file for rung in rungs for one in rung.migrations if one.database == name):
        text = "commands of a release had their part in it, which are not run once more"
        raise AnswerNo(Problem("not-replayable", text, "see what is in the file of the tables before", name))
    _see_time(run, now)
    see_room(plan, now)
    yield as_left(plan, name, {one.id for rung in rungs for one in rung.migrations})


def _see_time(run: Run, now: Database) -> None:
    """Raise AnswerNo where users would wait long for a database to be made once more."""
    size = now.size_bytes()
    if run.standing().was_open_to_users or size <= LARGEST_MADE_BYTES:
        return
    text = f"making {bytes_in_words(size)} of it once more would keep users out for longer"
    raise AnswerNo(Problem("too-large", text, 'a quick clone is read as it is: clone = "wanted"', now.address.name))


def _folder(plan: Plan) -> Path:
    return private_folder(plan.folder / FOLDER_NAME)
