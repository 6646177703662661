"""Some of the entries of a list, by a byte for each."""

from __future__ import annotations

from yellow_ladder.files.listing import Listing


class Marks:
    """Some of the entries of a list: `flags` has a byte for each, in order."""

    def __init__(self, listing: Listing) -> None:
        """Start with none."""
        self._listing = listing
        self.flags = bytearray(len(listing))

    def add(self, path: str) -> None:
        """Take the entry of a path; raises KeyError where it is not listed."""
        number = self._listing.number_of(path)
        if number is None:
            raise KeyError(path)
        self.flags[number] = 1

    def __contains__(self, path: str) -> bool:
        """Whether the entry of a path was taken."""
        number = self._listing.number_of(path)
        return number is not None and bool(self.flags[number])

    def count(self) -> int:
        """How many were taken."""
        return self.flags.count(1)
