"""Plans, proofs, prices and past climbs as pages."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

from rich.text import Text

from yellow_ladder.checks import Level
from yellow_ladder.climb.conduct import SettledClimb
from yellow_ladder.climb.planning.announced import Announced, announced
from yellow_ladder.climb.planning.prospect import Prospect
from yellow_ladder.climb.proving.price import FOLDER_NAME
from yellow_ladder.climb.proving.written import NOBODY_WROTE, NOTHING_ASIDE
from yellow_ladder.climb.record.catalog import Climb
from yellow_ladder.climb.record.commands import OF_SITE, PlannedRemaking, all_remade
from yellow_ladder.climb.record.journal import JournalRecord, What
from yellow_ladder.climb.record.plan import Plan, RungPlan, WayBack
from yellow_ladder.climb.record.standing import ClimbState, Standing
from yellow_ladder.climb.record.step_names import StepKind
from yellow_ladder.climb.steps.up import steps_up
from yellow_ladder.climb.works.proofs import NOTHING_CHANGED
from yellow_ladder.files.entry import Kind
from yellow_ladder.files.listing import in_order
from yellow_ladder.masking import masked_url
from yellow_ladder.report.checks import findings_table
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
from yellow_ladder.report.routes import rungs_table
from yellow_ladder.settings.merging.outcomes import Fate
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.site.records import Pointer
from yellow_ladder.site.site import Site
from yellow_ladder.words import bytes_in_words, count_of, moment_in_words, moment_of, one_line, time_in_words

# What is said of a step and is no news at the end.
QUIET = (NOBODY_WROTE, NOTHING_ASIDE, NOTHING_CHANGED)
_STATE_STYLES = {
    ClimbState.CLIMBED: GOOD,
    ClimbState.SETTLED: GOOD,
    ClimbState.DESCENDED: CAREFUL,
    ClimbState.GIVEN_UP: FAINT,
}


def plan_page(prospect: Prospect, plan: Plan) -> Page:
    """What will happen, for somebody who is about to agree to it."""
    page = Page().add(title(f"Plan: {plan.from_version} → {plan.to_version}", plan.site.name, str(plan.site.root)))
    page.add(rungs_table(prospect.route))
    if plan.beyond:
        words = f"This climb ends at the landing {plan.to_version}; then, before {plan.beyond.to_version}"
        page.add(heading(words), bullet_list(plan.beyond.instructions, "!", CAREFUL))
    warnings = [finding for finding in prospect.findings if finding.level is Level.WARN]
    if warnings:
        page.add(heading("Worth knowing"), findings_table(warnings))
    if plan.settings:
        page.add(heading("Settings"), *_settings_table(plan))
    commands = announced(plan)
    if commands:
        page.add(heading("Commands that will be run"), _commands_table(commands))
    early = "; files are copied before the site closes, then only what changed" if plan.first_copy else ""
    data = f"{count_of(prospect.survey.data_files, 'data file')} ({bytes_in_words(prospect.survey.data_bytes)})"
    page.add(
        labelled(
            [
                *(("made before", _making_in_words(one)) for one in plan.rungs if one.folder),
                ("closed to users", _window_in_words(plan)),
                ("known to be closed", _door_in_words(plan.site)),
                ("backed up first", f"{_backed_up_in_words(prospect)}, and read back{early}"),
                _staying_in_words(plan, data),
                *(("made anew", _remaking_in_words(one)) for one in all_remade(plan)),
                ("if a step fails", "the site goes back to " + plan.from_version + " by itself")
                if plan.site.record.on_failure == "go-back"
                else ("if a step fails", "it stops there and waits for you"),
                *(("the way back", words) for words in _ways_in_words(plan.ways_back)),
                *(("copied to", _place_in_words(one)) for one in plan.site.record.backup.copy_to if one.climb != "no"),
            ]
        )
    )
    return page


def _making_in_words(rung: RungPlan) -> str:
    use = "; it only carries the data on and is never in use" if rung.is_passage else ""
    return f"{rung.to_version} in {rung.folder}, while the site serves{use}"


def _window_in_words(plan: Plan) -> str:
    """How much happens while users are shut out, and what becomes of the data meanwhile."""
    kinds = [step.name.kind for step in steps_up(plan)]
    inside = kinds.index(StepKind.OPEN) - kinds.index(StepKind.CLOSE)
    data = "data folders are renamed, not copied" if plan.site.record.placement == "exchange" else "data stay in place"
    services = [spec.name for spec in plan.site.record.services if spec.name in plan.running and not spec.holds]
    servers = [spec.name for spec in plan.site.record.servers]
    services = [f"{one} (with each release)" for one in servers] + services
    told = f"; stopped and started: {', '.join(services)}" if services else ""
    return f"while {count_of(inside, 'step')} run; {data}{told}"


def _staying_in_words(plan: Plan, data: str) -> tuple[str, str]:
    """What is the site's own, and how it comes to the new release."""
    placement = plan.site.record.placement
    if placement == "exchange":
        return "carried across", f"settings, {data}, add-ons, keys, owners and modes"
    coming = sum(1 for rung in plan.rungs for one in in_order(plan.coming(rung)) if one.kind is not Kind.FOLDER)
    if placement == "overlay":
        going = sum(len(plan.going(rung)) for rung in plan.rungs)
        what = f"{count_of(coming, 'file')} of the releases come, {going:,} go; everything else stays as it is"
        return "stays in place", what
    pointing = plan.site.record.pointing or Pointer()
    what = f"the file {pointing.file}" if pointing.file else f"the link {pointing.link}"
    return "turned over", f"{what}; everything beside the releases stays, but for settings that they change"


