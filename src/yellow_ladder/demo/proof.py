"""A picture of the demonstration site, to show that two moments are the same."""

from __future__ import annotations

from dataclasses import dataclass

from yellow_ladder.files.entry import Kind
from yellow_ladder.files.manifest import take_manifest, tree_digest
from yellow_ladder.fingerprints.records import DatabasePrint
from yellow_ladder.fingerprints.scan import take_fingerprint
from yellow_ladder.site.site import Site


@dataclass(frozen=True, slots=True)
class Picture:
    """Every file with content, owner and mode in one digest, and the fingerprint of every table but volatile ones."""

    tree: str
    files: int
    tables: dict[str, DatabasePrint]

    @property
    def rows(self) -> int:
        """Rows of all tables."""
        return sum(one.rows for one in self.tables.values())


def picture_of(site: Site) -> Picture:
    """Read everything; logins are left out, which Quaybook writes at every start."""
    manifest = take_manifest(site.root, site.skipped())
    prints = {}
    for name, database in site.databases().items():
        prints[name] = take_fingerprint(database).without(site.database_spec(name).volatile)
    files = sum(entry.kind is not Kind.FOLDER for entry in manifest.values())
    return Picture(tree_digest(manifest), files, prints)
