"""The two surveys of a climb, before and after, as they are kept."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.climb.running.run import Run
from yellow_ladder.database import Database
from yellow_ladder.durable import write_json
from yellow_ladder.errors import AnswerNo, Problem
from yellow_ladder.events import Progress, Unit
from yellow_ladder.fingerprints.lineage import Lineage
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import OnRows, take_fingerprint
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import ask_all
from yellow_ladder.survey.records import ProbeAnswer

Prints = Mapping[str, DatabasePrint]
BEFORE_NAME, AFTER_NAME = "before.json", "after.json"


@dataclass(frozen=True, slots=True)
class Inventory:
    """Versions and data at one moment: answers, fingerprints by database, the digest of the file tree."""

    taken_at: str
    answers: tuple[ProbeAnswer, ...]
    databases: Mapping[str, DatabasePrint]
    tree: str
    files: int

    def says(self, of: str) -> list[str]:
        """What the probes of a kind say."""
        return [answer.says for answer in self.answers if answer.of == of]

    @property
    def rows(self) -> int:
        """Rows of all databases."""
        return sum(one.rows for one in self.databases.values())

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {
            "taken_at": self.taken_at,
            "versions": [asdict(answer) for answer in self.answers],
            "databases": {name: one.as_record() for name, one in self.databases.items()},
            "tree": self.tree,
            "files": self.files,
        }


def write_inventory(plan: Plan, name: str, survey: Inventory) -> None:
    """Keep a survey in the climb's folder."""
    write_json(plan.folder / name, survey.as_record())


def read_inventory(plan: Plan, name: str) -> Inventory:
    """Read a survey; raises AnswerNo when the climb did not get as far as taking it."""
    path: Path = plan.folder / name
    try:
        record = json.loads(path.read_bytes())
        databases = {key: DatabasePrint.from_record(one) for key, one in record["databases"].items()}
        answers = tuple(ProbeAnswer(**one) for one in record["versions"])
        return Inventory(record["taken_at"], answers, databases, record["tree"], record["files"])
    except FileNotFoundError as gone:
        text = f"the climb {plan.climb} did not get as far as taking {name}"
        raise AnswerNo(Problem("no-survey", text, "there is nothing to compare with", str(path))) from gone
    except (ValueError, KeyError, TypeError) as fault:
        raise AnswerNo(
            Problem("survey-damaged", f"{path} is damaged: {fault}", "restore the file", str(path))
        ) from fault


def telling_rows(run: Run, name: str) -> OnRows:
    """Tells progress while rows of a database are read; where the run can be stopped."""
    done = 0

    def tell(count: int) -> None:
        nonlocal done
        done += count
        run.tell(Progress(f"rows of {name}", done, None, Unit.ROWS))

    return tell


def fingerprint_all(
    run: Run,
    databases: Mapping[str, Database],
    lineages: Mapping[str, Lineage] | None = None,
    before: Prints | None = None,
) -> dict[str, DatabasePrint]:
    """Fingerprint several databases with progress.

    With `lineages`, they are read so that they can be held against `before`: tied to the same keys, and of what the
    application rewrites by itself no more than the number of rows.
    """
    prints = {}
    for name, database in databases.items():
        tell = telling_rows(run, name)
        if lineages is None or before is None:
            prints[name] = take_fingerprint(database, on_rows=tell)
            continue
        # Every column, also what has nothing to be held against: going back can tell then what has changed since.
        volatile = run.site.database_spec(name).volatile
        prints[name] = take_fingerprint(
            database, lineages[name].ties(before[name]), tell, columns=dict.fromkeys(volatile, ())
        )
    return prints


def ask_probes(site: Site, *, served: bool) -> tuple[ProbeAnswer, ...]:
    """What disk, database and (while services run) the service say."""
    return tuple(ask_all(site, ("disk", "schema", "served") if served else ("disk", "schema")))