def _backed_up_in_words(prospect: Prospect) -> str:
    databases = prospect.survey.databases
    size = bytes_in_words(sum(one.size_bytes for one in databases))
    return f"all files and databases ({size})" if databases else "all files"


def _remaking_in_words(made: PlannedRemaking) -> str:
    asked = f"; asked before and after: {', '.join(one.name for one in made.same)}" if made.same else ""
    how = ", as a copy" if made.copied else ""
    carried = f"; carried into it: {', '.join(made.carries)}" if made.carries else ""
    text = f"{made.before}, by {made.rung.to_version}{how}; the old folder stays aside and is the way back"
    return f"{text}{carried}{asked}"


def _commands_table(commands: Sequence[Announced]):  # type: ignore[no-untyped-def]
    ruled = table(["when", "command"], fold=[1])
    for one in commands:
        whose = " (of the site)" if one.whose == OF_SITE else ""
        words = Text(f"{one_line(one.name)}{whose}\n").append(one_line(one.words), FAINT)
        words.append(f"\nas {one.account}, for at most {time_in_words(one.within_s)}", FAINT)
        ruled.add_row(f"{one.rung} {one.at.split(',')[0]}", words)
    return ruled


def _door_in_words(site: Site) -> str:
    """How users are shut out, with paths as they are, and how it will be seen."""
    kept = site.record.maintenance
    if kept is None:
        return "the site file has no [maintenance]: users meet a stopped site"
    how = f"flag {site.short(site.flag)}" if site.flag is not None else f"command {' '.join(kept.close)}"
    if kept.setting is not None:
        how = f"{kept.setting.key} = {kept.setting.closed} in {kept.setting.file}"
    if kept.closed is None:
        return f"{how}; no page is asked whether it is so (maintenance.closed)"
    return f"{how}; {masked_url(site.filled(kept.closed.url))} must then answer {kept.closed.status}, or not at all"


def _place_in_words(target: CopyTarget) -> str:
    """Where the backup goes, and when."""
    when = {"before": "before anything is changed", "after": "when the site is open again"}[target.climb]
    return f"{target.name}, {when}{', encrypted' if target.is_sealed else ''}"


def _ways_in_words(ways: Iterable[WayBack]) -> list[str]:
    """How databases go back, and how long that takes; those of which the same is to be told stand together."""
    alike: dict[str, list[str]] = {}
    for way in ways:
        alike.setdefault(_way_in_words(way), []).append(way.database)
    return [
        f"database {names[0]}: {words}" if len(names) == 1 else f"databases {', '.join(names)}: each {words}"
        for words, names in alike.items()
    ]


def _way_in_words(way: WayBack) -> str:
    load = f"from the backup in about {time_in_words(way.load_s)}"
    if way.set_aside:
        return f"its server's folder {way.set_aside} is set aside and comes back, or {load}"
    if not way.clone:
        return f"{load} (no quick clone: {way.why})"
    return f"from a quick clone in about {time_in_words(way.clone_s)}, or {load}"


# What comes and goes with the releases may be hundreds of keys, and `yl settings` shows them all.
_MOST_KEYS = {Fate.NEW: 12, Fate.FOLLOWS: 12, Fate.GONE: 12}


def _settings_table(plan: Plan):  # type: ignore[no-untyped-def]
    ruled = table(["file", "key", "change", "detail"], fold=[3])
    seen: Counter[Fate] = Counter()
    left = 0
    for change in plan.settings:
        if change.fate is Fate.KEPT and not change.took:
            continue
        seen[change.fate] += 1
        if seen[change.fate] > _MOST_KEYS.get(change.fate, len(plan.settings)):
            left += 1
            continue
        ruled.add_row(*map(one_line, (change.file, change.key, str(change.fate), change.detail)))
    if not ruled.row_count:
        return [Text("No key changes; `yl settings` shows what the releases change besides.")]
    more = [Text(f"and {left:,} more that come and go with the releases; `yl settings` shows them", FAINT)]
    return [ruled, *(more if left else [])]


