"""What a look at an installed application has found."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from yellow_ladder.discovery.data import Guess
from yellow_ladder.discovery.databases import FoundDatabase
from yellow_ladder.discovery.running import Running
from yellow_ladder.discovery.served import Served
from yellow_ladder.discovery.servers import FoundServer
from yellow_ladder.discovery.shapes import Behind, Environment
from yellow_ladder.discovery.units import Unit
from yellow_ladder.services.timetables import Job


@dataclass(slots=True)
class Discovery:
    """What was found below a folder; paths are relative to it."""

    root: Path
    product: str = ""
    version_file: str = ""
    version_pattern: str = ""
    version: str = ""
    package: str = ""  # the archive of the installed release, where it is at hand
    settings: list[Guess] = field(default_factory=list)
    shipped: dict[str, str] = field(default_factory=dict)  # settings file -> the vendor's sample of it
    databases: list[FoundDatabase] = field(default_factory=list)
    data: list[Guess] = field(default_factory=list)
    logs: list[Guess] = field(default_factory=list)
    addons: list[Guess] = field(default_factory=list)
    assets: list[Guess] = field(default_factory=list)
    keys: list[Guess] = field(default_factory=list)
    licences: list[Guess] = field(default_factory=list)
    caches: list[Guess] = field(default_factory=list)
    environment_files: list[Guess] = field(default_factory=list)
    set_by_files: set[str] = field(default_factory=set)  # the variables in them
    units: list[Unit] = field(default_factory=list)
    behind: Behind | None = None
    environment: Environment | None = None
    runtime: str = ""  # the program that its code is for, where that can be asked here
    removed: list[str] = field(default_factory=list)  # of the release, and not here
    others: list[str] = field(default_factory=list)
    running: list[Running] = field(default_factory=list)
    jobs: list[Job] = field(default_factory=list)
    served: list[Served] = field(default_factory=list)
    servers: list[FoundServer] = field(default_factory=list)
    as_files: dict[str, int] = field(default_factory=dict)  # folders, and how many SQLite files in them stay files
    connected: list[str] = field(default_factory=list)  # to which servers, where the database's name is not known
    apart: list[Guess] = field(default_factory=list)  # single files outside root that a process writes to
    variables: dict[int, tuple[str, ...]] = field(default_factory=dict)  # that nothing else sets, by process
    shortened: bool = False
