"""The frozen plan of a climb: everything that was decided, so that going on and going back decide nothing anew."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from yellow_ladder.durable import write_json
from yellow_ladder.errors import BadInput, Problem
from yellow_ladder.files.entry import Manifest, below_any
from yellow_ladder.files.listing import Listing
from yellow_ladder.release.contract import Contract
from yellow_ladder.release.sheet import Migration, ReleaseSheet
from yellow_ladder.settings.judge import KeyNote
from yellow_ladder.settings.merging.outcomes import Fate
from yellow_ladder.site.moves import moved_text
from yellow_ladder.site.service_records import CronRecord
from yellow_ladder.site.site import Site, site_from_text

PLAN_NAME = "plan.json"
FORMAT = 3
BEFORE, MERGED = "settings", "merged"
"""Folders of a climb with the settings files as they were, and as they will be."""


LARGE_BYTES = 256 * 1024**2
"""Files from which on a copy is made before the window: less is archived in it about as soon as it is found out what
has changed since.
"""


@dataclass(frozen=True)
class RungPlan:
    """One rung: the staged tree (and the mark that proves it), what is moved into it, what is migrated.

    `folder` is the tree path of a release that has a folder of its own, and `runtime` the program it is built with.
    """

    number: int
    from_version: str
    to_version: str
    archive: str
    sha256: str
    staged: str
    mark: int
    data: tuple[tuple[str, str], ...]  # (path before this rung, path after it) of each data folder
    renamed: Mapping[str, str]  # paths in the site file that have moved by the end of this rung
    sheet: Mapping[str, Any]
    folder: str = ""
    runtime: str = ""

    @cached_property
    def parsed(self) -> ReleaseSheet:
        """The release's sheet. Every list of steps asks for it many times, and to read it takes milliseconds."""
        return ReleaseSheet.model_validate(self.sheet)

    @property
    def is_passage(self) -> bool:
        """Whether the release only carries the data on: it is made, its migrations run, and it is never placed."""
        return bool(self.folder) and self.parsed.reach.passage

    @property
    def migrations(self) -> list[Migration]:
        """The release's migrations."""
        return self.parsed.migrations

    @property
    def contracts(self) -> list[Contract]:
        """What the release declares of the data."""
        return self.parsed.contract


@dataclass(frozen=True, slots=True)
class Seen:
    """What the plan was made from; the climb does not begin when it has changed since."""

    site_file: str
    tree: str
    schemas: Mapping[str, str]


@dataclass(frozen=True, slots=True)
class Beyond:
    """Where the way leads after the landing that a climb ends at: the target, and what is to be done before."""

    to_version: str
    instructions: tuple[str, ...]
    previews: bool = False
    withdrawn: bool = False


@dataclass(frozen=True, slots=True)
class WayBack:
    """How one database goes back: from a quick clone where `clone` says so, else from its dump; about how long each
    takes, and why there is no clone. `set_aside`: the data folder of its server, which comes back as a whole.
    """

    database: str
    clone: bool
    load_s: float
    clone_s: float
    why: str = ""
    set_aside: str = ""


