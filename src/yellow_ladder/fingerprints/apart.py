"""Holds what is kept beside the rows of tables against before: history of versioned tables, materialised views."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from yellow_ladder.database.port import AS_ASKED, NOT_FILLED, NOT_READ
from yellow_ladder.fingerprints.lineage import Lineage
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict

OTHERS = "holds other rows than before, and not what its query gives"


def judge_apart(
    before: DatabasePrint, after: DatabasePrint, lineage: Lineage, volatile: Collection[str] = ()
) -> Iterator[TableVerdict]:
    """A verdict for everything kept apart that is not what it was, undeclared.

    A materialised view that was filled anew, and holds what its query gives, is as it should be.
    """
    for key, was in sorted(lineage.apart(before).items()):
        kind, _, name = key.partition(" ")
        if name in volatile or key in lineage.changed_definitions:
            continue
        now = after.apart.get(key)
        if now is None:  # of views and tables that are gone or kept otherwise, definitions tell, but for one thing
            is_view = kind == "contents" and f"view {name}" in after.objects
            if is_view and f"view {name}" not in lineage.changed_definitions:
                yield _told(key, Verdict.DIFFERS, "is a plain view now, and no release declares it")
        elif NOT_READ in (was[: len(NOT_READ)], now[: len(NOT_READ)]):
            yield _told(key, Verdict.NOT_COMPARED, now if now.startswith(NOT_READ) else was)
        elif now != was and not now.endswith(AS_ASKED):
            yield _told(key, Verdict.DIFFERS, _unlike(kind, was, now))


def was_filled_since(verdict: TableVerdict) -> bool:
    """Whether what was found is no more than a materialised view filled anew, while people write to its tables."""
    return (
        verdict.verdict is Verdict.DIFFERS and bool(verdict.remarks) and all(OTHERS in one for one in verdict.remarks)
    )


def _unlike(kind: str, was: str, now: str) -> str:
    counts = [one.partition(", ")[0] for one in (was, now)]
    if counts[0] == counts[1]:
        return OTHERS
    said = f"{counts[0]} before, {counts[1]} now"
    if now == NOT_FILLED:
        return f"{said}: REFRESH MATERIALIZED VIEW fills it"
    return f"{said}: {OTHERS}" if kind == "contents" and ", sum " in now else said


def _told(key: str, verdict: Verdict, remark: str) -> TableVerdict:
    return TableVerdict(key, verdict, None, None, 0, (remark,))
