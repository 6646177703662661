"""Placement by pointer: a release has a folder of its own, and the link to it is turned over in one instant."""

from __future__ import annotations

import contextlib
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.placing.aside import bytes_below
from yellow_ladder.climb.placing.in_place import OverlayPlacement
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.errors import BadInput
from yellow_ladder.files.copying import remove_entry
from yellow_ladder.release.versions import Version
from yellow_ladder.site.pointer import pointed_at, release_folders, version_of


class PointerPlacement(OverlayPlacement):
    """What comes into the tree is the link, and settings beside it that the release changes.

    Folders of releases lie where they are made, before and after.
    """

    def drop_passed(self, plan: Plan) -> None:
        """Remove the folders of releases in between, passages among them."""
        for rung in plan.rungs[:-1]:
            _remove_release(plan, rung.folder)

    def drop_newer(self, plan: Plan) -> None:
        """Remove what was made ready: the releases' folders as well."""
        self.drop_staged(plan)

    def drop_staged(self, plan: Plan) -> None:
        """Remove what was made ready: the releases' folders as well, and what a kill left half unpacked."""
        super().drop_older(plan)
        for rung in plan.rungs:
            remove_entry(unpacked_of(plan, rung))
            _remove_release(plan, rung.folder)

    def drop_older(self, plan: Plan) -> None:
        """Remove what lies aside, and folders of older releases but for as many as the site file keeps."""
        super().drop_older(plan)
        for path in _older(plan):
            _remove_release(plan, path)

    def kept_bytes(self, plan: Plan) -> int:
        """Bytes of what lies aside, and of older releases' folders that go."""
        root = plan.site.root
        return super().kept_bytes(plan) + sum(bytes_below(root / path) for path in _older(plan))


def unpacked_of(plan: Plan, rung: RungPlan) -> Path:
    """Where a release's archive is unpacked, before it takes its place."""
    return Path(plan.work) / f"unpacked-{rung.number}"


def _remove_release(plan: Plan, path: str) -> None:
    """Remove a release's folder, never the one that is in use."""
    with contextlib.suppress(BadInput):
        if plan.site.release_path == path:
            return
        nolinks.remove_all(plan.site.root / path)


def _older(plan: Plan) -> list[str]:
    """Folders of releases older than the one in use, without those that are kept, the newest of them."""
    pointing, root = plan.site.record.pointing, plan.site.root
    if pointing is None:
        return []
    try:
        in_use = version_of(pointing, pointed_at(root, pointing))
    except BadInput:
        return []
    found: list[tuple[Version, str]] = []
    for path in release_folders(root, pointing):
        version = version_of(pointing, path)
        if version is not None and in_use is not None and version < in_use:
            found.append((version, path))
    return [path for _, path in sorted(found, reverse=True)[pointing.keep :]]
