"""What of a frozen plan may be corrected while its climb is under way: nothing that alters the way of the data."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from yellow_ladder.climb.record.journal import JournalRecord, What
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import Standing
from yellow_ladder.climb.record.step_names import StepKind, StepName
from yellow_ladder.errors import AnswerNo, BadInput, LadderError, Problem
from yellow_ladder.site.moves import moved_text
from yellow_ladder.site.site import site_from_text

# Services and their readiness, limits of time, where passwords are, tables that are not compared, the site's own
# questions, what the service says of its version, what becomes of failures and old climbs.
_MAY_CHANGE = re.compile(
    r"services\.[^.]+\.(run|start|stop|status|folder|environment|as_user|groups|limits|pid_file|log|ready|ports|stop_within_s)\b"
    r"|databases\.[^.]+\.(volatile|password_env|password_file|lock_wait_s)\b"
    r"|versions\.served\b|versions\.\w+\.\d+\.within_s\b"
    r"|environment\.(files|values|path)\b"
    r"|commands\.[^.]+\.(run|folder|environment|as_user|groups|within_s|silent_s|answers|terminal|exit_codes|failed|warned|done|twice)\b"
    r"|run_as\b|build\.as_user\b"
    r"|maintenance\.(message|close|open|as_user|closed)\b"
    r"|(runtime|tools\.[^.]+)\.within_s\b"
    r"|checks\b|on_failure\b|settle\b"
)
IN_WORDS = (
    "services (commands, account, readiness, ports, limits), databases (volatile, where the password is, lock_wait_s),"
    " [environment], [[commands]] but for their points, run_as,"
    " served versions, [[checks]], maintenance but for its flag or key, on_failure, [settle]"
)


@dataclass(frozen=True, slots=True)
class Change:
    """One key of the site file, as it was and as it is to be; None where it was not, or will not be, there."""

    key: str
    old: Any
    new: Any


def adjusted(plan: Plan, records: Sequence[JournalRecord]) -> Plan:
    """The plan with the site file as it was last adjusted."""
    texts = [record.facts["text"] for record in records if record.what is What.ADJUST]
    return replace(plan, site_text=texts[-1]) if texts else plan


def as_now(plan: Plan, standing: Standing, text: str) -> Plan:
    """The plan with what the present site file says of services, limits and passwords; the frozen one where it says
    something else of the data. For looking at a climb that has ended.
    """
    try:
        return replace(plan, site_text=proposed(plan, standing, text)[0])
    except LadderError:
        return plan


def proposed(plan: Plan, standing: Standing, text: str) -> tuple[str, list[Change]]:
    """The site file as the plan is to have it, and what that changes.

    Raises BadInput where it is no site file, or names what must not change now; AnswerNo where nothing has changed.
    """
    follows = StepName(StepKind.SITE_FILE) in standing.up and StepName(StepKind.BACK_SITE_FILE) not in standing.down
    if follows:
        # The climb has put moved paths into it; the plan speaks of the old ones.
        text = moved_text(text, {new: old for old, new in plan.renamed_paths.items()})
    wanted = site_from_text(plan.site.file, text.encode())
    old, new = (dict(_flat(site.record.model_dump(mode="json"))) for site in (plan.site, wanted))
    changes = [Change(key, old.get(key), new.get(key)) for key in sorted(old.keys() | new.keys())]
    changes = [one for one in changes if one.old != one.new]
    refused = [one.key for one in changes if not _MAY_CHANGE.match(one.key)]
    if refused:
        refused = list(dict.fromkeys(_whole(key, old, new) for key in refused))
        what = f"{', '.join(refused[:3])}{f' and {len(refused) - 3} more' if len(refused) > 3 else ''}"
        text = f"the climb {plan.climb} is under way with the site file as it was: {what} cannot change now"
        remedy = f"put that back as it was. What may change: {IN_WORDS}"
        raise BadInput(Problem("not-adjustable", text, remedy, str(plan.site.file)))
    if not changes:
        text = f"{plan.site.file} says what the plan of {plan.climb} says already"
        raise AnswerNo(Problem("nothing-to-adjust", text, "correct the site file first; then: yl adjust"))
    return text, changes


def _whole(key: str, old: Mapping[str, Any], new: Mapping[str, Any]) -> str:
    """A service or command by its name where it came or went as a whole, and not by each of its keys."""
    record = ".".join(key.split(".")[:2])
    is_in = [any(one.startswith(f"{record}.") for one in names) for names in (old, new)]
    return key if all(is_in) else record


def _flat(value: Any, key: str = "") -> Iterator[tuple[str, Any]]:
    """Keys with dots; what has a name goes by its name, and probes of a version by what they ask."""
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from _flat(inner, f"{key}.{name}" if key else str(name))
    elif isinstance(value, list) and value and isinstance(value[0], dict):
        for number, inner in enumerate(value):
            label = inner.get("name") or (f"{inner['of']}.{number}" if "of" in inner else str(number))
            yield from _flat(inner, f"{key}.{label}")
    else:
        yield key, value
