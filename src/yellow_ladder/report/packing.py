"""A packed release as a page."""

from __future__ import annotations

from yellow_ladder.release.pack import Packed
from yellow_ladder.report.look import Page, labelled, verdict
from yellow_ladder.words import bytes_in_words


def packed_page(packed: Packed) -> Page:
    """What was packed."""
    page = Page().add(verdict(f"packed {packed.archive.name}", good=True))
    sizes = f"{bytes_in_words(packed.packed_bytes)}, unpacks to {bytes_in_words(packed.unpacked_bytes)}"
    digest = f"{packed.sha256}, noted in {packed.archive.parent / 'SHA256SUMS'}"
    return page.add(labelled([("files", f"{packed.files:,}"), ("size", sizes), ("SHA-256", digest)]))