@dataclass(frozen=True, slots=True)
class Plan:
    """The whole plan. `folder` is where it lies and is not part of it.

    `from_folder` is the tree path of the release before, where releases have folders of their own. `answered`: whether
    the page that tells the version did, where there is one. `data_bytes`: what data folders held, to tell how far a
    copy of all files is.
    """

    folder: Path
    climb: str
    tool: str
    site_file: str
    site_text: str
    from_version: str
    to_version: str
    made_at: str
    root_mark: int
    work: str
    seen: Seen
    rungs: tuple[RungPlan, ...]
    running: tuple[str, ...]  # services that ran when the plan was made
    settings: tuple[KeyNote, ...] = ()
    beyond: Beyond | None = None
    ways_back: tuple[WayBack, ...] = ()
    first_copy: bool = False
    from_folder: str = ""
    answered: bool = False  # which is how a plan of an earlier build goes on
    data_bytes: int = 0

    @property
    def site(self) -> Site:
        """The site as its file was when the plan was frozen."""
        return site_from_text(Path(self.site_file), self.site_text.encode())

    @property
    def renamed_paths(self) -> Mapping[str, str]:
        """Paths in the site file that the releases on the route move."""
        return self.rungs[-1].renamed

    def site_at(self, rung: RungPlan) -> Site:
        """The site as it is after a rung: the same, with moved paths followed."""
        text = moved_text(self.site_text, rung.renamed)
        return site_from_text(Path(self.site_file), text.encode())

    @property
    def backup_name(self) -> str:
        """The name of the backup that this climb makes."""
        stamp = self.climb.split("-", 1)[0]
        return f"{self.site.name}-{self.from_version}-{stamp}"

    def clone_place(self, database: str) -> Path:
        """What the quick clone of a database is known by."""
        return self.folder / "clone" / database

    def contracts_of(self, database: str) -> list[tuple[str, Contract]]:
        """All rungs' contracts for one database, in order, with the version that declares them."""
        return [(r.to_version, c) for r in self.rungs for c in r.contracts if c.database == database]

    @property
    def serves(self) -> bool:
        """Whether anything that answers ran when the plan was made; a timetable answers nobody. Where the site has no
        service of its own, something else serves it if anything does, like a web server that serves others, too.
        """
        services = self.site.record.services
        tables = {spec.name for spec in services if isinstance(spec, CronRecord)}
        return self.answered if len(tables) == len(services) else not tables.issuperset(self.running)

    def data_folders(self) -> list[tuple[str, tuple[str, ...]]]:
        """Each data folder's path before the climb, and its paths after each rung in turn."""
        followed = []
        for first, _ in self.rungs[0].data:
            names = [first]
            for rung in self.rungs:
                names.append(dict(rung.data).get(names[-1], names[-1]))
            followed.append((first, tuple(names[1:])))
        return followed

    def expected(self, rung: RungPlan) -> Manifest:
        """The staged tree of a rung as it was made ready."""
        return Listing.opened(self.folder / f"expected-{rung.number}.jsonl")

    def coming(self, rung: RungPlan) -> Manifest:
        """What a rung puts into a tree that stays where it is."""
        return Listing.opened(self.folder / f"coming-{rung.number}.jsonl")

    def going(self, rung: RungPlan) -> list[str]:
        """What a rung takes out of such a tree: files of the release before that it has no more."""
        return list(json.loads((self.folder / f"going-{rung.number}.json").read_bytes()))

    def merged(self, rung: RungPlan, file: str) -> Path:
        """A settings file, named by its path before the climb, as it will be after a rung."""
        return self.folder / MERGED / str(rung.number) / below_any(file)

    def before(self, file: str) -> Path:
        """A settings file as it was before the climb."""
        return self.folder / BEFORE / below_any(file)

    def digest(self) -> str:
        """SHA-256 of the plan file: the journal's first link."""
        return hashlib.sha256((self.folder / PLAN_NAME).read_bytes()).hexdigest()


def migrations_folder(folder: Path, number: int) -> Path:
    """Where the migration files of a rung are kept, away from the trees that are exchanged."""
    return folder / "migrations" / str(number)


def freeze(plan: Plan) -> None:
    """Write the plan; from here on it never changes."""
    record = asdict(plan)
    del record["folder"]
    write_json(plan.folder / PLAN_NAME, {"format": FORMAT, **record})


def read_plan(folder: Path) -> Plan:
    """Read a frozen plan; raises BadInput when it is missing or unreadable."""
    path = folder / PLAN_NAME
    try:
        record = json.loads(path.read_bytes())
        if record.pop("format") != FORMAT:
            raise ValueError("it was written by another build of yl")
        rungs = tuple(
            RungPlan(**{**rung, "data": tuple((old, new) for old, new in rung["data"])}) for rung in record["rungs"]
        )
        seen = Seen(**record["seen"])
        settings = tuple(KeyNote(**{**one, "fate": Fate(one["fate"])}) for one in record["settings"])
        beyond = record.get("beyond")
        if beyond is not None:
            beyond = Beyond(**{**beyond, "instructions": tuple(beyond["instructions"])})
        ways = tuple(WayBack(**way) for way in record.get("ways_back", ()))
        running = tuple(record["running"])
        built = {
            "folder": folder,
            "running": running,
            "settings": settings,
            "rungs": rungs,
            "seen": seen,
            "beyond": beyond,
            "ways_back": ways,
        }
        return Plan(**{**record, **built})
    except (OSError, ValueError, KeyError, TypeError) as fault:
        text = f"the plan {path} cannot be read: {fault}"
        raise BadInput(
            Problem("plan-unreadable", text, "see `yl history` for the climbs there are", str(path))
        ) from fault
