"""How each table came through, told once for the whole way."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from typing import Any

from yellow_ladder.fingerprints.lineage import Lineage

ACCEPTED = "accepted: "
"""Before a difference that somebody has agreed to: it is named every time, and never called the same."""


IN_OTHER_ROWS = "values stand in other rows"
"""How a remark about a column goes on, of which only the ties to its rows differ."""
REWRITTEN_WHERE = " rewritten where "
"""What a remark about columns says of which a release rewrites some rows."""


class Verdict(StrEnum):
    """How a table came through."""

    SAME = "same"
    AS_DECLARED = "as declared"
    NOT_COMPARED = "not compared"
    DIFFERS = "differs"
    MORE = "same, and more"  # every row from before, and others that came since


@dataclass(frozen=True, slots=True)
class TableVerdict:
    """One table: rows before and after (None where there was no such table), columns compared, and what was found.

    `differing`: columns in which rows from before were seen to differ, where rows were looked at; `rows_gone`: whether
    some were seen to be gone; `gone` and `changed`: what finds each row that is gone or differs, as SQL, where they
    are few.
    """

    table: str
    verdict: Verdict
    rows_before: int | None
    rows_after: int | None
    columns_compared: int
    remarks: tuple[str, ...] = ()
    old_rows_compared: bool = False
    values_compared: int = 0
    differing: tuple[str, ...] = ()
    rows_gone: bool = False
    gone: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()

    @property
    def is_uncompared(self) -> bool:
        """Whether rows that were there before were held against nothing, beyond their number."""
        if any(one.startswith(ACCEPTED) for one in self.remarks):
            return True
        if self.rows_before is None and self.rows_after is None:  # no table
            return self.verdict is Verdict.NOT_COMPARED
        if not self.rows_before or self.rows_after is None:
            return False
        lost_sight = self.verdict is Verdict.AS_DECLARED and self.rows_before != self.rows_after
        return self.verdict is Verdict.NOT_COMPARED or (lost_sight and not self.old_rows_compared)

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return asdict(self)

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> TableVerdict:
        """Read what `as_record` gave."""
        lists = {name: tuple(record[name]) for name in ("remarks", "differing", "gone", "changed") if name in record}
        return TableVerdict(**{**record, "verdict": Verdict(record["verdict"]), **lists})


def together(
    earlier: Sequence[TableVerdict], later: Sequence[TableVerdict], lineage: Lineage
) -> tuple[TableVerdict, ...]:
    """One verdict for each table over two stretches of the way; `lineage` tells its name at their meeting."""
    before = {one.table: one for one in earlier}
    found = []
    for one in later:
        line = lineage.tables.get(one.table)
        was = before.pop(line.origin if line is not None and line.origin is not None else one.table, None)
        found.append(one if was is None else _over_both(was, one))
    # What was dropped before is told, though the later stretch knows nothing of it.
    return (*found, *(one for one in before.values() if one.rows_after is None and one.remarks))


def _over_both(was: TableVerdict, now: TableVerdict) -> TableVerdict:
    verdict = max((was.verdict, now.verdict), key=_GRAVER.index)
    remarks = tuple(dict.fromkeys((*was.remarks, *now.remarks))) if verdict is not Verdict.DIFFERS else now.remarks
    return replace(
        now,
        verdict=verdict,
        rows_before=was.rows_before,
        remarks=remarks,
        old_rows_compared=not (was.is_uncompared or now.is_uncompared),
    )


_GRAVER = (Verdict.SAME, Verdict.AS_DECLARED, Verdict.NOT_COMPARED, Verdict.DIFFERS)


def is_whole(verdicts: Sequence[TableVerdict]) -> bool:
    """Whether nothing was lost or changed beyond what was declared."""
    return all(verdict.verdict is not Verdict.DIFFERS for verdict in verdicts)
