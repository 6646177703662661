"""Keeps the site file true: paths that releases move are followed in it, comments and order kept."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Facts, Run
from yellow_ladder.durable import write_whole
from yellow_ladder.site.moves import moved_text


def follow(run: Run) -> Facts:
    """The work of following moved paths."""
    return follow_moves(run.plan)


def follow_back(run: Run) -> Facts:
    """The work of following them back."""
    return take_back_moves(run.plan)


def follow_moves(plan: Plan) -> dict[str, Any]:
    """Write the site file with moved paths; an administrator's edits since the plan stay. May be repeated."""
    if not plan.renamed_paths:
        return {"summary": "no path in it has moved"}
    path = Path(plan.site_file)
    text = path.read_text()
    _replace(path, text, moved_text(text, plan.renamed_paths))
    return {"summary": f"{len(plan.renamed_paths)} moved paths are corrected in it"}


def take_back_moves(plan: Plan) -> dict[str, Any]:
    """Give the site file its old text, or, where it was edited since, its old paths only."""
    if not plan.renamed_paths:
        return {"summary": "no path in it had moved"}
    path = Path(plan.site_file)
    text = path.read_text()
    if text == moved_text(plan.site_text, plan.renamed_paths):
        _replace(path, text, plan.site_text)
    else:
        _replace(path, text, moved_text(text, {new: old for old, new in plan.renamed_paths.items()}))
    return {"summary": f"{len(plan.renamed_paths)} moved paths have their old form again"}


def _replace(path: Path, old: str, new: str) -> None:
    if new != old:
        status = path.stat()
        write_whole(path, new.encode(), mode=status.st_mode & 0o7777, owner=(status.st_uid, status.st_gid))
