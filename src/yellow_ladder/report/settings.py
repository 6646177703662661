"""What becomes of the site's settings, as pages."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from rich.text import Text

from yellow_ladder.report.look import (
    BAD,
    CAREFUL,
    FAINT,
    GOOD,
    Page,
    heading,
    labelled,
    next_command,
    table,
    title,
    verdict,
)
from yellow_ladder.route import Route
from yellow_ladder.settings.forecast import FileForecast, Forecast, Told
from yellow_ladder.settings.merging.outcomes import Fate
from yellow_ladder.settings.notes import note_of, shown
from yellow_ladder.site.site import Site
from yellow_ladder.words import count_of, one_line

# First what needs somebody, then what changes, then what stays.
_ORDER = (
    Fate.CONFLICT, Fate.RETIRED, Fate.RENAMED, Fate.NEW, Fate.FOLLOWS, Fate.GONE, Fate.LEFT_OUT, Fate.KEPT,
)  # fmt: skip
_STYLES = {Fate.CONFLICT: BAD, Fate.RETIRED: CAREFUL, Fate.RENAMED: CAREFUL, Fate.KEPT: GOOD}
# What comes and goes with releases may be hundreds of keys; the site's own values are looked at one by one.
_MOST_SHOWN = {Fate.NEW: 10, Fate.FOLLOWS: 10, Fate.GONE: 10}
_MOST_OF_OTHERS = 60


def settings_page(site: Site, route: Route, forecast: Forecast, secret: set[str], *, show_all: bool = False) -> Page:
    """Every file, key by key: conflicts first, then what changes, then what stays the site's own."""
    to, target = str(route.leg[-1].to_version), str(route.target)
    page = Page().add(title(f"Settings: {route.present} → {to}", site.name))
    if not forecast.files:
        return page.add(Text("The site file names no settings (keep.settings)."))
    page.add(_verdict(forecast))
    cut = False
    for one in forecast.files:
        page.add(heading(one_line(f"{one.file} ({_read_as(one)})")), _compared(one))
        told = sorted(one.summary, key=lambda key: _ORDER.index(key.outcome.fate))
        shown_keys = told if show_all else list(_without_the_many(told))
        cut = cut or len(shown_keys) < len(told)
        if told:
            page.add(_keys_table(shown_keys, secret=one.file in secret, several=len(route.leg) > 1))
        if len(shown_keys) < len(told):
            page.add(Text(f"and {len(told) - len(shown_keys):,} more", FAINT))
    commands = [(f"yl settings --to {target} --all", "every key")] if cut else []
    if forecast.open:
        first = forecast.open[0].outcome.key
        decide = f"yl settings --to {target} --decide '{first}=mine'"
        commands.insert(0, (decide, "or =new, or =VALUE; at a terminal you are asked"))
    else:
        commands.insert(0, (f"yl settings --to {target} --into DIR", "look at the merged files"))
        commands.append((f"yl climb --to {target}", "see the plan and climb"))
    return page.add(next_command(*commands))


def _without_the_many(told: Iterable[Told]) -> Iterator[Told]:
    seen: Counter[Fate] = Counter()
    for one in told:
        fate = one.outcome.fate
        seen[fate] += 1
        if seen[fate] <= _MOST_SHOWN.get(fate, _MOST_OF_OTHERS):
            yield one


def _verdict(forecast: Forecast) -> Text:
    left = len(forecast.open)
    if left:
        words = f"{count_of(left, 'conflict')} to decide: changed here and by a release, differently"
        return verdict(words, good=False)
    counts = Counter(one.outcome.fate for one in forecast.summary)
    own = counts[Fate.KEPT] + counts[Fate.RENAMED] + counts[Fate.LEFT_OUT]
    return verdict(f"nothing to decide; {count_of(own, 'setting')} of your own stay", good=True)


def _read_as(one: FileForecast) -> str:
    return "merged by lines" if one.form == "lines" else one.form


def _compared(one: FileForecast) -> Text:
    if one.base:
        return Text(f"compared with {one_line(one.base)}", FAINT)
    if not one.told:
        return Text("the releases ship no such file and change nothing in it", FAINT)
    return Text("no file of the installed release to compare with", FAINT)


def _keys_table(told: list[Told], *, secret: bool, several: bool):  # type: ignore[no-untyped-def]
    columns = ["", "key", "detail", *(["at"] if several else [])]
    ruled = table(columns, fold=[1, 2])
    for one in told:
        note = note_of(one, secret=secret)
        fate = Text(str(note.fate), _STYLES.get(note.fate, ""))
        ruled.add_row(fate, one_line(note.key), one_line(note.detail), *([one.version] if several else []))
    return ruled


def conflict_page(one: Told, left: int, *, secret: bool) -> Page:
    """One conflict, for somebody who decides it."""
    outcome = one.outcome
    page = Page().add(heading(one_line(f"{outcome.key} in {one.file}, at {one.version} ({left} left)")))
    sides = (outcome.sides.base, outcome.sides.mine, outcome.sides.new)
    names = ("before", "yours", "new")
    absent = ("not set", "taken out", "taken out")
    return page.add(
        labelled([
            (name, Text(one_line(shown(outcome.key, value, secret=secret)) or gone))
            for name, value, gone in zip(names, sides, absent, strict=True)
        ])
    )  # fmt: skip
