"""What `yl init` found, as a page."""

from __future__ import annotations

from pathlib import Path

from rich.text import Text

from yellow_ladder.discovery import Discovery
from yellow_ladder.masking import masked_line
from yellow_ladder.report.look import CAREFUL, FAINT, Page, bullet_list, heading, labelled, next_command, title, verdict
from yellow_ladder.words import one_line

_LONGEST = 100


def _beginning(words: str) -> str:
    """Words that may go on for long; where they are cut, one sees it."""
    return words if len(words) <= _LONGEST else f"{words[: _LONGEST - 1]}…"


def _version(found: Discovery) -> list[tuple[str, str]]:
    rows = [("version", f"{found.version}  {found.version_file}" if found.version_file else "no version file found")]
    if found.behind is not None:
        rows = [("version", f"{found.version}  link {found.behind.link} → {found.behind.release}")]
    if found.package:
        rows.append(("release", one_line(f"{found.package}  (what is not in it is the site's own)")))
    return rows


def discovery_page(found: Discovery, text: str, left: list[str], target: Path | None) -> Page:
    """What was found, what is left to fill in, and where it was written; without a target, the text itself."""
    page = Page().add(title(found.root.name, f"{found.product} {found.version}".strip(), str(found.root)))
    rows = _version(found)
    if found.environment is not None:
        runtime, made_with = found.environment.runtime, found.environment.made_with
        rows.append(("runtime", runtime if made_with == runtime else f"{runtime}, made with {made_with}"))
    if found.others:
        rows.append(("others", "\n".join(f"{one}  (has a product of its own)" for one in found.others)))
    rows.append(
        ("databases", "\n".join(one_line(f"{one.url}  {one.where}") for one in found.databases) or "none found")
    )
    for server in found.servers:
        works = "a server is at work in it" if server.is_live else "no server is at work in it"
        rows.append(("server", one_line(f"{server.folder}  (a data folder of {server.engine}; {works})")))
    for label, guesses in (
        ("settings", found.settings), ("data", found.data), ("logs", found.logs), ("caches", found.caches),
        ("environment", found.environment_files),
        ("add-ons", found.addons),
        ("own files", found.assets),
        ("keys", found.keys), ("licences", found.licences),
    ):  # fmt: skip
        if guesses:
            rows.append((label, "\n".join(one_line(f"{one.what}  ({one.why})") for one in guesses)))
    units = [one_line(str(unit.file)) for unit in found.units]
    runs = [
        one_line(f"process {one.pid}, {one.account}: {_beginning(' '.join(one.words))}")
        + (f"; {one.alike} more like it" if one.alike else "")
        for one in found.running
    ]
    rows.append(("services", "\n".join(units or ["no unit file points here", *runs])))
    if found.served:
        rows.append(
            (
                "served by",
                "\n".join(
                    one_line(": ".join((one.file, *filter(None, [", ".join(one.units)])))) for one in found.served
                ),
            )
        )
    if found.jobs:
        rows.append(
            ("jobs", "\n".join(one_line(f"{one.file}: {_beginning(masked_line(one.says))}") for one in found.jobs))
        )
    page.add(labelled([(label, Text(value)) for label, value in rows]))
    if found.shortened:
        page.add(Text("The folder is very large: only a part of it was looked at.", style=CAREFUL))
    if target is None:
        page.add(Text(text.rstrip("\n"), style=FAINT, overflow="fold"))
    else:
        page.add(verdict(f"written: {target}", good=True))
    page.add(heading("Left to fill in"), bullet_list(left, "!", CAREFUL))
    where = f"--site {target} " if target and target.parent != Path.cwd() else ""
    survey = (f"yl {where}survey", "see whether it is understood")
    sheet = [(f"yl {where}sheet", "draft the release sheets that are missing")] if found.package else []
    return page.add(next_command(survey, *sheet))
