"""Surveys as pages, and what changed between two of them."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from yellow_ladder.report.look import (
    BAD,
    CAREFUL,
    FAINT,
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
from yellow_ladder.services import ServiceState
from yellow_ladder.survey import AddOn, ProbeAnswer, Survey
from yellow_ladder.survey.drift.edits import Edit
from yellow_ladder.survey.records import SurveyedDatabase
from yellow_ladder.survey.saved import SiteChanges
from yellow_ladder.words import bytes_in_words, count_of, moment_in_words, one_line

_LISTED, _LISTED_IN_DETAIL = 8, 200


def survey_page(
    survey: Survey,
    troubles: Sequence[str] = (),
    edits: Sequence[Edit] = (),
    *,
    detail: bool = False,
    unfinished: str = "",
) -> Page:
    """What is there now; with `detail`, the paths behind the counts and edits line by line. A climb that is
    `unfinished` comes first: all else is seen half-way.
    """
    version = str(survey.version) if survey.version else "version unknown"
    page = Page().add(title(survey.site, f"{survey.product} {version}", survey.root))
    if unfinished:
        page.add(verdict(unfinished, good=False))
    findings = [*troubles, *survey.findings]
    if findings:
        page.add(bullet_list(findings, "!", CAREFUL))
    rows = [("versions", _answers_table([*survey.answers, *survey.programs])), ("services", _services(survey))]
    rows.append(("files", _files(survey)))
    rows += [("settings", _settings(survey))] if survey.settings else []
    rows.append(("add-ons", Text("\n").join([_addon(one) for one in survey.addons]) if survey.addons else Text("none")))
    page.add(labelled(rows))
    for database in survey.databases:
        _add_database(page, database, detail=detail)
    if detail:
        _add_detail(page, survey, edits)
    if unfinished:
        return page.add(
            next_command(("yl climb --continue", "go on where it was cut off"), ("yl descend", "go back to before it"))
        )
    more = () if detail else (("yl survey --detail", "the paths behind the counts, edits line by line"),)
    return page.add(
        next_command(("yl route", "the way to the newest release"), ("yl check", "whether it can begin"), *more)
    )


def _last(path: str) -> str:
    return path.rsplit("/", 1)[-1]


def _answers_table(answers: Sequence[ProbeAnswer]) -> Text:
    lines = []
    for one in answers:
        label = one.part if one.of in ("runtime", "tool") else f"{one.of} {one.part}".strip()
        says = Text(one_line(one.says)) if one.says else Text("says nothing", style=CAREFUL)
        lines.append(Text.assemble(f"{label} ", says, (f"  {one_line(one.where)}", FAINT)))
    return Text("\n").join(lines)


def _services(survey: Survey) -> Text:
    lines = []
    for name, about in survey.services.items():
        style = GOOD if about.state is ServiceState.RUNNING else CAREFUL
        line = Text.assemble(f"{name} ", (str(about.state), style))
        parts = [f"since {moment_in_words(about.since)}"] if about.since else []
        parts += [f"process {about.pids[0]}"] if about.pids else []
        parts += [f"as {about.account}"] if about.account else []
        parts += [f"port {', '.join(map(str, about.ports))}"] if about.ports else []
        parts += [about.command_line] if about.state is ServiceState.UNKNOWN else []
        lines.append(line.append("  " + one_line(", ".join(parts)), style=FAINT))
    return Text("\n").join(lines) if lines else Text("none")


def _addon(addon: AddOn) -> Text:
    line = Text(one_line(f"{_last(addon.path)} {addon.version}".rstrip())).append(f"  {addon.origin}", style=FAINT)
    if addon.works_with:
        line.append(f", works with {one_line(addon.works_with)}", style=FAINT)
    if addon.newer:
        fits = f" for {addon.newer_works_with}" if addon.newer_works_with else ""
        line.append(one_line(f", {addon.newer}{fits} in the release source"), style="cyan")
    if addon.trouble:
        line.append(one_line(f", {addon.trouble}"), style=CAREFUL)
    return line


def _settings(survey: Survey) -> Text:
    lines = []
    for one in survey.settings:
        line = Text(one_line(one.file))
        what = "by lines" if one.form == "lines" else f"{one.form}, {count_of(one.keys, 'key')}"
        differ = f", {len(one.own):,} not as shipped" if one.against else ", nothing tells how it was shipped"
        lines.append(line.append(f"  {what}{differ}", style=FAINT))
    return Text("\n").join(lines)


def _files(survey: Survey) -> Text:
    files = survey.files
    known = f"{files.unchanged:,} as in {files.reference}" if files.reference else "release package not at hand"
    parts: list[str | tuple[str, str]] = [known]
    for name, found in (
        ("edited", files.edited),
        ("missing", files.missing),
        ("turned into something else", files.turned),
        ("with other rights", files.rights),
        ("added", files.added),
        ("left over", files.leftover),
    ):
        parts += [(f"{len(found):,} {name}", CAREFUL)] if found else []
    parts += [
        (f"{count_of(len(paths), 'foreign file')} in {one_line(top)}", CAREFUL) for top, paths in files.foreign.items()
    ]
    parts += [count_of(len(paths), _KEPT_WORDS[kind]) for kind, paths in files.kept.items()]
    parts.append(f"{survey.data_files:,} in data folders ({bytes_in_words(survey.data_bytes)})")
    return Text(", ").join([Text.assemble(part) for part in parts])


_KEPT_WORDS = {
    "settings": "settings file",
    "keys": "key file",
    "licences": "licence file",
    "assets": "asset",
    "addons": "add-on file",
}


_KEPT_HEADINGS = {
    "settings": "settings",
    "keys": "keys",
    "licences": "licences",
    "assets": "assets: the site's own in place of the release's",
    "addons": "files of the site's own add-ons",
}


_MOST_EMPTY = 12


def _add_database(page: Page, database: SurveyedDatabase, *, detail: bool) -> None:
    if database.trouble:
        page.add(Text(one_line(f"database {database.name}: {database.trouble}"), style=BAD))
        return
    total = sum(database.tables.values())
    what = [database.engine, bytes_in_words(database.size_bytes), count_of(total, "row"), database.encoding]
    what += [count_of(count, kind, _PLURALS.get(kind, "")) for kind, count in database.objects.items()]
    what += (
        [f"{count_of(database.migrations, 'migration')}, last {database.last_migration}"] if database.migrations else []
    )
    ruled = table(["table", "rows"], right=[1])
    empty = [name for name, count in database.tables.items() if not count]
    empty = [] if detail or len(empty) <= _MOST_EMPTY else empty
    for name, count in database.tables.items():
        if name not in empty:
            ruled.add_row(name, f"{count:,}")
    if empty:
        ruled.add_row(f"{len(empty)} more, all empty (--detail names them)", "0")
    page.add(Text.assemble("database ", (database.name, "bold"), " · " + " · ".join(what)), ruled)
    if detail:
        users = list(database.users)
        rows = [("collations", ", ".join(database.collations)), ("sequences", ", ".join(database.sequences) or "none")]
        page.add(labelled([*rows, ("open in", ", ".join(users) or "no process that is seen from here")]))


def _add_detail(page: Page, survey: Survey, edits: Sequence[Edit]) -> None:
    files = survey.files
    if files.edited:
        page.add(heading(f"edited: an upgrade replaces them ({len(files.edited):,})"), bullet_list(files.edited))
    for edit in edits:
        page.add(heading(edit.path), _difference(edit))
    for one in survey.settings:
        if one.own:
            ruled = table(["key", "as shipped", "here"], fold=[0, 1, 2])
            for key, before, here in one.own[:_LISTED_IN_DETAIL]:
                ruled.add_row(one_line(key), one_line(before), one_line(here))
            page.add(heading(one_line(f"{one.file}: not as in {one.against} ({len(one.own):,})")), ruled)
    groups: dict[str, Sequence[str]] = {
        "missing": files.missing,
        "turned into something else": [f"{path} {why}" for path, why in files.turned.items()],
        "with other rights": [f"{path} {why}" for path, why in files.rights.items()],
        "left over from an older release": [f"{path}  {version}" for path, version in files.leftover.items()],
        **{f"foreign: {top} has nothing of this product": paths for top, paths in files.foreign.items()},
        "added: neither the release's nor named in the site file": files.added,
        **{_KEPT_HEADINGS[kind]: paths for kind, paths in files.kept.items()},
    }
    for name, paths in groups.items():
        if paths:
            shown = list(paths[:_LISTED_IN_DETAIL])
            shown += [f"and {len(paths) - len(shown):,} more"] if len(paths) > len(shown) else []
            page.add(heading(f"{name} ({len(paths):,})"), bullet_list(shown))


def _difference(edit: Edit) -> Text:
    if edit.trouble:
        return Text(one_line(edit.trouble), style=CAREFUL)
    styles = {"+": GOOD, "-": "red", "@": "cyan"}
    text = Text()
    for line in edit.lines:
        shown = line.expandtabs(4) if line.isprintable() else ascii(line)[1:-1]
        text.append(shown + "\n", style=styles.get(line[:1], FAINT))
    text.rstrip()
    return text


def saved_line(name: str) -> Text:
    """That a survey was kept, and what for."""
    return Text.assemble(
        ("✔ ", GOOD), f"kept as {name}; see what changed since with ", (f"yl survey --against {name}", "bold cyan")
    )


def changes_page(changes: SiteChanges, *, detail: bool = False) -> Page:
    """What changed between two looks at the site."""
    since = f"since {changes.since}, {moment_in_words(changes.since_when)}"
    page = Page()
    if changes.is_nothing:
        return page.add(verdict(f"nothing has changed {since}", good=True))
    page.add(title("What changed", since))
    if changes.versions or changes.settings:
        ruled = table(["", "what", "before", "now"], fold=[1, 2, 3])
        settings = [(f"{key} in {file}", before, now) for file, key, before, now in changes.settings]
        for label, found in (("version", changes.versions), ("setting", settings)):
            for what, before, now in found:
                ruled.add_row(Text(label, style=FAINT), what, before or "–", now or "–")
        page.add(ruled)
    if changes.rows:
        ruled = table(["table", "rows before", "rows now", "change"], right=[1, 2, 3])
        for name, before_rows, now_rows in changes.rows:
            ruled.add_row(name, f"{before_rows:,}", f"{now_rows:,}", f"{now_rows - before_rows:+,}")
        page.add(ruled)
    if changes.schema:
        page.add(heading(f"Schema ({len(changes.schema)})"), bullet_list(changes.schema))
    for kind, paths in changes.files.items():
        most = _LISTED_IN_DETAIL if detail else _LISTED
        shown = list(paths[:most])
        shown += [f"and {len(paths) - most:,} more: --detail lists them"] if len(paths) > most else []
        page.add(heading(f"{_CHANGE_WORDS[kind]} ({len(paths):,})"), bullet_list(shown))
    return page


_CHANGE_WORDS = {
    "added": "Files added",
    "missing": "Files gone",
    "content": "Files with another content",
    "rights": "Files with another owner or mode",
}


_PLURALS = {"index": "indexes", "policy": "policies"}
