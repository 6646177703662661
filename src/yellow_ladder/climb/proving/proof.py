"""The proof that nothing was lost: data and files after, held against before and what the releases declare."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from yellow_ladder.climb.proving.expected import data_folders_after, expected_tree, present_tree, site_after
from yellow_ladder.climb.proving.inventory import (
    AFTER_NAME,
    BEFORE_NAME,
    Inventory,
    ask_probes,
    fingerprint_all,
    read_inventory,
    write_inventory,
)
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.durable import write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.manifest import (
    Entry,
    FileChange,
    Kind,
    compare_manifests,
    tree_digest,
    within,
)
from yellow_ladder.fingerprints.judge import TableVerdict, Verdict, is_whole, judge
from yellow_ladder.fingerprints.lineage import Lineage, compose
from yellow_ladder.settings.formats import read_settings_file
from yellow_ladder.settings.judge import SettingsVerdict, judge_settings
from yellow_ladder.survey.questions import ask_question
from yellow_ladder.survey.records import ProbeAnswer
from yellow_ladder.survey.versions import judge_versions

PROOF_NAME = "proof.json"


@dataclass(frozen=True, slots=True)
class Proof:
    """Everything that was compared and what came of it; `faults` is empty when nothing was lost."""

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

    @property
    def is_whole(self) -> bool:
        """Whether nothing was lost."""
        return not self.faults

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {**asdict(self), "whole": self.is_whole}


def lineages(plan: Plan, before: Inventory) -> dict[str, Lineage]:
    """Where every column of every database comes from."""
    return {name: compose(one, plan.contracts_of(name)) for name, one in before.databases.items()}


def prove(run: Run, *, served: bool, keep: bool = True) -> Proof:
    """Compare everything now with the survey before. With `keep`, the survey after is written down.

    Raises AnswerNo where there is nothing to compare with; a difference is a fault in the proof, not an error.
    """
    plan = run.plan
    before = read_inventory(plan, BEFORE_NAME)
    lines = lineages(plan, before)
    prints = fingerprint_all(run, run.site.databases(), lines, before.databases)
    expected = expected_tree(plan)
    found = present_tree(plan, expected)
    after = Inventory(
        run.stamp(),
        ask_probes(site_after(plan), served=served),
        prints,
        tree_digest(found),
        _count(found),
    )
    if keep:
        write_inventory(plan, AFTER_NAME, after)
    tables = {
        name: tuple(judge(before.databases[name], prints[name], lines[name], run.site.database_spec(name).volatile))
        for name in prints
    }
    faults = [f"{name}.{v.table}: {remark}" for name, vs in tables.items() if not is_whole(vs)
              for v in vs if v.verdict is Verdict.DIFFERS for remark in v.remarks]  # fmt: skip
    file_faults, remarks = _judge_files(run, expected, found)
    settings = _judge_settings(run)
    proof = Proof(
        climb=plan.climb,
        taken_at=after.taken_at,
        from_version=plan.from_version,
        to_version=plan.to_version,
        tables=tables,
        rows_before=before.rows,
        rows_after=after.rows,
        values_compared=sum(_values(before.databases[n], vs, lines[n]) for n, vs in tables.items()),
        files_compared=_count(expected),
        data_files=sum(within(path, data_folders_after(plan).values()) for path in expected),
        settings_kept=settings.kept,
        faults=(
            *faults,
            *file_faults,
            *settings.faults,
            *version_faults(plan, after.answers),
            *ask_again(plan, served=served),
        ),
        remarks=tuple(remarks),
    )
    if keep:
        write_json(plan.folder / PROOF_NAME, proof.as_record())
    return proof


def load_proof(plan: Plan) -> Proof:
    """The proof of a climb as it was written down; raises AnswerNo where it did not get that far."""
    path = plan.folder / PROOF_NAME
    try:
        record = json.loads(path.read_bytes())
        record.pop("whole")
        tables = {name: tuple(_verdict_from(one) for one in found) for name, found in record["tables"].items()}
        lists = {name: tuple(record[name]) for name in ("faults", "remarks")}
        return Proof(**{**record, **lists, "tables": tables})
    except (OSError, ValueError, KeyError, TypeError) as fault:
        text = f"the proof {path} cannot be read: {fault}"
        raise AnswerNo(Problem("no-proof", text, "compare again: yl verify", str(path))) from fault


def _verdict_from(record: Mapping[str, Any]) -> TableVerdict:
    return TableVerdict(**{**record, "verdict": Verdict(record["verdict"]), "remarks": tuple(record["remarks"])})


def _values(before: Any, verdicts: tuple[TableVerdict, ...], lineage: Lineage) -> int:
    """Values of the columns that were held against each other."""
    count = 0
    for verdict in verdicts:
        line = lineage.tables.get(verdict.table)
        if line is None or not verdict.columns_compared:
            continue
        for column in line.columns.values():
            if column.origin is not None and not column.is_changed:
                count += before.tables[column.origin[0]].columns[column.origin[1]].values
    return count


def _count(manifest: Mapping[str, Entry]) -> int:
    return sum(entry.kind is not Kind.FOLDER for entry in manifest.values())


def _judge_files(run: Run, expected: Mapping[str, Entry], found: Mapping[str, Entry]) -> tuple[list[str], list[str]]:
    """Faults, and remarks about what may be: a new release writes new files of its own into data folders."""
    folders = list(data_folders_after(run.plan).values())
    faults, remarks = [], []
    for one in compare_manifests(expected, found):
        if one.change is FileChange.ADDED and within(one.path, folders):
            remarks.append(f"new in a data folder: {one.path}")
        elif one.path in expected and expected[one.path].kind is Kind.FOLDER and one.change is FileChange.CONTENT:
            faults.append(f"file {one.path}: is not a folder any more")
        else:
            faults.append(f"file {one.path}: {_FILE_WORDS[one.change]}")
    return faults, remarks


_FILE_WORDS = {
    FileChange.ADDED: "is there and is part of neither the release nor the site",
    FileChange.MISSING: "is missing",
    FileChange.CONTENT: "has another content",
    FileChange.RIGHTS: "has another owner or mode",
}


def _judge_settings(run: Run) -> SettingsVerdict:
    """Whether every value that the site had set is still set, unless it was decided otherwise."""
    plan = run.plan
    before: dict[str, dict[str, str]] = {}
    now: dict[str, dict[str, str]] = {}
    for spec in run.site.record.keep.settings:
        present = run.site.root / plan.renamed_paths.get(spec.file, spec.file)
        kept = plan.folder / "settings" / spec.file
        before[spec.file] = read_settings_file(kept, spec.format, f"{spec.file} before").values()
        if present.is_file():
            now[spec.file] = read_settings_file(present, spec.format).values()
    return judge_settings(before, now, plan.settings)


def ask_again(plan: Plan, *, served: bool) -> list[str]:
    """The site's own questions that are to have the same answer after; pages only while somebody serves them."""
    faults = []
    site = site_after(plan)
    for question in site.record.checks:
        if question.when == "both" and question.level == "stop" and (served or not question.url):
            reply = ask_question(site, question)
            if not reply.is_good:
                faults.append(f"{question.name}: {reply.saw}")
    return faults


def version_faults(plan: Plan, answers: Sequence[ProbeAnswer]) -> list[str]:
    """What is wrong with what the probes say of the new version."""
    verdicts = judge_versions(answers, plan.to_version, plan.rungs[-1].parsed)
    return [one.fault for one in verdicts if not one.is_right]
