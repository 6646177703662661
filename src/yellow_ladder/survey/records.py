"""What a survey finds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from yellow_ladder.database import Table
from yellow_ladder.files.manifest import Entry
from yellow_ladder.release.versions import Version


@dataclass(frozen=True, slots=True)
class Witness:
    """What one probe says: a version, or why it says nothing."""

    of: str
    where: str
    says: str
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class AddOn:
    """Something in an add-on folder; `origin` is bundled, third-party or unknown."""

    path: str
    origin: str


@dataclass(frozen=True, slots=True)
class FileClasses:
    """Files and links below root, by what they are; data folders are counted and not listed."""

    release_known: bool
    unchanged: int = 0
    edited: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    unclaimed: tuple[str, ...] = ()
    kept: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    data_files: int = 0
    data_bytes: int = 0


@dataclass(frozen=True, slots=True)
class DatabaseFacts:
    """One database: engine, size, tables with rows, or why it could not be read."""

    name: str
    engine: str = ""
    size_bytes: int = 0
    tables: Mapping[str, int] = field(default_factory=dict)
    columns: tuple[Table, ...] = ()
    migrations: int = 0
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Survey:
    """What is there now."""

    site: str
    product: str
    root: str
    version: Version | None
    witnesses: tuple[Witness, ...]
    files: FileClasses
    manifest: Mapping[str, Entry]
    addons: tuple[AddOn, ...]
    databases: tuple[DatabaseFacts, ...]
    services: Mapping[str, str]
    is_closed: bool
    findings: tuple[str, ...]

    def as_record(self) -> dict[str, Any]:
        """As JSON, without the manifest."""
        databases = [{key: value for key, value in asdict(one).items() if key != "columns"} for one in self.databases]
        return {
            "site": self.site,
            "product": self.product,
            "root": self.root,
            "version": str(self.version) if self.version else None,
            "versions": [asdict(witness) for witness in self.witnesses],
            "files": asdict(self.files),
            "addons": [asdict(addon) for addon in self.addons],
            "databases": databases,
            "services": dict(self.services),
            "closed": self.is_closed,
            "findings": list(self.findings),
        }
