"""Looks at the files of a site and holds them against their release, reading again only what may have changed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field

from yellow_ladder.errors import BadInput
from yellow_ladder.files.entry import Manifest, within
from yellow_ladder.files.tree import Memory, Tree, look_at_tree, remember
from yellow_ladder.release.source import Release
from yellow_ladder.site.site import Site
from yellow_ladder.survey.drift.classes import (
    FileClasses,
    Stays,
    classify,
    explain_leftovers,
    sift,
    stays_nowhere,
    with_leftovers,
    without,
)
from yellow_ladder.survey.drift.reference import Reference, older_contents

_RULES = 5  # counted up whenever files are sorted by other rules, so that nothing remembered stands for them


@dataclass(slots=True)
class SiteFiles:
    """The files of a site; their manifest is made when somebody asks for it."""

    tree: Tree
    classes: FileClasses
    _manifest: Manifest | None = field(default=None)

    @property
    def manifest(self) -> Manifest:
        """Every entry below root that is the site's; files in data folders have no digest."""
        if self._manifest is None:
            self._manifest = self.tree.manifest()
        return self._manifest


def look_at_files(
    site: Site,
    reference_key: str,
    reference: Callable[[], Reference | None],
    older: Sequence[Release] = (),
    *,
    generated: Sequence[str] = (),
    thorough: bool = False,
) -> SiteFiles:
    """Hold the files against a reference. `reference_key` names it: it is fetched only where something changed.

    `generated`: what the installed release makes by itself in its own tree, as its sheet says.

    What was seen is remembered in the state folder; `thorough` reads every file again.
    """
    rules = site.tree_rules()
    memory_folder = site.state.memory / "files"
    memory = Memory.load(memory_folder, _digest([str(site.root), rules.as_list()]))
    if thorough:
        memory.close()
        memory = Memory(memory_folder, memory.key)
    tree = look_at_tree(site.root, rules, memory)
    way = [site.record.placement, _release_path(site)]
    keep = site.record.keep.model_dump(mode="json")
    key = _digest([_RULES, reference_key, way, keep, list(generated), [str(o.version) for o in older]])
    files = SiteFiles(tree, FileClasses())
    if tree.is_as_remembered and memory.result_key == key and memory.result is not None:
        try:
            files.classes = FileClasses.from_record(memory.result)
        except (TypeError, KeyError, ValueError, AttributeError):
            files.classes = _sorted_anew(site, files, reference(), older, generated)
    else:
        files.classes = _sorted_anew(site, files, reference(), older, generated)
        remember(tree, key, asdict(files.classes))
    return files


def _sorted_anew(
    site: Site, files: SiteFiles, reference: Reference | None, older: Sequence[Release], generated: Sequence[str]
) -> FileClasses:
    keep = site.record.keep
    if reference is not None:
        reference = reference.below(_release_path(site))
    stays = _staying(site, reference, generated)
    left, as_released, usual = sift(files.tree, reference, keep, stays)
    classes = without(classify(left, reference, keep, usual, as_released, stays), _made(site, generated))
    if not classes.unclaimed or not classes.release_known:
        return classes
    before = older_contents(older, site.state.memory, classes.unclaimed)
    return with_leftovers(classes, explain_leftovers(classes, left, before))


def _release_path(site: Site) -> str:
    """Where below root the release lies; a link gone astray leads to no release, and a check says so."""
    try:
        return site.release_path
    except BadInput:
        return ""


def _staying(site: Site, reference: Reference | None, generated: Sequence[str]) -> Stays:
    """Which files stay where they are when a release comes, whosever they are: with an exchange of the tree, none; and
    those that the release has made by itself, which nobody misses.
    """
    placement, known = site.record.placement, reference.contents if reference else {}
    if placement == "overlay":
        return lambda path: path not in known
    above, made = _release_path(site), _made(site, generated)
    if placement == "pointer":
        folder = [above] if reference is not None else []
        return lambda path: not within(path, folder) or within(path, made)
    return (lambda path: within(path, made)) if made else stays_nowhere


def _made(site: Site, generated: Sequence[str]) -> list[str]:
    """What the release makes by itself, below root."""
    above = _release_path(site)
    return [f"{above}/{one}" if above else one for one in generated]


def _digest(what: object) -> str:
    return hashlib.sha256(json.dumps(what, sort_keys=True).encode()).hexdigest()
