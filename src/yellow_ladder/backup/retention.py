"""Which backups are past their time, and why one has to stay. Pure: it decides and removes nothing."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime, timedelta

from yellow_ladder.backup.catalog import Backup
from yellow_ladder.words import moment_of


def past_their_time(
    backups: Sequence[Backup], now: datetime, keep_count: int, keep_days: int, needed: Collection[str]
) -> list[Backup]:
    """Backups (oldest first) beyond `keep_count` and older than `keep_days`; 0 is no limit, and none at all keeps all.

    Never the newest that was read back, never one of `needed`, never one that a backup which stays builds upon.
    """
    if not keep_count and not keep_days:
        return []
    ordered = sorted(backups, key=lambda one: (one.made_at, one.name))
    good = [one for one in ordered if one.read_back_at]
    kept = {one.name for one in good[-1:]} | set(needed)
    if keep_count:
        kept |= {one.name for one in ordered[-keep_count:]}
    if keep_days:
        kept |= {one.name for one in ordered if now - moment_of(one.made_at) <= timedelta(days=keep_days)}
    bases = {one.name: one.bases for one in ordered}
    pending = list(kept)
    while pending:
        for base in bases.get(pending.pop(), []):
            if base not in kept:
                kept.add(base)
                pending.append(base)
    return [one for one in ordered if one.name not in kept]


def why_it_stays(chosen: Backup, backups: Sequence[Backup], needed: Collection[str]) -> str:
    """Why a backup must not be removed, in words for people; nothing where it may go.

    `needed` are names of backups that climbs need for going back.
    """
    others = [one for one in backups if one.name != chosen.name]
    upon = [one.name for one in others if chosen.name in one.bases]
    if chosen.name in needed:
        return "a climb needs it for going back, until it is settled (yl settle)"
    if upon:
        return f"{upon[0]} builds upon it"
    return "" if any(one.read_back_at for one in others) else "it is the last good one"
