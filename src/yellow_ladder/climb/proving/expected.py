"""The tree that a climb should leave: the last staged one, with the data folders as they were backed up."""

from __future__ import annotations

from collections.abc import Iterator

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.files.entry import Entry, Manifest, changed, within
from yellow_ladder.files.listing import Listing, in_order, merged
from yellow_ladder.files.manifest import take_manifest
from yellow_ladder.site.site import Site


def site_after(plan: Plan) -> Site:
    """The site as it is after the last rung: moved paths followed."""
    return plan.site_at(plan.rungs[-1])


def data_folders_after(plan: Plan) -> dict[str, str]:
    """Where each data folder lies after the climb, by where it lay before."""
    return {first: names[-1] for first, names in plan.data_folders()}


def expected_tree(plan: Plan) -> Listing:
    """Every entry that should be below root after the climb."""
    backup = read_backup(plan.site.state.backups / plan.backup_name).manifest()
    data = [_moved(backup, old, new) for old, new in data_folders_after(plan).items()]
    staged = plan.expected(plan.rungs[-1])
    # A release that makes a folder of its data's name again has it replaced by the site's.
    folders = list(data_folders_after(plan).values())
    return Listing.of(merged((one for one in in_order(staged) if not within(one.path, folders)), *data))


def _moved(backup: Manifest, old: str, new: str) -> Iterator[Entry]:
    """The entries of a data folder where they lie after the climb."""
    for entry in in_order(backup):
        if within(entry.path, [old]):
            yield changed(entry, path=new + entry.path[len(old) :])


def present_tree(plan: Plan, expected: Manifest) -> Manifest:
    """Every entry that is below root now; what nobody has touched since `expected` was taken is not read again."""
    site = site_after(plan)
    return take_manifest(site.root, site.skipped(), known=expected)
