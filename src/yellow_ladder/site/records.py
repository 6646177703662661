"""The site file's records. Key by key in docs/site-file.md."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yellow_ladder.database import DatabaseAddress, parse_address
from yellow_ladder.documents import Record
from yellow_ladder.files.entry import within
from yellow_ladder.release.commands import CommandKeys, Point, PointText, refuse_misplaced
from yellow_ladder.release.values import (
    Argv,
    DottedName,
    PageUrl,
    PatternText,
    RangeText,
    RungsText,
    Seconds,
    TreePath,
)
from yellow_ladder.release.versions import Version
from yellow_ladder.site.backup_records import BackupWishes, SettleWishes
from yellow_ladder.site.keep_records import Keep
from yellow_ladder.site.maintenance_records import Maintenance
from yellow_ladder.site.questions import SiteCheck
from yellow_ladder.site.service_records import AnyService
from yellow_ladder.site.values import NAME_PATTERN, FileModeText, ModeText


class ReleaseSource(Record):
    """`[releases]`: where releases come from."""

    designed = {
        "trusted_keys": "keys whose signatures are believed",
        "mirror": "a second source",
    }
    source: str = Field(min_length=1)
    channel: Literal["stable", "preview"] = "stable"
    digests: Literal["required", "wanted"] = "wanted"


class VersionProbe(Record):
    """`[[versions]]`: one probe of the version."""

    of: Literal["disk", "served", "schema"]
    part: str = ""
    file: TreePath = ""
    link: TreePath = ""
    command: list[str] = []
    url: PageUrl = ""
    process: str = ""
    query: str = ""
    database: str = "main"
    pattern: PatternText = ""
    pointer: str = ""
    header: str = ""
    within_s: Seconds = 10.0
    as_user: str = ""
    holds: RangeText = ""

    @model_validator(mode="after")
    def _complete(self) -> VersionProbe:
        ways = {
            "disk": ("file", "link", "command"),
            "served": ("url", "process", "command"),
            "schema": ("query", "command"),
        }
        given = [way for way in ("file", "link", "command", "url", "process", "query") if getattr(self, way)]
        allowed = ways[self.of]
        if len(given) != 1 or given[0] not in allowed:
            one_of = " or ".join(f"`{way}`" for way in allowed)
            raise ValueError(f'with of = "{self.of}" needs the key {one_of}, and no other way to ask')
        if (self.pointer or self.header) and not self.url:
            raise ValueError("has `pointer` or `header`, which belong to `url`")
        return self


class Runtime(Record):
    """`[runtime]`: the language runtime that the application runs on."""

    name: str = "runtime"
    command: Argv
    pattern: PatternText = r"(\d+(?:\.\d+)+)"
    packages: list[str] = []
    within_s: Seconds = 10.0
    as_user: str = ""


class BuildRuntime(Record):
    """`[[runtimes]]`: a runtime that releases may be built with; its program is the first word of `command`."""

    command: Argv
    pattern: PatternText = r"(\d+(?:\.\d+)+)"
    within_s: Seconds = 10.0


class BuildWishes(Record):
    """`[build]`: what commands that make a release find around them, and what is put into it besides."""

    environment: dict[str, str] = {}
    more: list[Argv] = []
    as_user: str = ""


class SiteEnvironment(Record):
    """`[environment]`: what every command and service of the site finds around it."""

    files: list[str] = []
    values: dict[str, str] = {}
    path: list[str] = []


class Tool(Record):
    """`[[tools]]`: a program that the application needs beside it."""

    name: str = Field(pattern=NAME_PATTERN)
    command: Argv
    pattern: PatternText = r"(\d+(?:\.\d+)+)"
    within_s: Seconds = 10.0
    as_user: str = ""


class AddOnSheet(Record):
    """`[addons]`: where an add-on says what it is; keys are dotted paths in `file`, which is TOML, JSON or INI."""

    file: TreePath = "addon.toml"
    name: str = "name"
    version: str = "version"
    works_with: str = "works_with"
    unfit: Literal["stop", "carry"] = "stop"


class Replica(Record):
    """`[[replicas]]`: another copy of this site, and the role that it has."""

    name: str = Field(min_length=1)
    role: str = Field(min_length=1)


class DatabaseSpec(Record):
    """`[[databases]]`: one database of the site."""

    name: str = Field(default="main", pattern=NAME_PATTERN)
    url: str
    password_env: str = ""
    password_file: str = ""
    clone: Literal["wanted", "required", "off"] = "wanted"
    lock_wait_s: Annotated[float, Field(ge=0.1, le=3_600)] = 30.0
    volatile: list[str] = []
    masked: list[DottedName] = []
    programs: str = ""
    as_user: str = ""

    @model_validator(mode="after")
    def _has_engine(self) -> DatabaseSpec:
        self.address(Path("/"))
        return self

    def address(self, base: Path) -> DatabaseAddress:
        """Where the database is; relative paths are relative to `base`."""
        found = parse_address(self.name, self.url, base, self.password_env, self.password_file)
        if self.as_user and not found.socket:
            raise ValueError("has `as_user` and no socket in its URL: a server sees accounts through a socket alone")
        return replace(found, lock_wait_s=self.lock_wait_s, as_user=self.as_user)


class SiteCommand(CommandKeys):
    """`[[commands]]`: a command of the site's own, run at a point of a climb; `for` says at which rungs."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[^/\n]+$")
    at: PointText
    for_: RungsText = Field(default="", alias="for")
    as_user: str = ""
    groups: list[str] = []

    @property
    def given_groups(self) -> Sequence[str]:
        """What the administrator says."""
        return self.groups

    @model_validator(mode="after")
    def _fits_its_point(self) -> SiteCommand:
        refuse_misplaced(self.at, self)
        return self

    def is_for(self, version: Version, *, first: bool, last: bool) -> bool:
        """Whether it is run at the rung to `version`, the `first` or `last` of a climb.

        Where nothing is said: at every rung, or once for what a climb comes to but once.
        """
        if self.for_:
            return version.is_in(self.for_)
        early = self.at in (Point.BEFORE_CLOSE, Point.CLOSED)
        return self.at.is_of_each_rung or (first if early else last)


