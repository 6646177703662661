"""Findings of checks as pages: what stops first, what is fine in a few lines."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from rich.text import Text

from yellow_ladder.checks import Finding, Level
from yellow_ladder.report.look import BAD, CAREFUL, FAINT, GOOD, Page, labelled, next_command, table, verdict
from yellow_ladder.words import count_of, one_line

LEVEL_STYLES = {Level.STOP: BAD, Level.WARN: CAREFUL, Level.OK: GOOD}


def check_page(findings: Sequence[Finding], target: str, *, verbose: bool = False) -> Page:
    """All findings, what stops first, with remedies; what is fine is named in short unless `verbose`."""
    stops = [finding for finding in findings if finding.level is Level.STOP]
    warns = [finding for finding in findings if finding.level is Level.WARN]
    fine = [finding for finding in findings if finding.level is Level.OK]
    page = Page()
    count = count_of(len(findings), "answer")
    if stops:
        what = "finding stops" if len(stops) == 1 else "findings stop"
        page.add(verdict(f"{len(stops)} {what} the climb to {target} ({count})", good=False))
    else:
        words = f"nothing stops the climb to {target}: {count}"
        page.add(verdict(words + (f", {count_of(len(warns), 'warning')}" if warns else ""), good=True))
    shown = findings if verbose else [*stops, *warns]
    if shown:
        page.add(findings_table(shown))
    if not verbose and fine:
        names = list(dict.fromkeys(finding.check for finding in fine))
        page.add(labelled([("fine", ", ".join(names) + f" ({count_of(len(fine), 'answer')}; -v shows them)")]))
    if stops:
        return page.add(
            next_command(("yl check", "again, when that is corrected"), ("yl check --watch", "until it is"))
        )
    return page.add(next_command((f"yl climb --to {target}", "see the plan and climb")))


def findings_table(findings: Iterable[Finding]):  # type: ignore[no-untyped-def]
    """Findings with what is needed and their remedies below them."""
    ruled = table(["", "check", "seen"], fold=[2])
    for finding in findings:
        seen = Text(one_line(finding.saw))
        if finding.needed:
            seen.append(f"\nneeded: {one_line(finding.needed)}", style=FAINT)
        if finding.remedy:
            seen.append(f"\n→ {one_line(finding.remedy)}", style="cyan")
        style = LEVEL_STYLES[finding.level]
        ruled.add_row(Text(str(finding.level), style=style), Text(finding.check, style=FAINT), seen)
    return ruled


def standing_line(stops: Sequence[Finding], now: datetime) -> Text:
    """How things stand at one look of several."""
    line = Text(f"{now:%H:%M:%S} UTC  ", style=FAINT)
    if not stops:
        return line.append("nothing stops any more", style=GOOD)
    line.append(count_of(len(stops), "finding") + " to go: ", style=BAD)
    return line.append(one_line("; ".join(f"{one.check}: {one.saw}" for one in stops)))