def descended_page(plan: Plan, standing: Standing) -> Page:
    """The end of a descent."""
    was_closed = any(step.kind is StepKind.BACK_CLOSE for step in standing.down)
    back = f"{plan.site.name} is at {plan.from_version} again, as before the climb"
    still = f"nothing of {plan.site.name} was touched: it is at {plan.from_version}, as before"
    page = Page().add(verdict(back if was_closed else still, good=True))
    newer = plan.folder / FOLDER_NAME
    if newer.is_dir():
        page.add(labelled([("written since", f"kept in {plan.site.short(newer)}")]))
    told = (StepKind.BACK_PROVE, StepKind.BACK_KEEP_WRITTEN)
    remarks = [
        str(facts["summary"]) for step, facts in standing.down.items() if step.kind in told and "summary" in facts
    ]
    remarks = [one for one in remarks if one not in QUIET]
    if remarks:
        page.add(bullet_list(remarks, "!", CAREFUL))
    return page.add(
        next_command(("yl survey", "see what is there"), (f"yl climb --to {plan.to_version}", "climb again"))
    )


def settled_page(settled: Sequence[SettledClimb]) -> Page:
    """What settling has freed."""
    page = Page()
    if not settled:
        return page.add(Text("No climb is due to be settled."))
    for one in settled:
        kept = "removed too" if one.backup_dropped else f"kept: {one.backup}"
        page.add(verdict(f"the climb {one.climb} is settled", good=True))
        page.add(labelled([("freed", bytes_in_words(one.freed_bytes)), ("backup", kept)]))
    return page


def history_page(
    climbs: Sequence[tuple[Climb, Sequence[JournalRecord]]], theirs: Mapping[str, int], *, steps: bool
) -> Page:
    """Past climbs, newest last; `theirs` are counts of other sites' that lie here too, by site file."""
    page = Page().add(
        *(Text(f"{site_file}: its climbs lie here too ({n:,})", style=FAINT) for site_file, n in theirs.items())
    )
    if not climbs:
        return page.add(Text("No climbs yet."), next_command(("yl route", "the way to the newest release")))
    # Its name says from where to where: on a narrow terminal the state needs the room.
    ruled = table(["climb", "began", "took", "state"], fold=[3])
    for climb, records in climbs:
        plan, state = climb.plan, climb.standing.state
        style = _STATE_STYLES.get(state, BAD)
        began = moment_in_words(records[0].at) if records else "–"
        took = time_in_words(_seconds(records)) if records else "–"
        ended = climb.standing.outcome
        style = CAREFUL if climb.standing.accepted else style
        shown = f"{ended}, on the way to {plan.beyond.to_version}" if plan.beyond else ended
        ruled.add_row(plan.climb, began, took, Text(shown, style=style))
    page.add(ruled)
    for climb, records in climbs:
        if climb.standing.why:
            page.add(Text(one_line(f"{climb.name}: {climb.standing.why}"), style=FAINT))
        if steps:
            page.add(heading(climb.name), _steps_table(records))
    last = climbs[-1][0].standing.state
    if last.is_open:
        return page.add(next_command(("yl climb --continue", "go on"), ("yl descend", "go back")))
    beyond = climbs[-1][0].plan.beyond
    if beyond and last in (ClimbState.CLIMBED, ClimbState.SETTLED):
        page.add(bullet_list(beyond.instructions, "!", CAREFUL))
        return page.add(next_command(("yl climb --continue", f"go on to {beyond.to_version} when that is done")))
    if last in (ClimbState.DESCENDED, ClimbState.GIVEN_UP):
        return page.add(next_command(("yl check", "whether another climb can begin"), ("yl climb", "climb again")))
    if last is ClimbState.CLIMBED:
        return page.add(
            next_command(
                ("yl verify", "compare data with before"), ("yl settle", "accept for good"), ("yl descend", "go back")
            )
        )
    return page


def _seconds(records: Sequence[JournalRecord]) -> float:
    """From the first record to the last of the same day's work; waiting for somebody to come back is not counted."""
    total = 0.0
    for record in records:
        total += float(record.facts.get("took_s", 0.0))
    return total


def _steps_table(records: Sequence[JournalRecord]):  # type: ignore[no-untyped-def]
    ruled = table(["step", "ended", "took"], right=[2])
    for record in records:
        if record.what in (What.DONE, What.FAILED):
            took = time_in_words(float(record.facts["took_s"])) if "took_s" in record.facts else "failed"
            ended = f"{moment_of(record.at):%H:%M:%S}"
            ruled.add_row(record.step, ended, took)
    return ruled
