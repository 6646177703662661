"""A packed release as a page."""

from __future__ import annotations

from pathlib import Path

from rich.text import Text

from yellow_ladder.release.pack import Packed
from yellow_ladder.report.look import Page, labelled, verdict
from yellow_ladder.words import bytes_in_words, count_of


def packed_page(packed: Packed) -> Page:
    """What was packed."""
    page = Page().add(verdict(f"packed {packed.archive.name}", good=True))
    sizes = f"{bytes_in_words(packed.packed_bytes)}, unpacks to {bytes_in_words(packed.unpacked_bytes)}"
    digest = f"{packed.sha256}, noted in {packed.archive.parent / 'SHA256SUMS'}"
    return page.add(labelled([("files", f"{packed.files:,}"), ("size", sizes), ("SHA-256", digest)]))


def index_page(path: Path, releases: int) -> Page:
    """The index that was written."""
    page = Page().add(verdict(f"written: {path}, with {count_of(releases, 'release')}", good=True))
    return page.add(Text("Publish the folder over HTTP, and name its URL as releases.source."))
