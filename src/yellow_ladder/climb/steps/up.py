"""The steps of going up, in order; a pure function of the plan."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path

from yellow_ladder.backup.catalog import DatabaseBackup, read_backup
from yellow_ladder.backup.copies import copy_backup
from yellow_ladder.backup.files import Making, first_base, write_files, write_first
from yellow_ladder.backup.make import finish, write_database
from yellow_ladder.climb.planning.prepare import schema_digest, stable_manifest
from yellow_ladder.climb.planning.ways_back import make_clone
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, DataSurvey, ask_witnesses, write_survey
from yellow_ladder.climb.proving.proof import prove
from yellow_ladder.climb.record.plan import Plan, RungPlan, migrations_folder
from yellow_ladder.climb.running.run import Facts, Run, Step
from yellow_ladder.climb.works.door import close_site, close_tree, open_site
from yellow_ladder.climb.works.placement import move_folders, put_in_place
from yellow_ladder.climb.works.sitefile import follow_moves
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.events import Note
from yellow_ladder.files.archive_write import Archived
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.manifest import (
    compare_manifests,
    manifest_from_lines,
    take_manifest,
    tree_digest,
)
from yellow_ladder.migrations.apply import apply_scripts, read_scripts
from yellow_ladder.services import services_of
from yellow_ladder.site.records import CopyTarget
from yellow_ladder.survey.take import count_files, same_version, site_manifest, wanted_of


def steps_up(plan: Plan) -> list[Step]:
    """Every step from the serving old version to the serving new one."""
    names = [spec.name for spec in plan.site.record.services]
    databases = [spec.name for spec in plan.site.record.databases]
    cloned = [way.database for way in plan.ways_back if way.clone]
    steps = [
        Step("look-again", "see that nothing changed since the plan", look_again),
        *([Step("first-copy", "copy the files while the site serves", copy_first)] if plan.first_copy else []),
        Step("close", "close the site to its users", lambda run: {"summary": close_site(run.site)}),
        *(Step(f"stop:{name}", f"stop {name}", stop_service(name)) for name in reversed(names)),
        Step("look-at-rest", "see that nothing changed until it stopped", look_again),
        Step("backup-files", "back up the files", back_up_files),
        *(
            Step(f"backup-database:{name}", f"back up and fingerprint the database {name}", back_up(name))
            for name in databases
        ),
        Step("backup-read-back", "read the backup back", read_backup_back),
        Step("before", "write down all data as it is now", survey_before),
        *(Step(f"clone:{name}", f"clone the database {name}", clone(name)) for name in cloned),
        *_copy_steps(plan, "before"),
    ]
    for rung in plan.rungs:
        steps += _rung_steps(rung)
    return [
        *steps,
        *(Step(f"start:{name}", f"start {name}", start_service(name)) for name in names if name in plan.running),
        Step("prove", "compare all data and files with before", prove_all),
        Step("site-file", "follow moved paths in the site file", lambda run: follow_moves(run.plan)),
        Step("open", "open the site to its users", lambda run: {"summary": open_site(run.site)}),
        *_copy_steps(plan, "after"),
        Step("tidy", "remove what is needed no more", tidy),
    ]


def _copy_steps(plan: Plan, when: str) -> list[Step]:
    """Copies of the backup elsewhere: before anything is changed, or when the site is open again."""
    how = {"before": copy_to, "after": copy_after}[when]
    targets = [one for one in plan.site.record.backup.copy_to if one.climb == when]
    return [Step(f"copy:{one.name}", f"copy the backup to {one.name}", how(one)) for one in targets]


def _rung_steps(rung: RungPlan) -> list[Step]:
    name = f"rung-{rung.number}"
    steps = [Step(f"{name}-place", f"put {rung.to_version} in place", place(rung))]
    if rung.migrations:
        steps.append(Step(f"{name}-migrate", f"migrate the database to {rung.to_version}", migrate(rung)))
    return [*steps, Step(f"{name}-check", f"see that {rung.to_version} is in place", check_rung(rung))]


def look_again(run: Run) -> Facts:
    """Compare the site with what the plan was made from; raises AnswerNo naming what changed."""
    plan, site = run.plan, run.site
    changed = []
    seen = manifest_from_lines((plan.folder / "seen.jsonl").read_bytes())
    stable = stable_manifest(site, site_manifest(site, seen))
    if tree_digest(stable) != plan.seen.tree:
        changed += [f"{site.root / one.path} ({one.change})" for one in compare_manifests(seen, stable)]
    for name, digest in plan.seen.schemas.items():
        if schema_digest(site.databases()[name]) != digest:
            changed.append(f"the schema of the database {name}")
    if changed:
        more = f" and {len(changed) - 3} more" if len(changed) > 3 else ""
        text = f"the site has changed since the plan was made: {', '.join(changed[:3])}{more}"
        raise AnswerNo(Problem("plan-stale", text, f"make a new plan: yl climb --to {plan.to_version}"))
    return {"files": count_files(stable)}


Work = Callable[[Run], Facts]


def stop_service(name: str) -> Work:
    """The work of stopping one service."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).stop()
        return {}

    return do


