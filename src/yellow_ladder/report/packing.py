"""A packed release as a page."""

from __future__ import annotations

from pathlib import Path

from rich.text import Text

from yellow_ladder.drafting import Drafts
from yellow_ladder.release.pack import Packed
from yellow_ladder.report.look import CAREFUL, FAINT, Page, bullet_list, heading, labelled, next_command, verdict
from yellow_ladder.words import bytes_in_words, count_of, one_line


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


def drafts_page(drafts: Drafts, *, show: bool) -> Page:
    """Sheets that were drafted, and what is left for somebody to see to; with `show`, the sheets themselves."""
    page = Page()
    for one in drafts.made if show else ():
        for path, text in ((one.sheet, one.text), *one.files):
            page.add(heading(path.name), Text(text.rstrip("\n"), style=FAINT, overflow="fold"))
    made = count_of(len(drafts.made), "sheet")
    if drafts.made:
        page.add(verdict(f"{made} drafted" if show else f"{made} written, and to be read", good=True))
        if not show:
            paths = {str(one.version): [one.sheet, *(path for path, _ in one.files)] for one in drafts.made}
            page.add(labelled([(name, Text("\n".join(one_line(str(p)) for p in its))) for name, its in paths.items()]))
    else:
        page.add(verdict("no archive lacks a sheet", good=True))
    if drafts.have_one:
        page.add(Text(f"{count_of(len(drafts.have_one), 'archive')} had one, which stays as it is.", style=FAINT))
    if drafts.problems:
        page.add(bullet_list([f"{one.placed}\n→ {one.remedy}" for one in drafts.problems], "!", CAREFUL))
    left = [line for one in drafts.made for line in one.left]
    if left:
        page.add(heading("To be seen to"), bullet_list(left, "!", CAREFUL))
    return page.add(next_command(("yl check", "whether the climb can begin")))
