"""In which order the copies of a replicated site go up: ordered instructions for people, by the releases' rules."""

from __future__ import annotations

from collections.abc import Sequence

from yellow_ladder.release.sheet import OrderRule, ReleaseSheet
from yellow_ladder.release.versions import Version
from yellow_ladder.site.records import Replica


def order_of(sheet: ReleaseSheet, start: Version, role: str, replicas: Sequence[Replica]) -> tuple[str, ...]:
    """What to do around one rung, in order; nothing where the site has no replicas.

    `role` is this site's own. The first rule whose range holds for where the rung starts counts; roles that no rule
    names go last.
    """
    if not replicas:
        return ()
    rules = sheet.reach.order
    rule = next((one for one in rules if not one.from_ or start.is_in(one.from_)), OrderRule())
    target = sheet.release.version
    lines = [f"take {one.name} ({one.role}) off" for one in replicas if one.role in rule.detach]
    everybody = [*((one.role, f"{one.name} ({one.role})") for one in replicas), (role, f"this site ({role})")]
    staying = [(its, name) for its, name in everybody if its not in rule.detach or name.startswith("this site")]
    named = [*rule.first, *rule.then]
    for wanted in dict.fromkeys(named):
        lines += [f"bring {name} to {target}" for its, name in staying if its == wanted]
    lines += [f"bring {name} to {target}" for its, name in staying if its not in named]
    lines += [f"add {one.name} ({one.role}) again, at {target}" for one in replicas if one.role in rule.detach]
    return tuple(lines)