class Pointer(Record):
    """`[pointer]`: each release in a folder of its own, and a link, or a file that names it, that leads to the one in
    use.
    """

    link: TreePath = "current"
    file: TreePath | Literal[""] = ""
    releases: TreePath = "releases/{version}"
    keep: int = Field(default=1, ge=0)

    @model_validator(mode="after")
    def _names_versions(self) -> Pointer:
        parent, _, name = self.releases.rpartition("/")
        if not parent or "{version}" not in name or "{version}" in parent:
            raise ValueError("has `releases` that is not written like releases/{version}")
        if within(self.turns, [parent]):
            raise ValueError("has a link or file among the releases' folders; let it lie beside them")
        return self

    @property
    def turns(self) -> str:
        """The tree path of what is turned over."""
        return self.file or self.link


class SiteFile(Record):
    """The whole site file."""

    format: Literal[1]
    name: str = Field(pattern=NAME_PATTERN)
    product: str = Field(min_length=1)
    root: str = Field(min_length=1)
    state: str = ".ladder"
    placement: Literal["exchange", "overlay", "pointer"] = "exchange"
    pointer: Pointer | None = None
    owner: str = ""
    group: str = ""
    file_mode: FileModeText = ""
    folder_mode: ModeText = ""
    on_failure: Literal["go-back", "stop"] = "go-back"
    releases: ReleaseSource
    versions: list[VersionProbe] = Field(min_length=1)
    runtime: Runtime | None = None
    runtimes: list[BuildRuntime] = []
    build: BuildWishes = BuildWishes()
    environment: SiteEnvironment = SiteEnvironment()
    tools: list[Tool] = []
    databases: list[DatabaseSpec] = []
    addons: AddOnSheet = AddOnSheet()
    checks: list[SiteCheck] = []
    role: str = "primary"
    replicas: list[Replica] = []
    keep: Keep = Keep()
    services: list[AnyService] = []
    commands: list[SiteCommand] = []
    run_as: str = ""
    maintenance: Maintenance | None = None
    backup: BackupWishes = BackupWishes()
    settle: SettleWishes = SettleWishes()

    @property
    def builder(self) -> str:
        """The account that makes releases; empty where the site file names none."""
        return self.build.as_user or self.run_as

    @model_validator(mode="after")
    def _names_agree(self) -> SiteFile:
        for what, names in (
            ("database", [database.name for database in self.databases]),
            ("service", [service.name for service in self.services]),
            ("tool", [tool.name for tool in self.tools]),
            ("command", [command.name for command in self.commands]),
            ("check", [check.name for check in self.checks]),
        ):
            twice = sorted({name for name in names if names.count(name) > 1})
            if twice:
                raise ValueError(f"names the {what} {twice[0]!r} twice")
        known = {database.name for database in self.databases}
        for service in self.services:
            unknown = [one for one in service.holds if one not in known]
            if unknown:
                raise ValueError(f"has a service {service.name!r} that holds {unknown[0]!r}, a database not in it")
        setting = self.maintenance.setting if self.maintenance else None
        if setting is not None and setting.file not in [one.file for one in self.keep.settings]:
            raise ValueError(f"closes the site by a key of {setting.file}, which keep.settings does not name")
        self._see_probes(known)
        self._see_placement()
        for check in self.checks:
            if check.query and check.database not in known:
                raise ValueError(
                    f"asks the database {check.database!r} in the check {check.name!r}, which is not in it"
                )
        if not any(probe.of == "disk" and not probe.part for probe in self.versions):
            raise ValueError('needs one [[versions]] with of = "disk" and without `part`')
        return self

    @property
    def servers(self) -> list[AnyService]:
        """Database servers that belong to the site and climb with it, in the order of starting."""
        return [service for service in self.services if service.data_folder]

    @property
    def pointing(self) -> Pointer | None:
        """How releases are pointed at, where they have folders of their own."""
        return (self.pointer or Pointer()) if self.placement == "pointer" else None

    def _see_placement(self) -> None:
        pointing = self.pointing
        if self.pointer is not None and pointing is None:
            raise ValueError('has [pointer], which belongs to placement = "pointer"')
        if self.keep.shared_with and self.placement != "overlay":
            raise ValueError('has keep.shared_with, which belongs to placement = "overlay"')
        if self.keep.left_out and pointing is not None:
            raise ValueError('has keep.left_out, which placement = "pointer" does not know: a command can remove it')
        for server in self.servers:
            if self.placement == "exchange":
                text = f"has the data folder of {server.name!r} below root, which would be exchanged with all in it"
                raise ValueError(f'{text}: placement = "pointer" or "overlay"')
            if within(server.data_folder, self.keep.data_paths):
                raise ValueError(f"keeps {server.data_folder}, the data folder of {server.name!r}: once is enough")
        if pointing is None:
            return
        moving = [pointing.turns, pointing.releases.rpartition("/")[0]]
        keep = self.keep
        named = [
            *(one.data_folder for one in self.servers),
            *keep.data,
            *keep.logs,
            *keep.assets,
            *keep.addons,
            *keep.keys,
            *keep.licences,
        ]
        for path in [*named, *(one.file for one in keep.merged)]:
            if within(path, moving) or within(moving[0], [path]) or within(moving[1], [path]):
                raise ValueError(f"keeps {path}, where releases come and go; what is the site's own lies beside them")

    def _see_probes(self, databases: set[str]) -> None:
        for probe in self.versions:
            if probe.query and probe.database not in databases:
                raise ValueError(f"has a schema probe of the database {probe.database!r}, which is not in it")
            if probe.process and probe.process not in [service.name for service in self.services]:
                raise ValueError(f"has a probe of the service {probe.process!r}, which is not in it")
