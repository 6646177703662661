"""The steps of going back, in order: restore the backup, the quick way where the old tree still lies aside."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from pathlib import Path

from yellow_ladder.backup.catalog import UNFINISHED, Ground, read_backup
from yellow_ladder.backup.restore import restore_files
from yellow_ladder.checks.records import count_of
from yellow_ladder.climb.planning.ways_back import drop_clones, load, put_back
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, ask_witnesses, fingerprint_all, read_survey
from yellow_ladder.climb.proving.price import drop_scratch, keep_newer, kept_ground
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.running.run import Facts, Run, Step
from yellow_ladder.climb.steps.up import Work, aside_of, start_service, stop_service
from yellow_ladder.climb.works.door import close_site, close_tree, open_site
from yellow_ladder.climb.works.placement import move_folders, put_in_place
from yellow_ladder.climb.works.sitefile import take_back_moves
from yellow_ladder.errors import AnswerNo, LadderError, Problem
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.exchange import inode_of
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.survey.take import same_version


def steps_down(plan: Plan, standing: Standing) -> list[Step]:
    """Every step back to the serving old version; where nothing was changed yet, only the site is opened again.

    A pure function of the plan and of what the journal says of the way up.
    """
    names = [spec.name for spec in plan.site.record.services]
    steps = [
        Step("back:close", "close the site to its users", lambda run: {"summary": close_site(run.site, part_way=True)}),
        *(Step(f"back:stop:{name}", f"stop {name}", stop_service(name)) for name in reversed(names)),
    ]
    if standing.has_backup:
        if standing.was_open_to_users:
            steps.append(Step("back:keep-newer", "keep what was written since", keep_what_is_newer))
        steps += [
            Step("back:tree", "put the old tree back", put_tree_back),
            Step("back:files", "restore every file from the backup that differs", restore_all_files),
            *(
                Step(
                    f"back:database:{spec.name}",
                    f"restore the database {spec.name}",
                    restore_database(spec.name),
                )
                for spec in plan.site.record.databases
            ),
            Step("back:site-file", "give the site file its old paths", lambda run: take_back_moves(run.plan)),
        ]
    return [
        *steps,
        *(Step(f"back:start:{n}", f"start {n}", start_service(n)) for n in names if n in plan.running),
        Step("back:prove", "compare all data and files with before", prove_back),
        Step("back:open", "open the site to its users", lambda run: {"summary": open_site(run.site)}),
        Step("back:tidy", "remove what is needed no more", tidy_back),
    ]


def keep_what_is_newer(run: Run) -> Facts:
    """Count and keep rows and files written since the climb; the services have stopped."""
    price, folder = keep_newer(run.plan)
    kept = f"kept in {run.site.short(folder)}"
    what = f"{count_of(price.rows, 'row')} and {count_of(len(price.files), 'file')},"
    if price.is_nothing:
        what = "nothing has come, changed or gone; the databases are"
    return {"summary": f"{what} {kept}", "price": price.as_record()}


def put_tree_back(run: Run) -> Facts:
    """Find the old tree by its inode and make it root again, with the data folders back in it.

    Where it is gone, nothing is done here: every file then comes from the backup.
    """
    plan, root = run.plan, run.site.root
    places = [aside_of(plan, rung) for rung in plan.rungs] + [Path(rung.staged) for rung in plan.rungs]
    original = next((place for place in [root, *places] if inode_of(place) == plan.root_inode), None)
    if original is None:
        return {"summary": "the old tree is gone; every file will come from the backup"}
    _bring_data_home(plan, original, [root, *places])
    if original != root:
        close_tree(run.site, original)
        newer = plan.aside / f"newer-{plan.to_version}"
        put_in_place(root, original, plan.root_inode, newer)
    close_site(run.site)
    return {"summary": "the old tree is in its place"}


def _bring_data_home(plan: Plan, original: Path, places: list[Path]) -> None:
    """Rename each data folder from wherever the climb has brought it into the old tree."""
    for first, later in plan.data_folders():
        if os.path.lexists(original / first):
            continue
        found = [place / name for place in places if place != original for name in dict.fromkeys((first, *later))]
        there = next((path for path in found if os.path.lexists(path)), None)
        if there is not None:
            move_folders([(there, original / first)])


def restore_all_files(run: Run) -> Facts:
    """Make every file what the backup says; unchanged ones are not read."""
    backup = read_backup(run.site.state.backups / run.plan.backup_name)
    # Whatever others wrote while the site was closed is kept before it is written over.
    rescue = kept_ground(run.plan)
    done = restore_files(backup, Ground(run.site.root), run.site.skipped(), rescue=rescue)
    close_site(run.site)
    return {"written": done.written, "removed": done.removed, "rights": done.rights_set}


def restore_database(name: str) -> Work:
    """The work of giving one database the backup's content."""

    def do(run: Run) -> Facts:
        return put_back(run, read_backup(run.site.state.backups / run.plan.backup_name), name)

    return do


