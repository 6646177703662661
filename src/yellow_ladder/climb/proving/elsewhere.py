"""The site as it is now against a backup, or against fingerprints alone that came from another machine."""

from __future__ import annotations

import itertools
import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from types import MappingProxyType
from typing import Any

from yellow_ladder.backup.catalog import Backup, Ground, compared_entries
from yellow_ladder.backup.outside import beside_data
from yellow_ladder.climb.proving.basis import faults_in
from yellow_ladder.climb.proving.files import name_became, what_became
from yellow_ladder.climb.proving.in_short import Became, FileFault, became, data_in_short, in_short
from yellow_ladder.database.kept import connections_kept
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.events import Listener, Progress, Unit
from yellow_ladder.files.beside import Pair, look_beside
from yellow_ladder.files.entry import Entry
from yellow_ladder.files.listing import Listing
from yellow_ladder.files.manifest import FileChange, Pairs, differing
from yellow_ladder.files.names import NamesOfOneFile, regrouped
from yellow_ladder.files.reading import read_regular
from yellow_ladder.fingerprints.judge import judge
from yellow_ladder.fingerprints.lineage import compose
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.fingerprints.verdicts import TableVerdict
from yellow_ladder.nolinks import is_there
from yellow_ladder.site.site import Site

LARGEST_PRINT_BYTES = 256 * 1024**2
_NONE: Mapping[str, Sequence[str]] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Comparison:
    """What the site was held against, and what differs: of tables by verdict, of files in words; `in_short` with many
    files of a folder, and many definitions that came or went, told as one.

    `files_compared` is 0 where nothing but databases was held.
    """

    against: str
    tables: Mapping[str, tuple[TableVerdict, ...]]
    faults: tuple[str, ...]
    files_compared: int = 0
    in_short: tuple[str, ...] = ()

    @property
    def is_whole(self) -> bool:
        """Whether nothing differs."""
        return not self.faults

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        return {**asdict(self), "whole": self.is_whole}


@connections_kept()
def compare_with_backup(site: Site, backup: Backup, tell: Listener) -> Comparison:
    """Hold databases and files of a site against what a backup recorded; the backup's own data are not read.

    Files that came since into data folders are no difference. Raises AnswerNo where the backup is damaged, BadInput
    where the site has not its databases.
    """
    prints = {one.name: backup.fingerprint(one.name) for one in backup.databases}
    tables = _tables(site, prints, tell, {one.name: one.moving for one in backup.databases})
    manifest = backup.manifest()
    expected = compared_entries(manifest, backup.data)
    faults = list[FileFault]()
    pairs = _files_beside(site, manifest, backup.data)
    then, now = NamesOfOneFile(), NamesOfOneFile()
    for one, old, new in differing(_seen(pairs, then, now)):
        if one.change is not FileChange.ADDED or not site.is_data(one.path):
            faults.append(FileFault(one.path, what_became(one, old, new), became(one.change)))
    for path, other, were_one in regrouped(then, now, lambda path: path in expected and is_there(site.root / path)):
        faults.append(FileFault(path, name_became(other, were_one=were_one), Became.OTHER))
    of_data, short = faults_in(tables), in_short(faults)
    listed = (*of_data, *map(str, faults))
    short = [*data_in_short(tables), *short]
    return Comparison(f"the backup {backup.name}", tables, listed, len(expected), tuple(short))


def _files_beside(site: Site, manifest: Listing, data: Sequence[str]) -> Iterator[Pair]:
    """What a site is held against, and what is there: below root, then in data folders elsewhere."""
    skip, ground = site.skipped(), Ground(site.root)
    below = itertools.takewhile(lambda one: not one.path.startswith("/"), manifest.entries())
    yield from look_beside(site.root, skip, (one for one in below if not skip(one.path)))
    for folder in data:
        beside = beside_data(ground, folder, manifest, skip)
        yield from ((old, new) for old, new in beside if old is None or new is not None or not skip(old.path))


@connections_kept()
def compare_with_prints(site: Site, files: Mapping[str, Path], tell: Listener) -> Comparison:
    """Hold databases, by name, against fingerprints that a backup wrote, here or on another machine.

    Raises BadInput where a file is none, or the site has no such database.
    """
    tables = _tables(site, {name: read_print(path) for name, path in files.items()}, tell)
    against, short = ", ".join(str(path) for path in files.values()), tuple(data_in_short(tables))
    return Comparison(against, tables, tuple(faults_in(tables)), in_short=short)


def _seen(pairs: Pairs, then: NamesOfOneFile, now: NamesOfOneFile) -> Iterator[tuple[Entry | None, Entry | None]]:
    for old, new in pairs:
        then.see(old)
        now.see(new)
        yield old, new


def read_print(path: Path) -> DatabasePrint:
    """A fingerprint as a backup writes it; raises BadInput."""
    try:
        return DatabasePrint.from_record(json.loads(read_regular(path, LARGEST_PRINT_BYTES))["database"])
    except OSError as fault:
        why = fault.strerror or str(fault)
    except (ValueError, KeyError, TypeError, AttributeError):
        why = "it is none"
    remedy = "name a file fingerprint-NAME.json of a backup, as `yl backup make` writes it"
    raise BadInput(Problem("print-unreadable", f"the fingerprint {path} cannot be read: {why}", remedy, str(path)))


def _tables(
    site: Site, prints: Mapping[str, DatabasePrint], tell: Listener, moving: Mapping[str, Sequence[str]] = _NONE
) -> dict[str, tuple[TableVerdict, ...]]:
    """A verdict for each table; of those that were `moving` when the backup was made, nothing is known to hold to."""
    databases, found = site.databases(), {}
    for name, before in prints.items():
        if name not in databases:
            text = f"the site has no database {name!r}"
            raise BadInput(Problem("no-such-database", text, f"there are: {', '.join(databases) or 'none'}", name))
        done = [0]

        def on_rows(count: int, name: str = name, done: list[int] = done) -> None:
            done[0] += count
            tell(Progress(f"rows of {name}", done[0], None, Unit.ROWS))

        left_out = moving.get(name, ())
        before = before.without(left_out)
        lineage = compose(before, [])
        volatile = site.database_spec(name).volatile
        now = take_fingerprint(databases[name], lineage.ties(before), on_rows, columns=dict.fromkeys(volatile, ()))
        judged = judge(before, now.without(left_out), lineage, volatile)
        found[name] = tuple(_unlike(one) for one in judged)
    return found


def _unlike(one: TableVerdict) -> TableVerdict:
    """Nobody climbed meanwhile: what is told of releases elsewhere means something else here."""
    return replace(one, remarks=tuple(remark.removesuffix(", and no release declares it") for remark in one.remarks))
