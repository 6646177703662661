"""Puts settings that lie outside root in place: each by one rename, with its owner, rights and attributes."""

from __future__ import annotations

import os
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.backup.catalog import Ground
from yellow_ladder.climb.record.plan import Plan, RungPlan
from yellow_ladder.durable import private_folder
from yellow_ladder.files.copying import copy_entry, remove_entry, replace_content
from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.script import LARGEST_BYTES


def place_elsewhere(plan: Plan, rung: RungPlan) -> int:
    """Give each settings file outside root what the rung makes of it; returns how many were replaced now. May be
    repeated.
    """
    count = 0
    for file in plan.site.record.keep.settings_elsewhere:
        merged, place = plan.merged(rung, file), plan.site.resolve(file)
        if merged.exists():  # one that a later release brings is not there yet
            raw = merged.read_bytes()
            if not nolinks.is_there(place) or read_regular(place, LARGEST_BYTES) != raw:
                like = place if nolinks.is_there(place) else _first_settings(plan)
                replace_content(place, raw, _beside(place), like)
                count += 1
    return count


def take_back_elsewhere(plan: Plan, kept: Ground, *, were_placed: bool) -> None:
    """Clear away what a kill has left beside these files, and take those away that a release has brought, after a copy
    was kept; those of before come from the backup. May be repeated.

    Before any release `were_placed`, one that was not there when the plan was made is somebody else's.
    """
    for file in plan.site.record.keep.settings_elsewhere:
        place = plan.site.resolve(file)
        remove_entry(_beside(place))
        if were_placed and not plan.before(file).exists() and nolinks.is_there(place):
            copy = kept.at(str(place))
            private_folder(copy.parent)
            remove_entry(copy)
            copy_entry(place, copy)
            os.sync()  # a power cut must not take the copy and the original
            remove_entry(place)


def _beside(place: Path) -> Path:
    """Where a new content lies until it is whole; always the same, so that what a kill leaves is found."""
    return place.with_name(f".{place.name}.of-a-climb")


def _first_settings(plan: Plan) -> Path:
    """The first settings file that is there, or else the site file: what is new may hold what stood in it, and is for
    the same eyes.
    """
    places = [plan.site.root / one.file for one in plan.site.record.keep.settings]
    return next((one for one in places if nolinks.is_there(one)), plan.site.file)
