"""The site file's records. Key by key in docs/site-file.md."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, Field, model_validator

from yellow_ladder.database import DatabaseAddress, parse_address
from yellow_ladder.documents import Record
from yellow_ladder.release.values import RangeText, TreePath

NAME_PATTERN = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"


def _outside_path(text: str) -> str:
    if not Path(text).is_absolute() or ".." in Path(text).parts:
        raise ValueError("should be an absolute path")
    return text


def _mode(text: str) -> str:
    if len(text) not in (3, 4) or any(digit not in "01234567" for digit in text):
        raise ValueError('should be an octal mode in quotes, like "0640"')
    return text


def _pattern(text: str) -> str:
    try:
        re.compile(text)
    except re.error as fault:
        raise ValueError(f"is no regular expression: {fault}") from fault
    return text


PatternText = Annotated[str, AfterValidator(_pattern)]
OutsidePath = Annotated[str, AfterValidator(_outside_path)]
ModeText = Annotated[str, AfterValidator(_mode)]
Argv = Annotated[list[str], Field(min_length=1)]
Seconds = Annotated[float, Field(gt=0, le=86_400)]


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
    """`[[versions]]`: one witness of the version."""

    of: Literal["disk", "served", "schema"]
    part: str = ""
    file: TreePath = ""
    command: list[str] = []
    url: str = ""
    process: str = ""
    query: str = ""
    database: str = "main"
    pattern: PatternText = ""
    pointer: str = ""
    header: str = ""
    within_s: Seconds = 10.0
    holds: RangeText = ""

    @model_validator(mode="after")
    def _complete(self) -> VersionProbe:
        ways = {"disk": ("file", "command"), "served": ("url", "process", "command"), "schema": ("query", "command")}
        given = [way for way in ("file", "command", "url", "process", "query") if getattr(self, way)]
        allowed = ways[self.of]
        if len(given) != 1 or given[0] not in allowed:
            one_of = " or ".join(f"`{way}`" for way in allowed)
            raise ValueError(f'with of = "{self.of}" needs the key {one_of}, and no other way to ask')
        if (self.pointer or self.header) and not self.url:
            raise ValueError("has `pointer` or `header`, which belong to `url`")
        return self


class Runtime(Record):
    """`[runtime]`: the language runtime that the application runs on."""

    designed = {"environment": "its environment and search path"}
    name: str = "runtime"
    command: Argv
    pattern: PatternText = r"(\d+(?:\.\d+)+)"
    packages: list[str] = []
    within_s: Seconds = 10.0


class Tool(Record):
    """`[[tools]]`: a program that the application needs beside it."""

    name: str = Field(pattern=NAME_PATTERN)
    command: Argv
    pattern: PatternText = r"(\d+(?:\.\d+)+)"
    within_s: Seconds = 10.0


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


class SiteCheck(Record):
    """`[[checks]]`: a question of the site's own, asked by query, page or command."""

    name: str = Field(min_length=1, max_length=60)
    query: str = ""
    database: str = "main"
    url: str = ""
    status: int = 200
    command: list[str] = []
    pattern: PatternText = ""
    wanted: str = ""
    level: Literal["stop", "warn"] = "stop"
    when: Literal["before", "both"] = "before"
    remedy: str = ""
    within_s: Seconds = 10.0

    @model_validator(mode="after")
    def _complete(self) -> SiteCheck:
        if sum(map(bool, (self.query, self.url, self.command))) != 1:
            raise ValueError("needs exactly one of `query`, `url` and `command`")
        if self.query and not (self.wanted or self.pattern):
            raise ValueError('with a query needs `wanted` (like "0") or `pattern`')
        return self


