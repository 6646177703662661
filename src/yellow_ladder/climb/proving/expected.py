"""The tree that a climb should leave: the last staged one, with the data folders as they were backed up."""

from __future__ import annotations

from dataclasses import replace

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.files.manifest import Entry, take_manifest, within
from yellow_ladder.site.site import Site


def site_after(plan: Plan) -> Site:
    """The site as it is after the last rung: moved paths followed."""
    return plan.site_at(plan.rungs[-1])


def data_folders_after(plan: Plan) -> dict[str, str]:
    """Where each data folder lies after the climb, by where it lay before."""
    return {first: names[-1] for first, names in plan.data_folders()}


def expected_tree(plan: Plan) -> dict[str, Entry]:
    """Every entry that should be below root after the climb."""
    backup = read_backup(plan.site.state.backups / plan.backup_name).manifest()
    expected = plan.expected(plan.rungs[-1])
    for old, new in data_folders_after(plan).items():
        for path, entry in backup.items():
            if within(path, [old]):
                now = new + path[len(old) :]
                expected[now] = replace(entry, path=now)
    return expected


def present_tree(plan: Plan, expected: dict[str, Entry]) -> dict[str, Entry]:
    """Every entry that is below root now; what nobody has touched since `expected` was taken is not read again."""
    site = site_after(plan)
    return take_manifest(site.root, site.skipped(), known=expected)
