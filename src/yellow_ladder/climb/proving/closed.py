"""A settings key that closes the site, as it stands in the tree: set, given back, and left out of comparing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

from blake3 import blake3

from yellow_ladder import nolinks
from yellow_ladder.climb.record.plan import Plan
from yellow_ladder.errors import LadderError
from yellow_ladder.files.copying import replace_content
from yellow_ladder.files.entry import Entry, Manifest
from yellow_ladder.files.manifest import Difference, compare_manifests
from yellow_ladder.files.reading import read_regular
from yellow_ladder.settings.closing import closed, is_the_same, opened
from yellow_ladder.site.keep_records import SettingsFile
from yellow_ladder.site.maintenance_records import ClosingKey
from yellow_ladder.site.site import Site

_NEW = "closing"


def close_settings(tree: Path, plan: Plan | None, site: Site) -> None:
    """Set the key in a tree's file, wherever a climb has it. May be repeated.

    Raises BadInput or OSError where the file cannot be read; whoever goes back goes on without.
    """
    _change(tree, plan, site, closed)


def open_settings(tree: Path, plan: Plan | None, site: Site) -> None:
    """Give the file back what it says when the site is open, to the byte where that is known. May be repeated.

    Raises as `close_settings` does.
    """
    known = [] if plan is None else list(_known(plan, site))
    _change(tree, plan, site, lambda raw, spec, by: opened(raw, spec, by, known))


def only_closes(plan: Plan, expected: Entry | None, present: Entry | None) -> bool:
    """Whether a file is what was expected but for the key that closes the site."""
    site = plan.site
    found = _key_of(site)
    if found is None or expected is None or present is None or present.path not in _paths(plan, site):
        return False
    if not expected.same_rights(present) or expected.kind is not present.kind:
        return False
    try:
        raw = read_regular(site.root / present.path)
        known = [form for one in _known(plan, site) for form in (one, closed(one, *found))]
    except (OSError, LadderError):
        return False
    meant = [one for one in known if blake3(one).hexdigest() == expected.digest]
    return any(is_the_same(raw, one, *found) for one in meant)


def not_by_closing(plan: Plan, expected: Manifest, present: Manifest) -> list[Difference]:
    """What differs between two trees by more than the key that closes the site."""
    found = compare_manifests(expected, present)
    return [one for one in found if not only_closes(plan, expected.get(one.path), present.get(one.path))]


def as_open(plan: Plan, path: str, raw: bytes) -> bytes:
    """A settings file of the site as it is when the site is open."""
    found = _key_of(plan.site)
    if found is None or path not in _paths(plan, plan.site):
        return raw
    try:
        return opened(raw, *found, _known(plan, plan.site))
    except LadderError:
        return raw


def _key_of(site: Site) -> tuple[SettingsFile, ClosingKey] | None:
    by = site.record.maintenance.setting if site.record.maintenance else None
    if by is None:
        return None
    return next(one for one in site.record.keep.settings if one.file == by.file), by


def _paths(plan: Plan | None, site: Site) -> list[str]:
    """Where the file is, before the climb and after each rung."""
    found = _key_of(site)
    if found is None:
        return []
    file = found[1].file
    return list(dict.fromkeys([file, *(rung.renamed.get(file, file) for rung in (plan.rungs if plan else ()))]))


def _known(plan: Plan, site: Site) -> Iterator[bytes]:
    """The file as it was before the climb, and as it is to be after each rung."""
    found = _key_of(site)
    if found is not None:
        file = found[1].file
        for kept in (plan.before(file), *(plan.merged(rung, file) for rung in plan.rungs)):
            if kept.exists():
                yield kept.read_bytes()


def _change(
    tree: Path, plan: Plan | None, site: Site, made: Callable[[bytes, SettingsFile, ClosingKey], bytes]
) -> None:
    found = _key_of(site)
    if found is None:
        return
    for path in _paths(plan, site):
        place = tree / path
        if not nolinks.is_there(place):
            continue
        raw = read_regular(place)
        new = made(raw, *found)
        if new != raw:
            _replace(place, new, Path(plan.work) if plan else place.parent)


def _replace(place: Path, raw: bytes, work: Path) -> None:
    """Put another content in a file's place in one instant, with its owner and rights. What a kill leaves of it lies in
    `work`, which is cleared at the end, and not in the tree.
    """
    nolinks.make_folders(work, 0o700)
    replace_content(place, raw, work / _NEW)
