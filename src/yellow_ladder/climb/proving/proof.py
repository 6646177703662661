"""The proof that nothing was lost: data and files after, held against before and what the releases declare."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from yellow_ladder.climb.proving.accounts import account_faults
from yellow_ladder.climb.proving.basis import faults_in, last_basis, verdicts_of
from yellow_ladder.climb.proving.closed import as_open
from yellow_ladder.climb.proving.expected import site_after
from yellow_ladder.climb.proving.files import FilesSeen, judge_files
from yellow_ladder.climb.proving.in_short import data_in_short, in_short
from yellow_ladder.climb.proving.inventory import (
    AFTER_NAME,
    BEFORE_NAME,
    Inventory,
    ask_probes,
    fingerprint_all,
    read_inventory,
    write_inventory,
)
from yellow_ladder.climb.proving.living import Moment, ask_again
from yellow_ladder.climb.proving.locating import locate
from yellow_ladder.climb.record.commands import all_remade
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.durable import write_json
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.reading import read_regular
from yellow_ladder.fingerprints.apart import was_filled_since
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.verdicts import REWRITTEN_WHERE, TableVerdict, Verdict
from yellow_ladder.settings.document import Document
from yellow_ladder.settings.judge import SettingsVerdict, judge_settings
from yellow_ladder.settings.reading import read_settings_file
from yellow_ladder.settings.tree import Broken
from yellow_ladder.survey.records import ProbeAnswer
from yellow_ladder.survey.versions import judge_versions
from yellow_ladder.words import moment_of

PROOF_NAME = "proof.json"


_LISTS = ("faults", "in_short", "remarks", "remade", "came", "written_since")
# With the rows themselves behind it: they were looked for to the end, and nothing else was found. A number alone says
# nothing of the other rows.
_ONLY_MORE = re.compile(r"[\d,]+ rows? more than before: ")


@dataclass(frozen=True, slots=True)
class Proof:
    """Everything that was compared and what came of it; `faults` is empty when nothing was lost.

    `in_short`: the same for people, with many files of a folder, and many definitions, told as one.
    """

    climb: str
    taken_at: str
    from_version: str
    to_version: str
    tables: Mapping[str, tuple[TableVerdict, ...]]
    rows_before: int
    rows_after: int
    values_compared: int
    files_compared: int
    data_files: int
    settings_kept: int
    faults: tuple[str, ...]
    remarks: tuple[str, ...] = ()
    values_before: int = 0
    remade: tuple[str, ...] = ()
    came: tuple[str, ...] = ()
    written_since: tuple[str, ...] = ()
    in_short: tuple[str, ...] = ()

    @property
    def not_compared(self) -> list[str]:
        """Tables whose old rows, and folders whose files, were held against nothing, with the reason."""
        tables = [
            f"{name}.{one.table} ({'; '.join(one.remarks)})"
            for name, verdicts in self.tables.items()
            for one in verdicts
            if one.is_uncompared
        ]
        return [*tables, *self.remade]

    @property
    def declared(self) -> list[str]:
        """What a release declares as gone or rewritten, and was therefore not held against before."""
        words = ("dropped", "rewritten")
        return [
            f"{name}.{one.table}: {remark}"
            for name, verdicts in self.tables.items()
            for one in verdicts
            for remark in one.remarks
            if one.verdict is Verdict.AS_DECLARED and (remark.endswith(words) or REWRITTEN_WHERE in remark)
        ]

    @property
    def is_whole(self) -> bool:
        """Whether nothing was lost."""
        return not self.faults

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {**asdict(self), "whole": self.is_whole, "not_compared": self.not_compared}


@connections_kept()
def prove(run: Run, *, served: bool, keep: bool = True, to_the_row: bool = True) -> Proof:
    """Compare everything now with the survey before. With `keep`, the survey after is written down; `to_the_row`, rows
    that differ are looked for.

    Raises AnswerNo where there is nothing to compare with; a difference is a fault in the proof, not an error.
    """
    plan = run.plan
    before = read_inventory(plan, BEFORE_NAME)
    basis = last_basis(plan)
    lines = basis.lineages()
    prints = fingerprint_all(run, run.site.databases(), lines, basis.databases)
    looked = FilesSeen(plan, run.tell)
    files = judge_files(run, looked, _ended_ns(plan) if served else None)
    answers = ask_probes(site_after(plan), served=served)
    after = Inventory(run.stamp(), answers, prints, looked.found.digest(), looked.found.files)
    if keep:
        write_inventory(plan, AFTER_NAME, after)
    tables, unmet = verdicts_of(run, basis, prints)
    for name, verdicts in tables.items():
        seen = (_or_unreadable(plan, name, one) for one in verdicts)
        tables[name] = tuple(seen)
    if to_the_row:
        tables = locate(run, basis, prints, tables)
    settings = _judge_settings(run)
    of_data = (*faults_in(tables), *unmet)
    others = (
        *settings.faults,
        # Later on, accounts are people's to change.
        *(() if served else account_faults(plan)),
        *version_faults(plan, after.answers),
        *ask_again(plan, served=served, moment=Moment.LATER if served else Moment.CLOSED).faults,
    )
    proof = Proof(
        climb=plan.climb,
        taken_at=after.taken_at,
        from_version=plan.from_version,
        to_version=plan.to_version,
        tables=tables,
        rows_before=before.rows,
        rows_after=after.rows,
        values_compared=sum(one.values_compared for verdicts in tables.values() for one in verdicts),
        files_compared=looked.files,
        data_files=looked.data_files,
        settings_kept=settings.kept,
        faults=(*of_data, *map(str, files.faults), *others),
        in_short=(*data_in_short(tables), *unmet, *in_short(files.faults), *others),
        remarks=(*_dropped_columns(plan, before), *files.remarks),
        values_before=sum(
            column.values
            for one in before.databases.values()
            for table in one.tables.values()
            for column in table.columns.values()
        ),
        remade=tuple(_remade_in_words(plan)),
        written_since=tuple(files.written_since),
    )
    if keep:
        write_json(plan.folder / PROOF_NAME, proof.as_record())
    return proof


def _ended_ns(plan: Plan) -> int | None:
    """When the climb had compared everything and found no difference; None where it did not come to that."""
    try:
        then = load_proof(plan)
    except AnswerNo:
        return None
    return int(moment_of(then.taken_at).timestamp() * 1e9) if then.is_whole else None


def parted(proof: Proof) -> Proof:
    """The proof of a site that has been open since: where all that is told of a table are rows more than before, they
    have come since, and no row from before differs.
    """
    tables, came = {}, list[str]()
    for name, verdicts in proof.tables.items():
        judged = []
        for one in verdicts:
            is_told = one.verdict is Verdict.DIFFERS and bool(one.remarks)
            if is_told and all(_ONLY_MORE.match(remark) for remark in one.remarks):
                said = "; ".join(one.remarks).replace(" more than before", " came", 1)
                came.append(f"{name}.{one.table}: {said}")
                judged.append(replace(one, verdict=Verdict.MORE, remarks=(said,)))
            elif was_filled_since(one):
                judged.append(replace(one, verdict=Verdict.MORE, remarks=("filled anew",)))
            else:
                judged.append(one)
        tables[name] = tuple(judged)
    gone = set(faults_in(proof.tables)) - set(faults_in(tables))
    faults, short = (tuple(one for one in listed if one not in gone) for listed in (proof.faults, proof.in_short))
    return replace(proof, tables=tables, faults=faults, in_short=short, came=tuple(came))


def _remade_in_words(plan: Plan) -> Iterator[str]:
    """Data folders that were made anew: what lies there now are other files."""
    servers = {one.data_folder for one in plan.site.record.servers}  # what they hold is compared as databases
    for one in all_remade(plan):
        # A copy that no program has been at is compared file by file, like all else.
        if one.before in servers or (one.copied and one.import_by is None):
            continue
        asked = (
            f"the same before and after: {', '.join(each.name for each in one.same)}" if one.same else "nothing asked"
        )
        yield f"{one.after} (made anew by {one.rung.to_version}; {asked})"


def _dropped_columns(plan: Plan, before: Inventory) -> list[str]:
    """Columns that went on purpose, over the whole way."""
    lines = {name: compose(one, plan.contracts_of(name)) for name, one in before.databases.items()}
    return [
        f"{name}: the column {column} is dropped" for name, line in lines.items() for column in line.dropped_columns
    ]


def _or_unreadable(plan: Plan, name: str, verdict: TableVerdict) -> TableVerdict:
    """A table that this account may not read any more is not listed by every engine, and is not gone."""
    if verdict.rows_before is None or verdict.rows_after is not None or verdict.verdict is not Verdict.DIFFERS:
        return verdict
    try:
        site_after(plan).databases()[name].count_rows(verdict.table)
    except LadderError as fault:
        said = fault.problems[0].message
        if "denied" in said:
            return replace(verdict, remarks=(f"cannot be read any more: {said}",))
    return verdict


def load_proof(plan: Plan) -> Proof:
    """The proof of a climb as it was written down; raises AnswerNo where it did not get that far."""
    path = plan.folder / PROOF_NAME
    try:
        record = json.loads(path.read_bytes())
        for derived in ("whole", "not_compared"):
            record.pop(derived, None)
        tables = {name: tuple(map(TableVerdict.from_record, found)) for name, found in record["tables"].items()}
        lists = {name: tuple(record[name]) for name in _LISTS if name in record}
        return Proof(**{**record, **lists, "tables": tables})
    except (OSError, ValueError, KeyError, TypeError) as fault:
        text = f"the proof {path} cannot be read: {fault}"
        raise AnswerNo(Problem("no-proof", text, "compare again: yl verify", str(path))) from fault


def _judge_settings(run: Run) -> SettingsVerdict:
    """Whether every value that the site had set is still set, unless it was decided otherwise."""
    plan = run.plan
    values: list[dict[str, dict[str, str]]] = [{}, {}, {}]
    for spec in run.site.record.keep.merged:
        kept, planned = plan.before(spec.file), plan.merged(plan.rungs[-1], spec.file)
        present = run.site.root / plan.renamed_paths.get(spec.file, spec.file)
        form = read_settings_file(kept if kept.exists() else planned, spec.format, spec.file, spec.encoding).form
        for into, path in zip(values, (kept, planned, present), strict=True):
            # What cannot be read, or is no file of the site's own any more, has no values: its file is a fault besides.
            with contextlib.suppress(OSError, Broken):
                raw = read_regular(path)
                if path == present:
                    raw = as_open(plan, plan.renamed_paths.get(spec.file, spec.file), raw)
                into[spec.file] = Document(raw, form, spec.encoding).values()
    return judge_settings(values[0], values[1], values[2], plan.settings)


def version_faults(plan: Plan, answers: Sequence[ProbeAnswer]) -> list[str]:
    """What is wrong with what the probes say of the new version."""
    verdicts = judge_versions(answers, plan.to_version, plan.rungs[-1].parsed)
    return [one.fault for one in verdicts if not one.is_right]
