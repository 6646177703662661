"""Which of a release's files in the site's data folders come: the one judge of it, for checks, placing and proof."""

from __future__ import annotations

from collections.abc import Iterable


def comes(here: str, was: str, *, is_folder_there: bool) -> bool:
    """Whether a release's file comes: `here` is what the site has in its place and `was` what the release before had,
    as digests, empty where there is none.

    A new one comes into a folder that is there; one that the site removed stays away, with all that a later release
    has in a folder that was removed. In place of what is there comes only what replaces the release's own, unchanged.
    """
    return here == was if here else not was and is_folder_there


def folders_of(paths: Iterable[str]) -> set[str]:
    """Every folder that tree paths lie in."""
    found = set[str]()
    for path in paths:
        above = path.rpartition("/")[0]
        while above and above not in found:
            found.add(above)
            above = above.rpartition("/")[0]
    return found
