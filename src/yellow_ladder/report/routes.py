"""Routes as pages."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from rich.text import Text

from yellow_ladder.errors import Problem
from yellow_ladder.report.look import BAD, CAREFUL, FAINT, Page, bullet_list, heading, next_command, table, title
from yellow_ladder.route import Route
from yellow_ladder.route.fixes import Fix
from yellow_ladder.words import count_of, one_line

_SEVERITY_STYLES = {"critical": BAD, "high": BAD, "medium": CAREFUL}
_LISTED = 12


def route_page(
    route: Route, rungs: Sequence[Mapping[str, Any]], problems: Sequence[Problem] = (), *, show_all: bool = False
) -> Page:
    """Every rung: where it leads, why it is there, what it changes; with `show_all`, what was passed over."""
    landings = [one for one in route.landings if one.rungs]
    count = count_of(len(route.rungs), "rung") + (f", {count_of(len(landings), 'landing')}" if landings else "")
    page = Page().add(title(f"{route.present} → {route.target}", count), rungs_table(route))
    before = route.before_begin
    if before:
        page.add(heading("Before it begins"), bullet_list(before.instructions, "!", CAREFUL))
    for landing in landings:
        words = f"Landing at {landing.version}: the climb ends there, and `yl climb --continue` goes on"
        page.add(heading(words), bullet_list(landing.instructions, "!", CAREFUL))
    _add_needs(page, route)
    orders = [(rung["to"], line) for rung in rungs for line in rung["order"]]
    if orders:
        listed = [f"{number}. {line}" for number, (_, line) in enumerate(orders, start=1)]
        page.add(heading("In this order"), bullet_list(listed, "·"))
    _add_notes(page, route)
    _add_fixes(page, f"Gained by {route.target}", route.gained)
    _add_fixes(page, f"Still missing at {route.target}", route.still_missing)
    if show_all and route.passed_over:
        ruled = table(["version", "why not"], fold=[1])
        for one in route.passed_over:
            ruled.add_row(str(one.version), one.why)
        page.add(heading("Passed over"), ruled)
    if problems:
        page.add(heading("Not readable in the source"), bullet_list([one.message for one in problems], "!", CAREFUL))
    target = f" --to {route.target}"
    commands = [(f"yl check{target}", "ask every check"), (f"yl climb{target}", "see the plan and climb")]
    if route.passed_over and not show_all:
        over, verb = count_of(len(route.passed_over), "release"), "is" if len(route.passed_over) == 1 else "are"
        commands.append((f"yl route{target} --all", f"why {over} on the way {verb} not taken"))
    return page.add(next_command(*commands))


def _add_notes(page: Page, route: Route) -> None:
    for word, label in (
        ("breaks", "breaks"),
        ("one_way", "one way: older releases cannot read it, going back restores the backup"),
        ("restart_only", "in effect only after the service was started again"),
    ):
        lines = [f"{r.to_version}: {text}" for r in route.rungs for text in getattr(r.release.sheet.notes, word)]
        if lines:
            page.add(heading(label.capitalize()), bullet_list(lines))
    lost = [
        f"{rung.to_version}: {change.name}" + (f", {change.loses}" if change.loses else "")
        for rung in route.rungs
        for contract in rung.release.sheet.contract
        for change in contract.tables
        if change.rows == "any"
    ]
    if lost:
        page.add(heading("Rows that may be dropped on purpose"), bullet_list(lost, "!", CAREFUL))


def _add_needs(page: Page, route: Route) -> None:
    lines = []
    for rung in route.rungs:
        needs = rung.release.sheet.needs
        parts = [f"runtime {needs.runtime}"] if needs.runtime else []
        for label, table_of in (
            ("", needs.database), ("", needs.tools), ("", needs.parts), ("package ", needs.packages),
        ):  # fmt: skip
            parts += [f"{label}{name} {wanted}" for name, wanted in table_of.items()]
        parts += [f"licence: {needs.licence}"] if needs.licence else []
        parts += [f"done before: {needs.people.what}"] if needs.people else []
        if parts:
            lines.append(f"{rung.to_version}: {'; '.join(parts)}")
    if lines:
        page.add(heading("Needs"), bullet_list(lines))


def _add_fixes(page: Page, label: str, fixes: Sequence[Fix]) -> None:
    if not fixes:
        return
    lines = []
    for fix in fixes[:_LISTED]:
        line = Text(one_line(f"{fix.version}: {fix.text}"))
        if fix.severity:
            line.append(f" ({fix.severity})", style=_SEVERITY_STYLES.get(fix.severity, FAINT))
        lines.append(line)
    if len(fixes) > _LISTED:
        lines.append(Text(f"and {len(fixes) - _LISTED} more", style=FAINT))
    page.add(heading(label), bullet_list(lines))


def rungs_table(route: Route):  # type: ignore[no-untyped-def]
    """The rungs of a route."""
    ruled = table(["rung", "from", "to", "schema", "why", "changes"], fold=[4, 5])
    for number, rung in enumerate(route.rungs, start=1):
        sheet = rung.release.sheet
        parts = []
        if sheet.migrations:
            parts.append(count_of(len(sheet.migrations), "migration"))
        keys = sum(len(one.renamed) + len(one.added) + len(one.retired) for one in sheet.settings)
        parts += [count_of(keys, "settings key")] if keys else []
        parts += [count_of(len(sheet.files.moved), "path") + " moved"] if sheet.files.moved else []
        parts += [f"{name} {version}" for name, version in sheet.release.parts.items()]
        version, before = str(rung.to_version), str(rung.from_version)
        ruled.add_row(str(number), before, version, sheet.release.schema_version, rung.why, ", ".join(parts))
    return ruled
