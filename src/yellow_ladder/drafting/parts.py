"""The parts that every draft of a sheet has, whatever it is drafted from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder.discovery.writing.databases import printable, toml_text
from yellow_ladder.release.versions import Version
from yellow_ladder.site.site import Site
from yellow_ladder.survey.probes import ask


@dataclass(frozen=True, slots=True)
class Draft:
    """The draft of one sheet: where it is to lie, of which version, its text, files that it names, and what somebody
    has to see to.
    """

    sheet: Path
    version: Version
    text: str
    left: tuple[str, ...] = ()
    files: tuple[tuple[Path, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Known:
    """What is known around a draft: the site, the version that is installed, and all that there are releases of."""

    site: Site
    installed: Version | None
    versions: tuple[Version, ...]

    def is_to_come(self, version: Version) -> bool:
        """Whether the site may climb to it."""
        return self.installed is None or version > self.installed

    def before(self, version: Version) -> Version | None:
        """The version before it."""
        installed = () if self.installed is None else (self.installed,)
        return max((one for one in (*self.versions, *installed) if one < version), default=None)


def head(known: Known, version: Version, made_from: str, why: str, left: list[str]) -> list[str]:
    """Whose release it is, of which version and schema, and from where it is reached."""
    lines = [
        f"# Drafted by `yl sheet` from {printable(made_from)}.",
        "# Lines marked `guess` were not said by anything: see whether they are right.",
        "# Every key is explained in docs/release-sheet.md.",
        "format = 1",
        "",
        "[release]",
        f"product = {quoted(known.site.record.product)}",
        *([f"# {printable(why)}"] if why else []),
        f"version = {quoted(str(version))}",
        *_schema(known, version, left),
    ]
    before = known.before(version)
    if known.is_to_come(version) and before is not None:
        lines += [
            "",
            "[reach]",
            "# guess: from the release before it that is known; its vendor may allow more",
            f"from = {quoted(f'>={before},<{version}')}",
        ]
    return lines


def _schema(known: Known, version: Version, left: list[str]) -> list[str]:
    probe = next((one for one in known.site.record.versions if one.of == "schema" and not one.part), None)
    if probe is None:
        return []
    now = ask(known.site, probe).says
    if not now:
        left.append(f"schema of {version}: what the schema's probe says after it; it cannot be asked now")
        return []
    if known.installed is not None and now == str(known.installed):
        return ["# guess: the schema has the version's own number, as now", f"schema = {quoted(str(version))}"]
    if known.installed == version:
        return ["# what the database says now", f"schema = {quoted(now)}"]
    left.append(f"schema of {version}: what the schema's probe says after it; it says {now} now")
    return [f"# schema = {quoted(now)} # what the schema's probe says after this release; it says this now"]


def migrations(version: Version, programs: Sequence[tuple[str, str]], left: list[str]) -> list[str]:
    """How it migrates, as comments: by what is named so, or whatever way there is."""
    if programs:
        left.append(f"{version}: whether {' or '.join(printable(name) for _, name in programs)} migrates its data")
        lines = ["# guess, by its name: take away the # where it migrates the data"]
    else:
        left.append(f"{version}: how its data are migrated, if they are")
        lines = [
            "# How it migrates, where it does: by a file of SQL, by a command as here, or when",
            "# it is first started: `[migrations.by_start]` in place of the last two lines,",
            '# and the sign that it is done, like `url = "http://127.0.0.1:8000/"`.',
        ]
    for number, run in enumerate(programs or [("path/to/the/program", "its arguments")], 1):
        which = f"-{number}" if len(programs) > 1 else ""
        lines += [
            "# [[migrations]]",
            f"# id = {quoted(f'upgrade-{version}{which}')}",
            "# [migrations.command]",
            f"# run = [{', '.join(map(quoted, run))}]",
        ]
    return [
        *lines,
        "",
        "# What it changes in the data, nobody has told: the first climb goes back, and",
        "# leaves what it saw as seen-contract.toml, in the form that belongs here.",
    ]


def quoted(text: str) -> str:
    """Text as TOML writes it, on one line; what cannot be printed is escaped, since archives name what they like."""
    return toml_text(printable(text))
