"""Surveys, routes and checks as pages."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from rich.text import Text

from yellow_ladder.checks import Finding, Level
from yellow_ladder.report.look import (
    BAD,
    CAREFUL,
    FAINT,
    GOOD,
    Page,
    bullet_list,
    facts,
    heading,
    next_command,
    table,
    title,
    verdict,
)
from yellow_ladder.report.words import bytes_in_words, count_of
from yellow_ladder.route import Route, Rung
from yellow_ladder.survey import Survey

LEVEL_STYLES = {Level.STOP: BAD, Level.WARN: CAREFUL, Level.OK: GOOD}
_LISTED = 12


def survey_page(survey: Survey, *, detail: bool = False) -> Page:
    """What is there now; with `detail`, the paths behind the counts."""
    version = str(survey.version) if survey.version else "version unknown"
    page = Page().add(title(survey.site, f"{survey.product} {version}", survey.root))
    if survey.findings:
        page.add(bullet_list(survey.findings, "!", CAREFUL))
    rows = [("versions", _witnesses(survey)), ("services", _services(survey)), ("files", _files(survey))]
    rows.append(("add-ons", ", ".join(f"{_last(a.path)} ({a.origin})" for a in survey.addons) or "none"))
    page.add(facts(rows))
    for database in survey.databases:
        if database.trouble:
            page.add(Text(f"database {database.name}: {database.trouble}", style=BAD))
            continue
        total = sum(database.tables.values())
        what = [database.engine, bytes_in_words(database.size_bytes), count_of(total, "row")]
        ruled = table(["table", "rows"], right=[1])
        for name, count in database.tables.items():
            ruled.add_row(name, f"{count:,}")
        page.add(Text.assemble("database ", (database.name, "bold"), " · " + " · ".join(what)), ruled)
    if detail:
        _add_detail(page, survey)
    return page.add(next_command(("yl route", "the way to the newest release"), ("yl check", "whether it can begin")))


def _last(path: str) -> str:
    return path.rsplit("/", 1)[-1]


def _witnesses(survey: Survey) -> str:
    return "   ".join(f"{one.of} {one.says or '–'} ({one.where})" for one in survey.witnesses)


def _services(survey: Survey) -> str:
    return ", ".join(f"{name} {state}" for name, state in survey.services.items()) or "none"


def _files(survey: Survey) -> str:
    files = survey.files
    parts = [f"{files.unchanged:,} as released"] if files.release_known else ["release package not at hand"]
    for name, paths in (("edited", files.edited), ("missing", files.missing), ("unclaimed", files.unclaimed)):
        parts += [f"{len(paths):,} {name}"] if paths else []
    parts += [count_of(len(paths), _KEPT_WORDS[kind]) for kind, paths in files.kept.items()]
    parts.append(f"{files.data_files:,} in data folders ({bytes_in_words(files.data_bytes)})")
    return ", ".join(parts)


_KEPT_WORDS = {
    "settings": "settings file",
    "keys": "key file",
    "licences": "licence file",
    "assets": "asset",
    "addons": "add-on file",
}


def _add_detail(page: Page, survey: Survey) -> None:
    files = survey.files
    groups = {"edited": files.edited, "missing": files.missing, "unclaimed": files.unclaimed, **files.kept}
    for name, paths in groups.items():
        if paths:
            page.add(heading(f"{name} ({len(paths):,})"), bullet_list(paths))


def route_page(route: Route, *, show_all: bool = False) -> Page:
    """Every rung: where it leads, why it is there, what it changes; with `show_all`, what was passed over."""
    count = count_of(len(route.rungs), "rung")
    page = Page().add(title(f"{route.present} → {route.target}", count))
    page.add(rungs_table(route))
    for word, label in (
        ("breaks", "breaks"),
        ("one_way", "one way: older releases cannot read it, going back restores the backup"),
        ("fixes", "fixes"),
    ):
        lines = [
            f"{rung.to_version}: {text}" + _severity(rung, word)
            for rung in route.rungs
            for text in getattr(rung.release.sheet.notes, word)
        ]
        if lines:
            page.add(heading(label.capitalize()), bullet_list(lines))
    if show_all and route.passed_over:
        ruled = table(["version", "why not"], fold=[1])
        for one in route.passed_over:
            ruled.add_row(str(one.version), one.why)
        page.add(heading("Passed over"), ruled)
    target = f" --to {route.target}"
    return page.add(
        next_command((f"yl check{target}", "ask every check"), (f"yl climb{target}", "see the plan and climb"))
    )


def _severity(rung: Rung, word: str) -> str:
    """How urgent a release's fixes are, behind each of them."""
    severity = rung.release.sheet.release.severity
    return f" ({severity})" if word == "fixes" and severity else ""


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
        version, before = str(rung.to_version), str(rung.from_version)
        ruled.add_row(str(number), before, version, sheet.release.schema_version, rung.why, ", ".join(parts))
    return ruled


def check_page(findings: Sequence[Finding], target: str) -> Page:
    """All findings, what stops first, with remedies."""
    stops = [finding for finding in findings if finding.level is Level.STOP]
    warns = [finding for finding in findings if finding.level is Level.WARN]
    page = Page()
    if stops:
        page.add(verdict(f"{count_of(len(stops), 'check')} of {len(findings)} stop the climb to {target}", good=False))
    else:
        words = f"nothing stops the climb to {target}: {len(findings)} answers"
        page.add(verdict(words + (f", {count_of(len(warns), 'warning')}" if warns else ""), good=True))
    page.add(findings_table(findings))
    if stops:
        return page.add(next_command(("yl check", "again, when that is mended")))
    return page.add(next_command((f"yl climb --to {target}", "see the plan and climb")))


def findings_table(findings: Iterable[Finding]):  # type: ignore[no-untyped-def]
    """Findings with their remedies below them."""
    ruled = table(["", "check", "seen"], fold=[2])
    for finding in findings:
        seen = Text(finding.saw)
        if finding.remedy:
            seen.append(f"\n→ {finding.remedy}", style="cyan")
        style = LEVEL_STYLES[finding.level]
        ruled.add_row(Text(str(finding.level), style=style), Text(finding.check, style=FAINT), seen)
    return ruled