def start_service(name: str) -> Work:
    """The work of starting one service and waiting until it is ready."""

    def do(run: Run) -> Facts:
        next(one for one in services_of(run.site) if one.name == name).start()
        return {}

    return do


def _making(run: Run) -> Making:
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell, closed=True)
    first = run.standing().up.get("first-copy")
    if first and not making.final.is_dir():
        return replace(making, base=first_base(making, first["started_ns"]), started_ns=first["started_ns"])
    return replace(making, started_ns=time.time_ns())


def copy_first(run: Run) -> Facts:
    """Archive all files while the site serves, so that only what changes until it closes is left for the window."""
    making = Making(run.site, run.plan.from_version, run.plan.backup_name, run.tell)
    started_ns = time.time_ns()
    archived = write_first(making)
    size = sum(entry.size for entry in archived.trees["root"].values())
    return {"started_ns": started_ns, "bytes": size, "files": count_files(archived.trees["root"])}


def back_up_files(run: Run) -> Facts:
    """Archive all files."""
    making = _making(run)
    if making.final.is_dir():
        return {"summary": "made already"}
    archived = write_files(making)
    tree = archived.trees["root"]
    if archived.unsteady:
        text = (
            f"{archived.unsteady[0]} is being written to while the site is closed; {len(archived.unsteady)} such files"
        )
        raise AnswerNo(Problem("still-written-to", text, "find and stop who writes there: fuser -v on the file"))
    total = sum(entry.size for entry in tree.values())
    packed = (making.folder / "files.tar.zst").stat().st_size
    facts = {"files": count_files(tree), "bytes": total, "packed_bytes": packed, "unsteady": archived.unsteady}
    return {**facts, "copied_before": archived.known_bytes} if making.base else facts


def back_up(name: str) -> Work:
    """The work of copying one database."""

    def do(run: Run) -> Facts:
        making = _making(run)
        if making.final.is_dir():
            return {"summary": "made already"}
        made = write_database(making, run.site.databases()[name])
        return {"copy": asdict(made), "bytes": made.size_bytes}

    return do


def copy_to(target: CopyTarget) -> Work:
    """The work of copying the backup elsewhere before anything is changed."""

    def do(run: Run) -> Facts:
        backup = read_backup(run.site.state.backups / run.plan.backup_name)
        copied = copy_backup(run.site, backup, target, run.tell)
        return {"bytes": sum(one.size_bytes for one in copied)}

    return do


def copy_after(target: CopyTarget) -> Work:
    """The work of copying the backup elsewhere when the site is open again: that it fails is told and ends nothing."""

    def do(run: Run) -> Facts:
        try:
            return copy_to(target)(run)
        except LadderError as fault:
            text = f"the backup was not copied to {target.name}: {fault.problems[0].message}"
            run.listen(Note(f"{text}; later: yl backup copy", is_warning=True))
            return {"summary": "not copied; later: yl backup copy", "failed": text}

    return do


def clone(name: str) -> Work:
    """The work of cloning one database for a quick way back."""
    return lambda run: make_clone(run, name)


