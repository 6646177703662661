"""What was compared after a climb, and what going back would take away, as pages."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from rich.console import RenderableType
from rich.text import Text

from yellow_ladder.climb.proving.elsewhere import Comparison
from yellow_ladder.climb.proving.price import Price
from yellow_ladder.climb.proving.proof import Proof
from yellow_ladder.climb.record.plan import Beyond, Plan
from yellow_ladder.fingerprints.verdicts import TableVerdict, Verdict
from yellow_ladder.report.look import (
    BAD,
    CAREFUL,
    GOOD,
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

_VERDICT_STYLES = {
    Verdict.SAME: GOOD,
    Verdict.AS_DECLARED: GOOD,
    Verdict.NOT_COMPARED: CAREFUL,
    Verdict.DIFFERS: BAD,
    Verdict.MORE: GOOD,
}
# A site has five tables or five hundred: those that came through as they were need no line each.
_MOST_SAME, _MOST_CAME = 25, 12
_EXAMPLES = re.compile(r"(\b(?:rows?|values?) [^:(]*)(?: \(|: ).*", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Shown:
    """How much of a proof is shown: what comes next after a climb that has `ended`, `every_table` or what matters."""

    ended: bool = True
    every_table: bool = False


def _add_what_is_new(page: Page, proof: Proof, *, every_one: bool) -> None:
    """What users have written since, where nothing is wrong with the rest."""
    if proof.came:
        many = len(proof.came)
        words = f"Came since the climb, in {count_of(many, 'table')}; every row from before is there as it was"
        # How many came is enough where nothing is wrong with them; which ones, who wants to know it asks for.
        counts = [one.partition(" came")[0] for one in proof.came[:_MOST_CAME]]
        counts += [f"and in {many - len(counts)} more (-v names all)"] if len(counts) < many else []
        page.add(heading(words), bullet_list(proof.came if every_one else counts))
    if proof.written_since:
        many, shown = len(proof.written_since), list(proof.written_since[: None if every_one else _MOST_CAME])
        shown += [f"and {many - len(shown):,} more (-v names all)"] if len(shown) < many else []
        words = f"Written again since the climb ended, in data folders: {count_of(many, 'file')}"
        page.add(heading(words), bullet_list(shown))


def proof_page(
    proof: Proof, beyond: Beyond | None = None, *, shown: Shown = Shown(), notes: Sequence[str] = ()
) -> Page:
    """What was compared, and that it was the same; at a landing, what is to be done before the way goes on.

    `notes` are sentences about differences: since when they are there, where all rows are listed.
    """
    page = Page()
    rows, values = count_of(proof.rows_after, "row"), count_of(proof.values_compared, "value")
    files = count_of(proof.files_compared - len(proof.written_since), "file")
    missing = proof.not_compared
    if proof.is_whole and missing:
        share = 100 * (1 - proof.values_compared / proof.values_before) if proof.values_before else 0.0
        part = f"{share:.1f} %" if share >= 0.05 else "less than 0.1 %"
        told = f"{values} and {files}" if proof.tables else files
        page.add(verdict(f"no difference in what was compared: {told}", good=True))
        lacks = f" ({part} of the values that were there)" if len(missing) > len(proof.remade) else ""
        page.add(heading(f"Not compared{lacks}"), bullet_list(missing, "!", CAREFUL))
    elif proof.is_whole:
        told = f"{rows}, {values} and {files}" if proof.tables else files
        since = f"no difference but in {count_of(len(proof.written_since), 'file')} written since the climb ended"
        page.add(verdict(f"{since if proof.written_since else 'nothing was lost'}: {told} compared", good=True))
    else:
        page.add(verdict(f"{count_of(len(proof.faults), 'difference')} between before and now", good=False))
        page.add(*_differences(proof.faults, proof.in_short, every_one=shown.every_table), *map(Text, notes))
    _add_what_is_new(page, proof, every_one=shown.every_table)
    for name, verdicts in proof.tables.items():
        page.add(heading(f"Database {name}"), _verdicts_table(verdicts, every_table=shown.every_table))
    kept = "as they should be" if proof.is_whole else "compared"
    rest = [
        ("files", f"{files} {kept}, {proof.data_files:,} of them in data folders"),
        (
            "settings",
            f"{count_of(proof.settings_kept, 'value')} of the site's own kept; settings.patch in the climb's folder"
            " has what changed",
        ),
        ("versions", f"{proof.from_version} before, {proof.to_version} now"),
    ]
    page.add(labelled(rest))
    if proof.declared:
        page.add(heading("Declared by the releases, and not held against before"), bullet_list(proof.declared))
    if proof.remarks:
        page.add(bullet_list(proof.remarks))
    if not shown.ended:
        return page
    if beyond is not None:
        page.add(heading(f"Landing at {proof.to_version}, on the way to {beyond.to_version}"))
        page.add(bullet_list(beyond.instructions, "!", CAREFUL))
        lines = [("yl climb --continue", f"go on to {beyond.to_version} when that is done")]
        return page.add(next_command(*lines, ("yl descend", f"go back to {proof.from_version}")))
    if not proof.is_whole:
        return page.add(
            next_command(
                ("yl descend --price", "see what has been written since the climb"),
                ("yl descend", f"go back to {proof.from_version}"),
            )
        )
    return page.add(
        next_command(
            ("yl settle", "accept for good, and remove what was kept for going back"),
            ("yl descend", f"go back to {proof.from_version}"),
        )
    )


def _verdicts_table(verdicts: Sequence[TableVerdict], *, every_table: bool):  # type: ignore[no-untyped-def]
    same = [one for one in verdicts if one.verdict is Verdict.SAME and not one.remarks]
    if every_table or len(same) <= _MOST_SAME:
        same = []
    ruled = table(["table", "rows before", "rows now", "columns", "verdict", "remarks"], right=[1, 2, 3], fold=[5])
    for one in verdicts if not same else [one for one in verdicts if one not in same]:
        before = "–" if one.rows_before is None else f"{one.rows_before:,}"
        after = "–" if one.rows_after is None else f"{one.rows_after:,}"
        style = _VERDICT_STYLES[one.verdict]
        columns = f"{one.columns_compared}" if one.columns_compared else "–"
        # Which rows is told above, or by -v: with long keys, a narrow column would take a screen for each table.
        is_told = one.verdict in (Verdict.DIFFERS, Verdict.MORE) and not every_table
        remarks = "; ".join(_EXAMPLES.sub(r"\1", said) if is_told else said for said in one.remarks)
        ruled.add_row(one.table, before, after, columns, Text(str(one.verdict), style=style), remarks)
    if same:
        rows = f"{sum(one.rows_before or 0 for one in same):,}", f"{sum(one.rows_after or 0 for one in same):,}"
        columns = f"{sum(one.columns_compared for one in same):,}"
        name = count_of(len(same), "other table" if ruled.row_count else "table")
        ruled.add_row(name, *rows, columns, Text(str(Verdict.SAME), GOOD), "yl verify -v names each")
    return ruled


def _differences(faults: Sequence[str], in_short: Sequence[str], *, every_one: bool) -> Iterator[RenderableType]:
    listed = faults if every_one or not in_short else in_short
    yield bullet_list(listed, "✘", BAD)
    if len(listed) < len(faults):
        yield Text("With -v, yl verify names each one.")


def comparison_page(found: Comparison, site: str, *, every_table: bool) -> Page:
    """The site held against a backup, or against fingerprints alone."""
    page = Page().add(title(f"Now against {found.against}", site))
    files = f" and {count_of(found.files_compared, 'file')}" if found.files_compared else ""
    tables = count_of(sum(len(verdicts) for verdicts in found.tables.values()), "table")
    if found.is_whole:
        page.add(verdict(f"the same: {tables}{files} compared", good=True))
    else:
        page.add(verdict(f"{count_of(len(found.faults), 'difference')} between then and now", good=False))
        page.add(*_differences(found.faults, found.in_short, every_one=every_table))
    for name, verdicts in found.tables.items():
        page.add(heading(f"Database {name}"), _verdicts_table(verdicts, every_table=every_table))
    return page


def price_page(price: Price, plan: Plan) -> Page:
    """What going back takes away."""
    page = Page().add(title(f"Going back: {plan.to_version} → {plan.from_version}", plan.site.name, plan.climb))
    if price.is_nothing:
        return page.add(Text("No rows and no files have come, changed or gone since the climb.", style=GOOD))
    page.add(Text("Written since the climb, and gone after going back (a copy is kept in the climb's folder):"))
    ruled = table(["table", "after the climb", "now", "added", "changed", "deleted"], right=[1, 2, 3, 4, 5])
    for one in price.tables:
        counts = [f"{count:,}" if one.compared else "?" for count in (one.added, one.changed, one.deleted)]
        ruled.add_row(f"{one.database}.{one.table}", f"{one.rows_then:,}", f"{one.rows_now:,}", *counts)
    if price.tables:
        page.add(ruled)
    if price.unreadable:
        page.add(heading("Databases that cannot be read any more"), bullet_list(price.unreadable, "!", CAREFUL))
    if price.counted_only:
        words = "Rows that could only be counted, not compared one by one"
        page.add(heading(words), bullet_list(price.counted_only, "!", CAREFUL))
    if price.files:
        more = [f"and {len(price.files) - 10:,} more"] if len(price.files) > 10 else []
        page.add(heading(f"Files ({len(price.files):,})"), bullet_list([*price.files[:10], *more]))
    return page
