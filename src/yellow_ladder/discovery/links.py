"""Finds what an application reaches by links that lead out of its folder: its settings in /etc, its data elsewhere."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.discovery.elsewhere import is_of_application
from yellow_ladder.discovery.readers import read_settings


@dataclass(frozen=True, slots=True)
class LinkOut:
    """A link below root, where it leads, and what is there: a folder, settings, or a file of another kind."""

    link: str
    leads_to: Path
    is_folder: bool
    is_settings: bool


def links_out(root: Path, links: Iterable[str]) -> Iterator[LinkOut]:
    """Links that lead to what may be the application's own outside its folder. One that an account has made counts only
    where it leads to what is that account's: whoever runs the application could make it lead anywhere.
    """
    for link in links:
        there = _trusted(root / link)
        if there is None or there.is_relative_to(root):
            continue
        if there.is_dir() and is_of_application(root, there):
            yield LinkOut(link, there, is_folder=True, is_settings=False)
        elif there.is_file():
            is_settings = bool(read_settings(there, is_told=True).pairs)
            if is_settings or is_of_application(root, there):
                yield LinkOut(link, there, is_folder=False, is_settings=is_settings)


def _trusted(link: Path) -> Path | None:
    """Where a link leads, over links of root's alone, or to what belongs to whoever made it; None for any other."""
    try:
        return nolinks.trusted(link)
    except nolinks.LinkInTheWay:
        with contextlib.suppress(OSError, RuntimeError):
            maker, there = nolinks.status_of(link).st_uid, link.resolve(strict=True)
            return there if maker and maker == there.stat().st_uid else None
    except OSError:
        pass
    return None