def read_backup_back(run: Run) -> Facts:
    """Read the backup back and give it its name."""
    making, done = _making(run), run.standing().up
    if making.final.is_dir():
        backup = finish(making, Archived(), [], run.now())
    else:
        manifest = manifest_from_lines((making.folder / "files.jsonl").read_bytes())
        tree = {path: entry for path, entry in manifest.items() if not path.startswith("/")}
        archived = Archived({"root": tree}, unsteady=list(done["backup-files"]["unsteady"]))
        copies = [facts["copy"] for step, facts in done.items() if step.startswith("backup-database:")]
        backup = finish(making, archived, list(map(DatabaseBackup.from_record, copies)), run.now())
    return {"bytes": backup.size_bytes(), "backup": backup.name}


def survey_before(run: Run) -> Facts:
    """Put together what is known of the data before: fingerprints from the backup, versions, the tree."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    prints = {name: backup.fingerprint(name) for name in run.site.databases()}
    manifest = {path: entry for path, entry in backup.manifest().items() if not path.startswith("/")}
    survey = DataSurvey(
        run.stamp(),
        ask_witnesses(run.site, served=False),
        prints,
        tree_digest(manifest),
        count_files(manifest),
    )
    write_survey(run.plan, BEFORE_NAME, survey)
    return {"rows": survey.rows, "files": survey.files}


def aside_of(plan: Plan, rung: RungPlan) -> Path:
    """Where the tree that a rung replaces is put."""
    return plan.aside / f"{rung.number}-{rung.from_version}"


def place(rung: RungPlan) -> Work:
    """The work of putting a staged tree in place of the present one, data folders first."""

    def do(run: Run) -> Facts:
        root, staged = run.site.root, Path(rung.staged)
        moved = 0
        if root.exists() and root.lstat().st_ino != rung.inode:
            moved = move_folders([(root / old, staged / new) for old, new in rung.data])
            close_tree(run.site, staged)
        in_one_instant = put_in_place(root, staged, rung.inode, aside_of(run.plan, rung))
        close_site(run.site)
        return {"data_folders": moved, "in_one_instant": in_one_instant}

    return do


def migrate(rung: RungPlan) -> Work:
    """The work of applying a release's migrations, each once."""

    def do(run: Run) -> Facts:
        databases = run.site.databases()
        scripts = read_scripts(rung.migrations, [migrations_folder(run.plan.folder, rung.number)], databases)
        done = apply_scripts(databases, scripts, rung.to_version, run.stamp())
        return {"migrations": list(done), "applied_now": sum(done.values())}

    return do


def check_rung(rung: RungPlan) -> Work:
    """The work of seeing that a rung's files and schema are what they should be."""

    def do(run: Run) -> Facts:
        expected, folders = run.plan.expected(rung), [new for _, new in rung.data]
        skip = run.plan.site_at(rung).skipped()
        found = take_manifest(run.site.root, lambda path: skip(path) or path in folders, known=expected)
        wanted = {path: entry for path, entry in expected.items() if not skip(path)}
        differences = compare_manifests(wanted, found)
        if differences:
            first = differences[0]
            text = f"{first.path} is not as {rung.to_version} has it ({first.change}); {len(differences)} differ"
            raise AnswerNo(Problem("rung-differs", text, "see what else writes there", first.path))
        says = ask_witnesses(run.plan.site_at(rung), served=False)
        for witness in says:
            target = wanted_of(witness, rung.parsed, rung.to_version)
            if target and not same_version(witness.says, target):
                text = f"the {witness.of} probe says {witness.says or witness.trouble}, {target} is wanted"
                raise AnswerNo(Problem("rung-version", text, "tell the release's publisher", witness.where))
        return {"files": count_files(found), "versions": [witness.says for witness in says]}

    return do


def prove_all(run: Run) -> Facts:
    """Compare everything with before; raises AnswerNo with every difference."""
    proof = prove(run, served=bool(run.plan.running))
    if not proof.is_whole:
        remedy = f"the whole list is in {run.plan.folder / 'proof.json'}"
        raise AnswerNo([Problem("not-the-same", fault, remedy) for fault in proof.faults])
    return {"rows": proof.rows_after, "values": proof.values_compared, "files": proof.files_compared}


def tidy(run: Run) -> Facts:
    """Remove trees of versions in between; the tree of the old version stays aside until the climb is settled."""
    for rung in run.plan.rungs[1:]:
        remove_entry(aside_of(run.plan, rung))
    return {}
