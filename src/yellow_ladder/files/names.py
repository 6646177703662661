"""Files with several names (hard links): which names were one file, and which are now."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from yellow_ladder.files.entry import Entry


class NamesOfOneFile:
    """Gathers, from one pass over a tree, which paths are names of one file; nothing is kept of other files."""

    def __init__(self) -> None:
        """Begin with nothing seen."""
        self._groups: dict[str, list[str]] = {}

    def see(self, entry: Entry | None) -> None:
        """Take the next entry. Which of a file's names came first does not matter, nor whether it is in the tree."""
        if entry is not None and entry.same_as:
            self._groups.setdefault(entry.same_as, [entry.same_as]).append(entry.path)

    def partners(self) -> dict[str, frozenset[str]]:
        """Every path that has others, with all of its file."""
        return {path: frozenset(group) for group in self._groups.values() for path in group}


def regrouped(
    before: NamesOfOneFile, now: NamesOfOneFile, is_in_both: Callable[[str], bool]
) -> Iterator[tuple[str, str, bool]]:
    """For each path that has lost or gained names, itself and one of them, and whether they had been one file.

    Only paths that are there before and now count.
    """
    then, since = before.partners(), now.partners()
    unlike = {path for path in then.keys() | since.keys() if then.get(path) != since.get(path)}
    both = {path for path in sorted(unlike) if is_in_both(path)}
    for path in sorted(both):
        old, new = then.get(path, frozenset()) & both, since.get(path, frozenset()) & both
        for others, were_one in ((old - new - {path}, True), (new - old - {path}, False)):
            if others and path > min(others):  # of two, the later one is told
                yield path, min(others), were_one
