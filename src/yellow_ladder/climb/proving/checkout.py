"""Settings that a climb changed in a checkout of a version control: somebody may want to commit them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yellow_ladder import nolinks
from yellow_ladder.climb.record.plan import Plan

# What lies at the top of a checkout, whatever it is of.
_MARKS = (".git", ".hg", ".svn", ".bzr", "_darcs", ".fslckout", ".jj")


@dataclass(frozen=True, slots=True)
class Uncommitted:
    """A checkout, and the paths in it, relative to its top, of the settings files that a climb changed."""

    top: Path
    files: tuple[str, ...]

    def in_words(self) -> str:
        """One sentence for people."""
        return f"{self.top} is a checkout; nothing of it was touched but files: commit {', '.join(self.files)}"


def to_commit(plan: Plan) -> list[Uncommitted]:
    """The checkouts with what is to be committed in each; a file that was moved is named at both places."""
    found: dict[Path, list[str]] = {}
    root, last = plan.site.root, plan.rungs[-1]
    for spec in plan.site.record.keep.merged:
        old, new = plan.before(spec.file), plan.merged(last, spec.file)
        if not new.exists() or (old.exists() and old.read_bytes() == new.read_bytes()):
            continue
        for path in dict.fromkeys(
            [*([spec.file] if old.exists() else []), plan.renamed_paths.get(spec.file, spec.file)]
        ):
            top = _top_of(root / path)
            if top is not None:
                found.setdefault(top, []).append(str((root / path).relative_to(top)))
    return [Uncommitted(top, tuple(files)) for top, files in found.items()]


def _top_of(path: Path) -> Path | None:
    """The innermost checkout that a path lies in."""
    return next((one for one in path.parents if any(nolinks.is_there(one / mark) for mark in _MARKS)), None)