class DatabaseSpec(Record):
    """`[[databases]]`: one database of the site."""

    designed = {
        "order_only": "tables that only change their order",
    }
    name: str = Field(default="main", pattern=NAME_PATTERN)
    url: str
    password_env: str = ""
    password_file: str = ""
    clone: Literal["wanted", "required", "off"] = "wanted"
    lock_wait_s: Annotated[float, Field(ge=0.1, le=3_600)] = 30.0
    volatile: list[str] = []

    @model_validator(mode="after")
    def _has_engine(self) -> DatabaseSpec:
        self.address(Path("/"))
        return self

    def address(self, base: Path) -> DatabaseAddress:
        """Where the database is; relative paths are relative to `base`."""
        found = parse_address(self.name, self.url, base, self.password_env, self.password_file)
        return replace(found, lock_wait_s=self.lock_wait_s)


class SettingsFile(Record):
    """`[[keep.settings]]`: one settings file of the site."""

    designed = {"on_conflict": "how a conflict is decided", "patch": "a patch for settings that are code"}
    file: TreePath
    format: Literal["ini"] = "ini"


class Keep(Record):
    """`[keep]`: what belongs to the site and is carried across."""

    designed = {
        "shared_with": "folders that other products use too",
        "templates": "vendor files edited by the site, merged",
        "hooks": "launchers and hooks outside root",
    }
    settings: list[SettingsFile] = []
    data: list[TreePath] = []
    assets: list[TreePath] = []
    addons: list[TreePath] = []
    keys: list[TreePath] = []
    licences: list[TreePath] = []
    outside: list[OutsidePath] = []
    caches: list[str] = ["__pycache__"]
    unclaimed: Literal["stop", "carry", "leave"] = "stop"
    edited: Literal["stop", "replace"] = "stop"


class Ready(Record):
    """`[services.ready]`: how to know that a service is ready."""

    designed = {
        "log_line": "a line in its log",
        "port": "a port that answers",
        "command": "a command that succeeds",
    }
    url: str
    status: int = 200
    within_s: Seconds = 30.0


class ServiceSpec(Record):
    """`[[services]]`: one service, in the order of starting."""

    designed = {
        "unit": "a systemd unit",
        "dependants": "who must be told or restarted",
    }
    name: str = Field(pattern=NAME_PATTERN)
    kind: Literal["process", "commands"]
    run: list[str] = []
    folder: str = ""
    environment: dict[str, str] = {}
    as_user: str = ""
    pid_file: str = ""
    log: str = ""
    start: list[str] = []
    stop: list[str] = []
    status: list[str] = []
    ready: Ready | None = None
    ports: list[Annotated[int, Field(ge=1, le=65535)]] = []
    stop_within_s: Seconds = 20.0

    @model_validator(mode="after")
    def _complete(self) -> ServiceSpec:
        needed = ("run", "pid_file") if self.kind == "process" else ("start", "stop", "status")
        missing = [key for key in needed if not getattr(self, key)]
        if missing:
            raise ValueError(f'with kind = "{self.kind}" needs the key `{missing[0]}`')
        return self


class CopyTarget(Record):
    """`[[backup.copy_to]]`: a place elsewhere for copies of backups."""

    name: str = Field(pattern=NAME_PATTERN)
    folder: str = ""
    sftp: str = ""
    key_file: str = ""
    known_hosts: str = "~/.ssh/known_hosts"
    passphrase_env: str = ""
    passphrase_file: str = ""
    recipient: str = ""
    identity_file: str = ""
    climb: Literal["before", "after", "no"] = "after"

    @model_validator(mode="after")
    def _complete(self) -> CopyTarget:
        if bool(self.folder) == bool(self.sftp):
            raise ValueError("needs either `folder` or `sftp`")
        parts = urlsplit(self.sftp)
        if self.sftp and (parts.scheme != "sftp" or not parts.hostname or not parts.path.strip("/")):
            raise ValueError("has an `sftp` that is no URL like sftp://keeper@vault.example/backups/harbour")
        if parts.password is not None:
            raise ValueError("has a password in `sftp`; take it out: a key is used (`key_file`, or an agent's)")
        if sum(map(bool, (self.passphrase_env, self.passphrase_file, self.recipient))) > 1:
            raise ValueError("has several of `passphrase_env`, `passphrase_file` and `recipient`; one is enough")
        return self

    @property
    def where(self) -> str:
        """Where it is, for people."""
        return self.folder or self.sftp

    @property
    def is_sealed(self) -> bool:
        """Whether copies there are encrypted."""
        return bool(self.passphrase_env or self.passphrase_file or self.recipient)


