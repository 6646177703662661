"""What somebody has to decide about an open climb, and what came of it, as pages."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rich.text import Text

from yellow_ladder.climb.proving.differences import Differences
from yellow_ladder.climb.record.adjusting import Change
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.record.standing import ClimbState
from yellow_ladder.report.look import (
    BAD,
    CAREFUL,
    Page,
    bullet_list,
    heading,
    labelled,
    next_command,
    table,
    title,
    verdict,
)
from yellow_ladder.words import count_of

_MOST_SHOWN = 40


def changes_page(changes: Sequence[Change]) -> Page:
    """What of the frozen plan will change."""
    ruled = table(["key", "was", "will be"], fold=[0, 1, 2])
    for one in changes:
        ruled.add_row(one.key, _value(one.old), _value(one.new))
    words = f"{count_of(len(changes), 'key')} of the site file will change for this climb"
    return Page().add(heading(words), ruled, Text("The way of the data stays as it was frozen."))


def _value(value: Any) -> str:
    return "–" if value is None else json.dumps(value, ensure_ascii=False)


def differences_page(found: Differences, plan: Plan) -> Page:
    """Every difference, for somebody who has to decide."""
    lines = found.lines()
    more = [f"and {len(lines) - _MOST_SHOWN:,} more"] if len(lines) > _MOST_SHOWN else []
    page = Page().add(title(f"{count_of(found.count, 'difference')}", plan.site.name, plan.climb))
    page.add(bullet_list([*lines[:_MOST_SHOWN], *more], "✘", BAD))
    page.add(labelled([("each row", f"in {plan.site.short(Path(found.folder))}")]))
    words = (
        "Accepting them opens the site as it is. The climb is then recorded as ended with differences, never as whole."
    )
    return page.add(Text(words, style=CAREFUL))


def accepted_page(climb: Climb) -> Page:
    """The end of a climb that was accepted with differences."""
    plan, standing = climb.plan, climb.standing
    version = plan.to_version if standing.state is ClimbState.CLIMBED else plan.from_version
    words = (
        f"{plan.site.name} is open at {version}, with {count_of(standing.accepted, 'difference')} that were accepted"
    )
    page = Page().add(verdict(words, good=False))
    page.add(
        labelled([("differences", f"in {plan.site.short(plan.folder / 'differences')}"), ("backup", plan.backup_name)])
    )
    after = (
        ("yl verify", "compare again") if standing.state is ClimbState.CLIMBED else ("yl survey", "see what is there")
    )
    return page.add(next_command(after, ("yl history", "how it was recorded")))
