"""Counts what data folders outside root hold."""

from __future__ import annotations

import stat
from pathlib import Path

from yellow_ladder.database.clusters import MARKS
from yellow_ladder.files.manifest import walk_tree
from yellow_ladder.site.site import Site
from yellow_ladder.survey.records import DataOutside


def count_outside(site: Site) -> tuple[DataOutside, ...]:
    """Each data folder outside root with what is in it; contents are not read."""
    return tuple(_counted(site, path) for path in site.data_outside)


def _counted(site: Site, path: str) -> DataOutside:
    files, count = 0, 0
    marks, set_id, devices = list[str](), list[str](), list[str]()
    try:
        if not Path(path).is_dir():
            return DataOutside(path, 1, Path(path).lstat().st_size)
        for inside, found in walk_tree(Path(path), site.skipped(), path):
            mode, name = found.status.st_mode, inside[len(path) + 1 :]
            files += not stat.S_ISDIR(mode)
            if found.name in MARKS:
                marks.append(name)
            if stat.S_ISREG(mode):
                count += found.status.st_size
                if mode & (stat.S_ISUID | stat.S_ISGID):
                    set_id.append(name)
            elif stat.S_ISCHR(mode) or stat.S_ISBLK(mode):
                devices.append(name)
    except OSError as fault:
        return DataOutside(path, trouble=(fault.strerror or str(fault)).lower())
    return DataOutside(path, files, count, "", tuple(marks), tuple(set_id), tuple(devices))
