"""A climb as a snapshot of the site just before it, so that a survey can be held against it."""

from __future__ import annotations

import contextlib

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, read_inventory
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.errors import LadderError
from yellow_ladder.settings.reading import read_settings_file
from yellow_ladder.survey.saved import Snapshot, object_name, told


def snapshot_before(climb: Climb) -> Snapshot:
    """The site as it was before a climb, read from its backup and its inventory.

    Raises AnswerNo or BadInput when the climb did not get that far or its backup was removed.
    """
    plan = climb.plan
    survey = read_inventory(plan, BEFORE_NAME)
    backup = read_backup(plan.site.state.backups / plan.backup_name)
    settings = {}
    for spec in plan.site.record.keep.merged:
        with contextlib.suppress(OSError, LadderError):
            settings[spec.file] = told(
                read_settings_file(plan.before(spec.file), spec.format, spec.file, spec.encoding)
            )
    tables: dict[str, tuple[str, ...]] = {}
    rows: dict[str, int] = {}
    objects: dict[str, str] = {}
    for name, found in survey.databases.items():
        tables |= {f"{name}.{table}": (*one.columns, *one.unread) for table, one in found.tables.items()}
        rows |= {f"{name}.{table}": one.rows for table, one in found.tables.items()}
        objects |= {object_name(name, key): text for key, text in found.objects.items()}
    return Snapshot(
        f"the climb {climb.name}",
        survey.taken_at,
        plan.from_version,
        {f"{one.of} {one.part} ({one.where})".replace("  ", " "): one.says for one in survey.answers},
        {path: entry for path, entry in backup.manifest().items() if not path.startswith("/")},
        settings,
        tables,
        rows,
        objects,
    )
