"""Add-ons: what lies in the add-on folders, and what each says of itself."""

from __future__ import annotations

import configparser
import json
import tomllib
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from yellow_ladder.files.reading import read_regular
from yellow_ladder.release.source import Release
from yellow_ladder.release.versions import Version, parse_range
from yellow_ladder.site.records import AddOnSheet
from yellow_ladder.site.site import Site
from yellow_ladder.survey.records import AddOn

_LARGEST_BYTES = 256 * 1024


def introduce(site: Site, addon: AddOn, offered: Sequence[Release]) -> AddOn:
    """The add-on with what its own sheet says, and the newest that the release source has of it."""
    sheet = site.record.addons
    path = site.root / addon.path / sheet.file
    try:
        said = _read(path, sheet)
        if said.get("works_with"):
            parse_range(said["works_with"])
        addon = replace(addon, **said)
    except (FileNotFoundError, NotADirectoryError):
        pass  # none, or an add-on that is a single file
    except (OSError, ValueError, configparser.Error) as fault:
        addon = replace(addon, trouble=f"{sheet.file} cannot be read: {fault}")
    newest = max((r for r in offered if r.sheet.release.addon == _name_of(addon)), default=None, key=_version_of)
    if newest is None or not _is_newer(newest.version, addon.version):
        return addon
    fits = newest.sheet.needs.parts.get(site.record.product, "")
    return replace(addon, newer=str(newest.version), newer_works_with=fits)


def _name_of(addon: AddOn) -> str:
    return addon.path.rsplit("/", 1)[-1]


def _version_of(release: Release) -> Version:
    return release.version


def _is_newer(offered: Version, have: str) -> bool:
    try:
        return offered > Version(have)
    except ValueError:
        return True


def _read(path: Path, sheet: AddOnSheet) -> dict[str, str]:
    if path.is_symlink():
        raise ValueError("it is a link")
    document = _parsed(path.suffix, read_regular(path, _LARGEST_BYTES).decode())
    found = {key: _at(document, getattr(sheet, key)) for key in ("name", "version", "works_with")}
    return {key: value for key, value in found.items() if value}


def _parsed(suffix: str, text: str) -> Any:
    if suffix == ".json":
        return json.loads(text)
    if suffix in (".ini", ".cfg"):
        parser = configparser.ConfigParser(interpolation=None)
        parser.read_string(text)
        return {name: dict(parser[name]) for name in parser.sections()}
    return tomllib.loads(text)


def _at(document: Any, dotted: str) -> str:
    here = document
    for part in dotted.split("."):
        here = here.get(part) if isinstance(here, dict) else None
    return here.strip() if isinstance(here, str) else ""
