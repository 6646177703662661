"""Accounts of the site's own database servers: who may come in, and what databases there are, must be as before.

They are the server's and in no database, so that nothing else compares them; where the server's data folder is made
anew, they may get lost.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.durable import write_json
from yellow_ladder.masking import masked_line

_NAME = "accounts.json"
_HOW = ' (where the release means to, its contract says {} = ["{}"])'


def note_accounts(plan: Plan) -> None:
    """Write down what the site's own servers know of accounts before anything is changed."""
    found = _accounts(plan)
    if found:
        write_json(plan.folder / _NAME, {"format": 1, "servers": found})


def account_faults(plan: Plan) -> Iterator[str]:
    """What is gone or other than it was and no release declares, in words; what is new is no loss."""
    try:
        before: Mapping[str, Mapping[str, str]] = json.loads((plan.folder / _NAME).read_bytes())["servers"]
    except FileNotFoundError:
        return
    contracts = [one for rung in plan.rungs for one in rung.contracts]
    declared = {name for one in contracts for name in (*one.objects_dropped, *one.definition_changed)}
    now = _accounts(plan)
    for server, known in before.items():
        for name, text in known.items():
            if name in declared:
                continue
            there = now.get(server, {}).get(name)
            if there is None:
                yield f"{server}: the {name} of the server is gone{_HOW.format('objects_dropped', name)}"
            elif there != text:
                # What is set for an account may be a secret of the application's.
                what = f"{masked_line(text) or 'nothing'} → {masked_line(there) or 'nothing'}"
                how = _HOW.format("definition_changed", name)
                yield f"{server}: the {name} of the server is not as before: {what}{how}"


def _accounts(plan: Plan) -> dict[str, dict[str, str]]:
    databases = plan.site.databases()
    return {spec.name: databases[spec.holds[0]].accounts() for spec in plan.site.record.servers}
