"""Backups as pages."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from yellow_ladder.backup.catalog import Backup
from yellow_ladder.backup.copies import Copied
from yellow_ladder.report.look import CAREFUL, Page, bullet_list, labelled, next_command, table, verdict
from yellow_ladder.site.backup_records import CopyTarget
from yellow_ladder.words import bytes_in_words, count_of, moment_in_words


def backup_page(backup: Backup, words: str, dropped: Sequence[Backup] = ()) -> Page:
    """One backup, and those that were removed on its account."""
    page = Page().add(verdict(f"{words}: {backup.name}", good=True))
    rows = [
        ("files", f"{backup.files:,} ({bytes_in_words(backup.file_bytes)})"),
        ("databases", ", ".join(f"{o.name} ({bytes_in_words(o.size_bytes)})" for o in backup.databases) or "none"),
        ("on disk", f"{bytes_in_words(backup.size_bytes())} in {backup.path}"),
    ]
    if backup.bases:
        rows.append(("builds upon", ", ".join(backup.bases)))
    moving = [f"{one.name}: {', '.join(one.moving)}" for one in backup.databases if one.moving]
    if moving:
        rows.append(("not compared", f"written to meanwhile: {'; '.join(moving)}"))
    if dropped:
        rows.append(("removed", ", ".join(one.name for one in dropped)))
    page.add(labelled(rows))
    if backup.unsteady:
        page.add(Text("changed while being read (back up again, or with the site closed):", style=CAREFUL))
        page.add(bullet_list(backup.unsteady))
    return page


def backups_page(backups: Sequence[Backup]) -> Page:
    """All backups, oldest first."""
    if not backups:
        return Page().add(Text("No backups yet."), next_command(("yl backup make", "make one")))
    # The name says the version. It tells backups apart, and is never cut.
    upon = ["builds upon"] if any(one.bases for one in backups) else []
    ruled = table(["backup", "made", "files", "size", *upon], right=[2, 3], fold=[0])
    for one in backups:
        size = bytes_in_words(one.size_bytes())
        cells = [one.name, moment_in_words(one.made_at), f"{one.files:,}", size]
        ruled.add_row(*cells, *([one.bases[-1].rsplit("-", 1)[-1] if one.bases else ""] if upon else []))
    return Page().add(ruled, next_command((f"yl backup test {backups[-1].name}", "read it back once more")))


def copied_page(backup: Backup, targets: Sequence[CopyTarget], copied: Sequence[Copied]) -> Page:
    """Where a backup lies now besides here."""
    page = Page().add(verdict(f"copied, and read back there: {backup.name}", good=True))
    rows = []
    for target in targets:
        sent = [one for one in copied if one.place == target.name]
        size = bytes_in_words(sum(one.size_bytes for one in sent))
        said = f"{size} sent" if sent else "it lay there already"
        rows.append((target.name, f"{said}{', encrypted' if target.is_sealed else ''}, {target.where}"))
    page.add(labelled(rows))
    return page.add(next_command((f"yl backup list --at {targets[0].name}", "what lies there")))


def names_page(place: str, names: Sequence[str]) -> Page:
    """Copies at a place."""
    if not names:
        return Page().add(
            Text(f"No copies at {place} yet."), next_command(("yl backup copy", "copy the newest backup"))
        )
    page = Page().add(bullet_list(names))
    return page.add(next_command((f"yl backup fetch {names[-1]} --from {place}", "bring one back")))


def dropped_page(dropped: Sequence[Backup], freed_bytes: int) -> Page:
    """Backups that were removed."""
    if not dropped:
        return Page().add(Text("No backup is past its time."))
    words = f"{count_of(len(dropped), 'backup')} removed, {bytes_in_words(freed_bytes)} freed"
    return Page().add(verdict(words, good=True), bullet_list([one.name for one in dropped]))
