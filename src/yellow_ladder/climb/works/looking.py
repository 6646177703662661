"""Looks again, when the site is about to close and when it is at rest, that nothing has changed since the plan."""

from __future__ import annotations

from pathlib import Path

from yellow_ladder.climb.planning.prepare import schema_digest
from yellow_ladder.climb.proving.closed import not_by_closing
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.files.listing import Listing
from yellow_ladder.files.manifest import count_files, take_manifest, tree_digest
from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.script import LARGEST_BYTES

_SHOWN = 3


def look_again(run: Run) -> Facts:
    """Compare the site with what the plan was made from; raises AnswerNo naming what changed."""
    plan, site = run.plan, run.site
    changed = []
    seen = Listing.opened(plan.folder / "seen.jsonl")
    skip = site.skipped()
    stable = take_manifest(site.root, lambda path: skip(path) or site.is_data(path), known=seen)
    if tree_digest(stable) != plan.seen.tree:
        changed += [f"{site.root / one.path} ({one.change})" for one in not_by_closing(plan, seen, stable)]
    for file in site.record.keep.settings_elsewhere:
        if _content(plan.before(file)) != _content(site.resolve(file)):
            changed.append(f"{file} (content)")
    for name, digest in plan.seen.schemas.items():
        if schema_digest(site.databases()[name]) != digest:
            changed.append(f"the schema of the database {name}")
    if changed:
        shown = sorted(changed, key=lambda one: (one.count("/"), one))[:_SHOWN]  # folders before what is in them
        more = f" and {len(changed) - _SHOWN:,} more" if len(changed) > _SHOWN else ""
        text = f"the site has changed since the plan was made: {', '.join(shown)}{more}"
        remedy = f"make a new plan: yl climb --to {plan.to_version}"
        if any(one.endswith(")") for one in changed):  # a file
            remedy += "; what changes by itself belongs under keep.logs, keep.data, or by its name under keep.caches"
        if any(rung.folder for rung in plan.rungs):
            remedy += "; what the commands that make a release leave behind, too, or give them a HOME elsewhere"
        maintenance = site.record.maintenance
        if (
            maintenance
            and maintenance.close
            and any(str(site.root / one.file) in text for one in site.record.keep.merged)
        ):
            remedy += "; if maintenance.close writes that file, name the key with maintenance.setting in its place"
        raise AnswerNo(Problem("plan-stale", text, remedy))
    return {"files": count_files(stable)}


def _content(path: Path) -> bytes | None:
    try:
        return read_regular(path, LARGEST_BYTES)
    except FileNotFoundError:
        return None
