"""Lets what a release brings into data folders come, by renames from where it was made ready."""

from __future__ import annotations

from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.record.brought import apart_of, brought_by
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.files.entry import Kind


def let_brought_come(plan: Plan, rung: RungPlan, tree: Path) -> int:
    """Put what a rung brings into the data folders of a tree; what no longer waits has come before. Returns how many
    files it is. The site's own come back from the backup, since each of them is in it.
    """
    coming = brought_by(plan, rung)
    apart, touched = apart_of(Path(plan.work), rung.number), dict[Path, None]()
    for entry in coming:
        source, target = apart / entry.path, tree / entry.path
        if nolinks.is_there(source) and not nolinks.is_folder(target):
            nolinks.rename(source, target)
            touched[target.parent] = None
    for folder in touched:
        nolinks.sync_folder(folder)
    return sum(one.kind is not Kind.FOLDER for one in coming)


def drop_brought(plan: Plan) -> None:
    """Remove what was made ready of it and did not come."""
    for rung in plan.rungs:
        remove_entry(apart_of(Path(plan.work), rung.number))
