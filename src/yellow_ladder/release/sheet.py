"""The release sheet: what a release needs, changes, migrates and retires. Key by key in docs/release-sheet.md."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yellow_ladder.documents import Record, parse_document
from yellow_ladder.files.archives.read import Inside
from yellow_ladder.files.entry import within
from yellow_ladder.release.commands import ByStart, CommandKeys, ReleaseCommand, Remade
from yellow_ladder.release.contract import ByEngine, Contract, Names
from yellow_ladder.release.settings import SettingsChanges
from yellow_ladder.release.values import Argv, PatternText, RangeText, Seconds, TreePath, VersionText
from yellow_ladder.release.versions import Version, could_meet, normalised

SHEET_NAME = "release.toml"
DOC_PAGE = "docs/release-sheet.md"


class About(Record):
    """`[release]`: which release this is."""

    product: str = Field(min_length=1)
    version: VersionText
    schema_version: str = Field(default="", alias="schema")
    schema_number: int | None = None
    parts: dict[str, VersionText] = {}
    addon_of: str = ""
    addon: str = ""
    channel: Literal["", "stable", "preview"] = ""
    withdrawn: str = ""
    severity: Literal["", "low", "medium", "high", "critical"] = ""
    title: str = ""
    published: str = ""

    @model_validator(mode="after")
    def _names_what_it_adds_to(self) -> About:
        if bool(self.addon_of) != bool(self.addon):
            raise ValueError("needs `addon` and `addon_of` together, or neither")
        return self


class Build(Record):
    """`[archive.build]`: commands that make a release at its place; `files` of the release source that they read."""

    commands: Annotated[list[Argv], Field(min_length=1)]
    files: list[TreePath] = []
    environment: dict[str, str] = {}
    within_s: Seconds = 3_600.0
    silent_s: Seconds = 600.0


class ArchiveRecord(Record):
    """`[archive]`: what is known of the archive itself; digests stand here for a sheet beside a plain archive."""

    designed = {"signature": "a detached signature"}
    file: str = ""
    sha256: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")] = ""
    unpacked_bytes: int | None = Field(default=None, ge=0)
    top: str | None = None
    becomes: TreePath | Literal[""] = ""
    build: Build | None = None

    @model_validator(mode="after")
    def _one_form(self) -> ArchiveRecord:
        if self.becomes and (self.top is not None or self.build is not None):
            raise ValueError("has `becomes`, for a file that is no archive: `top` and `build` are for others")
        return self

    @property
    def inside(self) -> Inside:
        """How the release lies in its file."""
        return Inside(self.top, self.becomes)


class OrderRule(Record):
    """`[[reach.order]]`: in which order the roles of a replicated site go up from a range of versions."""

    from_: RangeText = Field(default="", alias="from")
    first: Names = []
    then: Names = []
    detach: Names = []


class Reach(Record):
    """`[reach]`: from where this release can be reached."""

    from_: RangeText = Field(default="", alias="from")
    waypoint: bool | str = False
    passage: bool = False
    rest_days: int = Field(default=0, ge=0, le=3650)
    order: list[OrderRule] = []


class People(Record):
    """`[needs.people]`: work that people must have done before; `query` counts what is left, and zero is done."""

    what: str = Field(min_length=1)
    query: str = Field(min_length=1)
    database: str = "main"


class Needs(Record):
    """`[needs]`: what must be there before."""

    tool: RangeText = ""
    free_bytes: int = Field(default=0, ge=0)
    runtime: RangeText = ""
    database: dict[Literal["sqlite", "postgresql", "mariadb"], RangeText] = {}
    tools: dict[str, RangeText] = {}
    parts: dict[str, RangeText] = {}
    packages: dict[str, RangeText] = {}
    licence: str = ""
    people: People | None = None


class Move(Record):
    """A path of the old tree and where it lies in the new one."""

    from_: TreePath = Field(alias="from")
    to: TreePath


class Files(Record):
    """`[files]`: site files that move, release files that went, add-ons that come with the release."""

    moved: list[Move] = []
    dropped: list[TreePath] = []
    addons: list[TreePath] = []
    generated: list[TreePath] = []
    same_format: list[TreePath] = []


class Migration(Record):
    """`[[migrations]]`: one SQL file, applied once; or a command of the vendor's; or the release's own start.

    They are carried out in the order of the sheet.
    """

    id: str = Field(min_length=1, max_length=200)
    file: TreePath | Literal[""] = ""
    engines: dict[Literal["sqlite", "postgresql", "mariadb"], TreePath] = {}
    database: str = "main"
    command: CommandKeys | None = None
    by_start: ByStart | None = None

    @model_validator(mode="after")
    def _one_way(self) -> Migration:
        ways = [name for name in ("file", "command", "by_start") if getattr(self, name)]
        if len(ways) != 1:
            raise ValueError("needs one of `file`, `command` and `by_start`")
        if self.engines and not self.file:
            raise ValueError("has `engines`, which belong to `file`")
        return self

    @property
    def needed_database(self) -> str:
        """The database that must be there for it; nothing where it may be an application that keeps files alone."""
        if self.by_start is not None and self.by_start.query:
            return self.by_start.database
        return self.database if self.file or "database" in self.model_fields_set else ""

    @property
    def files(self) -> list[str]:
        """Every file that it names."""
        return list(dict.fromkeys((self.file, *self.engines.values()))) if self.file else []

    def file_for(self, engine: str) -> str:
        """The file for an engine: its own, or the one for all."""
        return next((file for name, file in self.engines.items() if name == engine), self.file)


class Notes(Record):
    """`[notes]`: sentences for the administrator."""

    designed = {"expires": "certificates and licences"}
    fixes: Names = []
    breaks: Names = []
    one_way: Names = []
    restart_only: Names = []


@lru_cache(maxsize=65_536)
def _version_of(text: str) -> Version:
    """Asked for over and over while a route is looked for."""
    return Version(text)


class ReleaseCheck(Record):
    """`[[checks]]`: what must be so of the data before the release comes, asked by a query."""

    name: str = Field(min_length=1, max_length=60)
    query: ByEngine
    database: str = "main"
    pattern: PatternText = ""
    wanted: str = Field(min_length=1)
    level: Literal["stop", "warn"] = "stop"
    remedy: str = ""


class ReleaseSheet(Record):
    """The whole sheet."""

    format: Literal[1]
    release: About
    archive: ArchiveRecord = ArchiveRecord()
    reach: Reach = Reach()
    needs: Needs = Needs()
    files: Files = Files()
    settings: list[SettingsChanges] = []
    migrations: list[Migration] = []
    checks: list[ReleaseCheck] = []
    commands: list[ReleaseCommand] = []
    remade: list[Remade] = []
    contract: list[Contract] = []
    notes: Notes = Notes()

    @model_validator(mode="after")
    def _consistent(self) -> ReleaseSheet:
        ids = [migration.id for migration in self.migrations]
        twice = sorted({name for name in ids if ids.count(name) > 1})
        if twice:
            raise ValueError(f"names the migration {twice[0]!r} twice; each id must be its own")
        named = [command.name for command in self.commands]
        again = sorted({name for name in named if named.count(name) > 1})
        if again:
            raise ValueError(f"names the command {again[0]!r} twice; each needs a name of its own")
        asked = [one.name for one in self.checks]
        if len(set(asked)) < len(asked):
            raise ValueError("asks two questions of one name, see [[checks]]")
        folders = [one.folder for one in self.remade]
        if any(within(one, [other]) for one in folders for other in folders if one != other):
            raise ValueError("makes a folder anew that lies in another one of [[remade]]")
        if len(set(folders)) < len(folders):
            raise ValueError("makes a folder anew twice, see [[remade]]")
        own = self.version
        if self.reach.from_ and not could_meet([self.reach.from_, f"<{normalised(self.release.version)}"]):
            raise ValueError(
                f"contradicts itself: {own} can only be reached from {self.reach.from_}, which is no older"
            )
        for name, text in self._ranges():
            if text and not could_meet([text]):
                raise ValueError(f"contradicts itself: no version at all is in `{name}` = {text}")
        return self

    def _ranges(self) -> list[tuple[str, str]]:
        needs = self.needs
        found = [("reach.from", self.reach.from_), ("needs.tool", needs.tool), ("needs.runtime", needs.runtime)]
        for key, table in (("database", needs.database), ("tools", needs.tools), ("parts", needs.parts)):
            found += [(f"needs.{key}.{name}", text) for name, text in table.items()]
        return found

    @property
    def version(self) -> Version:
        """The release's version."""
        return _version_of(self.release.version)


def parse_sheet(raw: bytes, name: str) -> ReleaseSheet:
    """Parse a sheet; raises BadInput with every problem in it."""
    return parse_document(raw, ReleaseSheet, name=name, what="release sheet", doc_page=DOC_PAGE)