class BackupWishes(Record):
    """`[backup]`: how backups are made, how long they are kept, where else they go."""

    first_copy: Literal["large", "always", "never"] = "large"
    keep_count: int = Field(default=0, ge=0)
    keep_days: int = Field(default=0, ge=0)
    copy_to: list[CopyTarget] = []

    @model_validator(mode="after")
    def _names_differ(self) -> BackupWishes:
        names = [one.name for one in self.copy_to]
        if len(names) > len(set(names)):
            raise ValueError("names a place of copy_to twice")
        return self


class SettleWishes(Record):
    """`[settle]`: when a climb is accepted without being asked."""

    after_days: int = Field(default=0, ge=0)


class Maintenance(Record):
    """`[maintenance]`: how users are shut out and let in again."""

    designed = {"setting": "a settings key that closes the site"}
    flag: str = ""
    message: str = "The site is being upgraded and will be back shortly."
    close: list[str] = []
    open: list[str] = []

    @model_validator(mode="after")
    def _one_way(self) -> Maintenance:
        if bool(self.flag) == bool(self.close) or bool(self.close) != bool(self.open):
            raise ValueError("needs either `flag`, or both `close` and `open`")
        return self


class SiteFile(Record):
    """The whole site file."""

    designed = {
        "commands": "commands at points of a climb",
        "landing": "what must be done at a landing",
    }
    format: Literal[1]
    name: str = Field(pattern=NAME_PATTERN)
    product: str = Field(min_length=1)
    root: str = Field(min_length=1)
    state: str = ".ladder"
    placement: Literal["exchange"] = "exchange"
    owner: str = ""
    group: str = ""
    file_mode: ModeText = ""
    folder_mode: ModeText = ""
    on_failure: Literal["go-back", "stop"] = "go-back"
    releases: ReleaseSource
    versions: list[VersionProbe] = Field(min_length=1)
    runtime: Runtime | None = None
    tools: list[Tool] = []
    databases: list[DatabaseSpec] = []
    addons: AddOnSheet = AddOnSheet()
    checks: list[SiteCheck] = []
    role: str = "primary"
    replicas: list[Replica] = []
    keep: Keep = Keep()
    services: list[ServiceSpec] = []
    maintenance: Maintenance | None = None
    backup: BackupWishes = BackupWishes()
    settle: SettleWishes = SettleWishes()

    @model_validator(mode="after")
    def _names_agree(self) -> SiteFile:
        for what, names in (
            ("database", [database.name for database in self.databases]),
            ("service", [service.name for service in self.services]),
            ("tool", [tool.name for tool in self.tools]),
        ):
            twice = sorted({name for name in names if names.count(name) > 1})
            if twice:
                raise ValueError(f"names the {what} {twice[0]!r} twice")
        known = {database.name for database in self.databases}
        for probe in self.versions:
            if probe.query and probe.database not in known:
                raise ValueError(f"has a schema probe of the database {probe.database!r}, which is not in it")
            if probe.process and probe.process not in [service.name for service in self.services]:
                raise ValueError(f"has a probe of the service {probe.process!r}, which is not in it")
        for check in self.checks:
            if check.query and check.database not in known:
                raise ValueError(
                    f"asks the database {check.database!r} in the check {check.name!r}, which is not in it"
                )
        if not any(probe.of == "disk" and not probe.part for probe in self.versions):
            raise ValueError('needs one [[versions]] with of = "disk" and without `part`')
        return self
