"""Copies the backup elsewhere, before anything is changed or when the site is open again."""

from __future__ import annotations

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.backup.copies import copy_backup
from yellow_ladder.climb.running.run import Facts, Run, Work
from yellow_ladder.errors import LadderError
from yellow_ladder.events import Note
from yellow_ladder.site.backup_records import CopyTarget


def copy_to(target: CopyTarget) -> Work:
    """The work of copying the backup elsewhere before anything is changed."""

    def do(run: Run) -> Facts:
        backup = read_backup(run.site.state.backups / run.plan.backup_name)
        copied = copy_backup(run.site, backup, target, run.tell)
        return {"bytes": sum(one.size_bytes for one in copied)}

    return do


def copy_after(target: CopyTarget) -> Work:
    """The work of copying the backup elsewhere when the site is open again. A failure is shown, and ends nothing."""

    def do(run: Run) -> Facts:
        try:
            return copy_to(target)(run)
        except LadderError as fault:
            text = f"the backup was not copied to {target.name}: {fault.problems[0].message}"
            run.listen(Note(f"{text}; later: yl backup copy", is_warning=True))
            return {"summary": "not copied; later: yl backup copy", "failed": text}

    return do
