"""Drafts the sheet of a release that commands make: the environment in use, with another version of the application."""

from __future__ import annotations

import json
from pathlib import Path

from yellow_ladder.discovery.extras import extras_in
from yellow_ladder.discovery.shapes import (
    Environment,
    application_of,
    find_environment,
    is_of_series,
    is_part_of,
    series,
)
from yellow_ladder.drafting.parts import Draft, Known, head, migrations, quoted
from yellow_ladder.errors import BadInput, LadderError, Problem
from yellow_ladder.release.versions import Version
from yellow_ladder.words import some_of


def draft_built(known: Known, version: Version, source: Path) -> Draft:
    """The draft for a version; raises BadInput where the release in use is no environment, or has a sheet already."""
    site = known.site
    environment = _environment(known)
    if environment is None:
        text = f"{version} is no archive, and {site.root} is no site whose releases commands make"
        remedy = 'put its archive into the release source; placement = "pointer" has releases that are made'
        raise BadInput(Problem("not-built", text, remedy, str(version)))
    sheet = source / f"{site.record.product}-{version}.release.toml"
    if sheet.exists():
        raise BadInput(Problem("sheet-there", f"there is a sheet already: {sheet}", "edit it", str(sheet)))
    left: list[str] = []
    lines = head(known, version, f"the environment of {known.installed or 'the release in use'}", "", left)
    if environment.runtime == "python":
        made, files = _python(known, version, environment, source, left)
    else:
        made, files = _node(known, version, environment, source, left)
    lines += ["", *made]
    if known.is_to_come(version):
        lines += ["", *migrations(version, [], left)]
    return Draft(sheet, version, "\n".join(lines) + "\n", tuple(left), tuple(files))


def _environment(known: Known) -> Environment | None:
    site = known.site
    if site.record.placement != "pointer":
        return None
    try:
        return find_environment(site.root / site.release_path)
    except (LadderError, OSError):
        return None


def _python(
    known: Known, version: Version, environment: Environment, source: Path, left: list[str]
) -> tuple[list[str], list[tuple[Path, str]]]:
    """An environment with the packages that somebody asked for, the application and its parts at the new version.

    Whatever has the product's name in a registry may be somebody else's: without a package that is known to be it, no
    command is drafted, since installing runs code.
    """
    ours = application_of(environment, str(known.installed), [known.site.record.product])
    folder = f"{{release}}/{environment.folder}" if environment.folder else "{release}"
    packages = source / f"packages-{version}.txt"
    runtime = "{runtime}" if known.site.record.runtimes else environment.made_with
    made = [runtime, "-m", "venv", folder]
    if environment.maker:  # it puts programs there that the runtime's own way does not
        made = [environment.maker, "--python", runtime, folder]
        left.append(f"{version}: {environment.maker}, which made the environment in use, is there to make another")
    commands = (
        made,
        [f"{folder}/bin/python", "-m", "pip", "install", "--requirement", f"{{source}}/{packages.name}"],
    )
    if not ours:
        left.append(f"{version}: which package is the application, and how its environment is made")
        install = [f"{folder}/bin/python", "-m", "pip", "install", f"THE-PACKAGE=={version}"]
        return ["# [archive.build]", f"# commands = [[{', '.join(map(quoted, install))}]]"], []
    whole = ours, dict(environment.asked_for)[ours]
    extras = extras_in(known.site.root / known.site.release_path / environment.folder, ours)
    named = f"{ours}[{','.join(extras)}]" if extras else ours
    why = f"told by what else is there: {named}" if extras else f"like {ours}[postgres], which no environment tells"
    left.append(f"{version}: extras of {ours}, {why}")
    wanted = [f"{named}=={version}", *_beside(environment, whole, version, left)]
    held = [one for one in environment.held if not is_of_series(one, whole)]
    if held:
        left.append(f"{version}: whether what was asked for besides is to be held down again, in {packages.name}")
        wanted += ["", "# Asked for besides, though others bring them: maybe held down, for the version in use."]
        wanted += [f"# {one}=={its}" for one, its in held]
    lines = ["[archive.build]", f"files = [{quoted(packages.name)}]", "commands = ["]
    lines += [f"    [{', '.join(map(quoted, one))}]," for one in commands]
    return [*lines, "]"], [] if packages.exists() else [(packages, "\n".join(wanted) + "\n")]


def _beside(environment: Environment, whole: tuple[str, str], version: Version, left: list[str]) -> list[str]:
    """What was asked for beside the application: its parts at its new version or of its new series, others as they are;
    of what others bring anyway its parts alone.
    """
    wanted, parts, alike = list[str](), list[str](), list[str]()
    for one in (*environment.asked_for, *environment.held):
        if one == whole:
            continue
        if is_part_of(one, whole):
            parts.append(one[0])
            wanted.append(f"{one[0]}=={version}")
        elif is_of_series(one, whole) and series(str(version)):
            alike.append(one[0])
            wanted.append(f"{one[0]}~={series(str(version))}.0")
        elif one in environment.asked_for:
            wanted.append(f"{one[0]}=={one[1]}")
    for names, what in ((parts, "released in the same versions as"), (alike, "released in the same series as")):
        if names:
            left.append(f"{version}: whether {some_of(names, 3)} {_are(names)} {what} {whole[0]}, as before")
    return wanted


def _are(names: list[str]) -> str:
    """The verb for so many."""
    return "is" if len(names) == 1 else "are"


def _node(
    known: Known, version: Version, environment: Environment, source: Path, left: list[str]
) -> tuple[list[str], list[tuple[Path, str]]]:
    """A folder of libraries with the packages that the one in use asks for, the application's own at the new version;
    as for Python, of an application that is known alone.
    """
    ours = application_of(environment, str(known.installed), [known.site.record.product])
    folder = f"{{release}}/{environment.folder}" if environment.folder else "{release}"
    install = ["npm", "install", "--omit=dev", "--prefix", folder]
    if not ours:
        left.append(f"{version}: which package is the application, and how its libraries are made")
        install.append(f"THE-PACKAGE@{version}")
        return ["# [archive.build]", f"# commands = [[{', '.join(map(quoted, install))}]]"], []
    packages = source / f"packages-{version}.json"
    asked = {**dict(environment.asked_for), ours: str(version)}
    text = json.dumps({"private": True, "dependencies": asked}, indent=2) + "\n"
    copy = ["cp", f"{{source}}/{packages.name}", f"{folder}/package.json"]
    commands = [copy, install] if not environment.folder else [["mkdir", "-p", folder], copy, install]
    lines = ["[archive.build]", f"files = [{quoted(packages.name)}]", "commands = ["]
    lines += [f"    [{', '.join(map(quoted, one))}]," for one in commands]
    return [*lines, "]"], [] if packages.exists() else [(packages, text)]