def prove_back(run: Run) -> Facts:
    """See that every version and, where it was changed, all data are as before; raises AnswerNo otherwise."""
    standing = run.standing()
    served = bool(run.plan.running)
    for witness in ask_witnesses(run.site, served=served):
        is_known = witness.of != "schema" and not witness.part
        if is_known and not same_version(witness.says, run.plan.from_version):
            text = f"the {witness.of} probe says {witness.says or witness.trouble}, not {run.plan.from_version}"
            raise AnswerNo(Problem("not-as-before", text, "see `yl survey`", witness.where))
    if not standing.has_backup or "before" not in standing.up:
        return {"summary": "nothing had been changed"}
    before = read_survey(run.plan, BEFORE_NAME)
    if any(_by_clone(standing, name) for name in before.databases):
        _start_all(run)  # an earlier attempt may have been killed while it loaded what a clone did not hold
    now = {name: _print_now(run, name, standing) for name in run.site.databases()}
    differing = {name: _differing(run, name, before.databases[name], found) for name, found in now.items()}
    doubtful = [name for name, what in differing.items() if what and _by_clone(standing, name)]
    if doubtful:
        _load_after_all(run, doubtful)
        again = fingerprint_all(run, {name: run.site.databases()[name] for name in doubtful})
        differing |= {name: _differing(run, name, before.databases[name], found) for name, found in again.items()}
    for name, what in differing.items():
        if what:
            more = f" and {len(what) - 1:,} more" if len(what) > 1 else ""
            text = f"{what[0]}{more} of the database {name} is not as it was before the climb"
            raise AnswerNo(Problem("not-as-before", text, "see that nothing else writes to it, then go on", name))
    return {"rows": before.rows, "files": before.files}


def _print_now(run: Run, name: str, standing: Standing) -> DatabasePrint:
    """The fingerprint of a database; of one that came from a clone and cannot be read, that of nothing."""
    try:
        return fingerprint_all(run, {name: run.site.databases()[name]})[name]
    except LadderError:
        if not _by_clone(standing, name):
            raise
        return DatabasePrint()


def _differing(run: Run, name: str, before: DatabasePrint, now: DatabasePrint) -> list[str]:
    """What is not as it was, but for what the application rewrites by itself."""
    volatile = run.site.database_spec(name).volatile
    return before.without(volatile).differences(now.without(volatile))


def _by_clone(standing: Standing, name: str) -> bool:
    return standing.down.get(f"back:database:{name}", {}).get("way") == "clone"


def _load_after_all(run: Run, names: Sequence[str]) -> None:
    """A clone that does not hold what was there is no way back: the backup is."""
    for service in reversed(_running(run)):
        stop_service(service)(run)
    for name in names:
        load(read_backup(run.site.state.backups / run.plan.backup_name), name, run.site.databases()[name])
    _start_all(run)


def _running(run: Run) -> list[str]:
    return [spec.name for spec in run.site.record.services if spec.name in run.plan.running]


def _start_all(run: Run) -> None:
    for service in _running(run):
        start_service(service)(run)


def tidy_back(run: Run) -> Facts:
    """Remove staged trees and the newer tree; the backup and what was written since stay."""
    for rung in run.plan.rungs:
        remove_entry(Path(rung.staged))
        if inode_of(aside_of(run.plan, rung)) != run.plan.root_inode:
            remove_entry(aside_of(run.plan, rung))
    remove_entry(run.plan.aside)
    drop_scratch(run.plan)
    drop_clones(run.plan)
    for database in run.site.databases().values():
        with contextlib.suppress(LadderError):  # it takes room and is otherwise harmless
            database.drop_leftovers()
    remove_entry(run.site.state.backups / (run.plan.backup_name + UNFINISHED))
    if Path(run.plan.work) != run.plan.folder:
        remove_entry(Path(run.plan.work))
    return {}
