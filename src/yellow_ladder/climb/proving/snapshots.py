"""A climb as a snapshot of the site just before it, so that a survey can be held against it."""

from __future__ import annotations

from yellow_ladder.backup.catalog import read_backup
from yellow_ladder.climb.proving.inventory import BEFORE_NAME, read_survey
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.errors import LadderError
from yellow_ladder.settings.ini import IniSettings
from yellow_ladder.survey.saved import Snapshot, object_name
from yellow_ladder.survey.secrets import masked_value


def snapshot_before(climb: Climb) -> Snapshot:
    """The site as it was before a climb, read from its backup and its survey.

    Raises AnswerNo or BadInput when the climb did not get that far or its backup was let go.
    """
    plan = climb.plan
    survey = read_survey(plan, BEFORE_NAME)
    backup = read_backup(plan.site.state.backups / plan.backup_name)
    settings: dict[str, str] = {}
    for spec in plan.site.record.keep.settings:
        try:
            text = (plan.folder / "settings" / spec.file).read_text()
            values = IniSettings(text, spec.file).values()
        except (OSError, LadderError):
            continue
        settings |= {key: masked_value(key, value) for key, value in values.items()}
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
        {f"{one.of} {one.part} ({one.where})".replace("  ", " "): one.says for one in survey.witnesses},
        {path: entry for path, entry in backup.manifest().items() if not path.startswith("/")},
        settings,
        tables,
        rows,
        objects,
    )
