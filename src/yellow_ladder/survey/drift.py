"""Sorts the files of a site by what they are for an upgrade. Pure: it is given manifests and looks at no disk."""

from __future__ import annotations

from collections.abc import Mapping

from yellow_ladder.files.manifest import Entry, Kind, Manifest, within
from yellow_ladder.site.records import Keep
from yellow_ladder.survey.records import AddOn, FileClasses


def classify(manifest: Manifest, release: Mapping[str, str] | None, keep: Keep) -> FileClasses:
    """Sort every file and link; `release` is what the installed release came with, None where nobody knows."""
    known = release or {}
    unchanged, edited, unclaimed = 0, [], []
    kept: dict[str, list[str]] = {}
    data_files = data_bytes = 0
    for path, entry in manifest.items():
        if entry.kind is Kind.FOLDER:
            continue
        if within(path, keep.data):
            data_files, data_bytes = data_files + 1, data_bytes + entry.size
            continue
        kind = kind_kept(path, keep)
        if kind and not (kind == "addons" and path in known):
            kept.setdefault(kind, []).append(path)
        elif path not in known:
            unclaimed.append(path)
        elif known[path] == content_of(entry):
            unchanged += 1
        else:
            edited.append(path)
    missing = [path for path in known if path not in manifest and not within(path, keep.data)]
    missing = [path for path in missing if not kind_kept(path, keep) or within(path, keep.addons)]
    return FileClasses(
        release_known=release is not None,
        unchanged=unchanged,
        edited=tuple(edited),
        missing=tuple(sorted(missing)),
        unclaimed=tuple(unclaimed),
        kept={kind: tuple(paths) for kind, paths in kept.items()},
        data_files=data_files,
        data_bytes=data_bytes,
    )


def content_of(entry: Entry) -> str:
    """An entry's content as releases list it."""
    return f"link:{entry.target}" if entry.kind is Kind.LINK else entry.sha256


def kind_kept(path: str, keep: Keep) -> str:
    """Under which key of `[keep]` a path falls, data folders aside; nothing where it is not the site's own."""
    if any(path == one.file for one in keep.settings):
        return "settings"
    for kind in ("keys", "licences", "assets", "addons"):
        if within(path, getattr(keep, kind)):
            return kind
    return ""


def find_addons(manifest: Manifest, release: Mapping[str, str] | None, keep: Keep) -> list[AddOn]:
    """Every direct entry of an add-on folder; it is bundled where the installed release came with it."""
    found: dict[str, AddOn] = {}
    bundled = {name for folder in keep.addons for name in _tops(release or {}, folder)}
    for folder in keep.addons:
        for name in _tops(manifest, folder):
            origin = "unknown" if release is None else "bundled" if name in bundled else "third-party"
            found[name] = AddOn(name, origin)
    return [found[name] for name in sorted(found)]


def _tops(paths: Mapping[str, object], folder: str) -> set[str]:
    """The entries directly in a folder."""
    prefix = folder + "/"
    return {prefix + path[len(prefix) :].split("/", 1)[0] for path in paths if path.startswith(prefix)}
