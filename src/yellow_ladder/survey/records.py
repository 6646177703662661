"""What a survey finds."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from yellow_ladder.database import Table
from yellow_ladder.files.entry import Manifest
from yellow_ladder.release.versions import Version
from yellow_ladder.services import About
from yellow_ladder.survey.drift.classes import FileClasses
from yellow_ladder.survey.drift.look import SiteFiles
from yellow_ladder.survey.own_settings import OwnSettings


@dataclass(frozen=True, slots=True)
class ProbeAnswer:
    """What one probe says: a version, or why it says nothing. `part`: which part, runtime or tool it speaks of."""

    of: str
    where: str
    says: str
    trouble: str = ""
    part: str = ""


@dataclass(frozen=True, slots=True)
class AddOn:
    """Something in an add-on folder; `origin` is bundled, third-party or unknown.

    `works_with` is the range of the product that it says it fits; `newer` the newest in the release source, with the
    range that this one fits.
    """

    path: str
    origin: str
    name: str = ""
    version: str = ""
    works_with: str = ""
    newer: str = ""
    newer_works_with: str = ""
    trouble: str = ""

    def fits(self, version: Version) -> bool | None:
        """Whether it says that it works with a version of the product; None where it says nothing."""
        return version.is_in(self.works_with) if self.works_with else None


@dataclass(frozen=True, slots=True)
class SurveyedDatabase:
    """One database: engine, size, tables with rows, what is wrong in it; or why it could not be read."""

    name: str
    engine: str = ""
    kind: str = ""
    version: str = ""
    encoding: str = ""
    collations: tuple[str, ...] = ()
    size_bytes: int = 0
    tables: Mapping[str, int] = field(default_factory=dict)
    columns: tuple[Table, ...] = ()
    objects: Mapping[str, int] = field(default_factory=dict)
    sequences: tuple[str, ...] = ()
    broken: tuple[str, ...] = ()
    invalid: tuple[str, ...] = ()
    migrations: int = 0
    last_migration: str = ""
    users: tuple[str, ...] = ()
    lacks: tuple[tuple[str, str], ...] = ()
    trouble: str = ""
    remedy: str = ""

    def as_record(self) -> dict[str, Any]:
        """As JSON, without the columns."""
        return {key: value for key, value in asdict(self).items() if key != "columns"}


@dataclass(frozen=True, slots=True)
class DataOutside:
    """A data folder outside root: how many files and links it has, and their bytes; or why it cannot be looked at.

    `marks` are files in it that only the data folder of a database server has, `set_id` those that run with their
    owner's rights, and `devices` what is none of any application's data; each by its path in the folder.
    """

    path: str
    files: int = 0
    bytes: int = 0
    trouble: str = ""
    marks: tuple[str, ...] = ()
    set_id: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Survey:
    """What is there now. `parts` are the versions of parts with probes of their own."""

    site: str
    product: str
    root: str
    version: Version | None
    answers: tuple[ProbeAnswer, ...]
    programs: tuple[ProbeAnswer, ...]
    parts: Mapping[str, Version]
    packages: Mapping[str, str]
    tree: SiteFiles
    addons: tuple[AddOn, ...]
    databases: tuple[SurveyedDatabase, ...]
    services: Mapping[str, About]
    is_closed: bool
    findings: tuple[str, ...]
    settings: tuple[OwnSettings, ...] = ()
    data_outside: tuple[DataOutside, ...] = ()

    @property
    def data_files(self) -> int:
        """Files and links in data folders, below root and elsewhere."""
        return self.files.data_files + sum(one.files for one in self.data_outside)

    @property
    def data_bytes(self) -> int:
        """The bytes of these."""
        return self.files.data_bytes + self.outside_bytes

    @property
    def outside_bytes(self) -> int:
        """The bytes of those that lie outside root."""
        return sum(one.bytes for one in self.data_outside)

    @property
    def files(self) -> FileClasses:
        """The files, sorted."""
        return self.tree.classes

    @property
    def manifest(self) -> Manifest:
        """Every entry below root that is the site's."""
        return self.tree.manifest

    @property
    def runtimes(self) -> list[tuple[str, str]]:
        """Runtimes that releases can be built with: program and version, in the order of the site file."""
        return [(one.part, one.says) for one in self.programs if one.of == "runtimes"]

    def program(self, of: str, name: str = "") -> ProbeAnswer | None:
        """What the runtime or a tool says of itself; None where the site file has no probe of it."""
        return next((one for one in self.programs if one.of == of and name in ("", one.part)), None)

    def as_record(self) -> dict[str, Any]:
        """As JSON, without the manifest."""
        return {
            "site": self.site,
            "product": self.product,
            "root": self.root,
            "version": str(self.version) if self.version else None,
            "versions": [asdict(answer) for answer in (*self.answers, *self.programs)],
            "parts": {name: str(version) for name, version in self.parts.items()},
            "packages": dict(self.packages),
            "files": {**asdict(self.files), "unclaimed": list(self.files.unclaimed)},
            "data_outside": [asdict(one) for one in self.data_outside],
            "addons": [asdict(addon) for addon in self.addons],
            "settings": [asdict(one) for one in self.settings],
            "databases": [one.as_record() for one in self.databases],
            "services": {name: asdict(about) for name, about in self.services.items()},
            "closed": self.is_closed,
            "findings": list(self.findings),
        }
