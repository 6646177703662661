"""Commands of vendors and sites, as release sheets and site files have them alike."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated

from pydantic import BeforeValidator, Field, model_validator

from yellow_ladder.documents import Record
from yellow_ladder.release.values import Argv, DataPath, PageUrl, PatternText, Seconds, TreePath

USUAL_LIMIT_S = 3_600.0


class Point(StrEnum):
    """When a command is run. Those of the second group, and the first, are reached at every rung, the others once."""

    SETTINGS = "settings"

    BEFORE_CLOSE = "before-close"
    CLOSED = "closed"

    PLACED = "placed"
    BEFORE_MIGRATIONS = "before-migrations"
    AFTER_MIGRATIONS = "after-migrations"

    BEFORE_START = "before-start"
    STARTED = "started"
    OPENED = "opened"
    GOING_BACK = "going-back"

    # What `[[remade]]` runs: the release before exports, the new one imports.
    EXPORT = "export"
    IMPORT = "import"

    @property
    def is_of_each_rung(self) -> bool:
        """Whether every rung reaches it."""
        return self in (Point.SETTINGS, Point.PLACED, Point.BEFORE_MIGRATIONS, Point.AFTER_MIGRATIONS)


def _point(value: object) -> object:
    """Points are written as text; records take nothing but what they are."""
    return Point(value) if isinstance(value, str) and value in list(Point) else value


PointText = Annotated[Point, BeforeValidator(_point)]


class Reply(Record):
    """`answers`: what a command asks at its terminal, and what it is told; `say_variable` names a variable instead."""

    asked: PatternText
    say: str = ""
    say_variable: str = ""

    @model_validator(mode="after")
    def _one_answer(self) -> Reply:
        if self.say and self.say_variable:
            raise ValueError("has both `say` and `say_variable`")
        return self


class CommandKeys(Record):
    """What can be said of any command that is run in a climb."""

    run: Argv
    folder: str = ""
    environment: dict[str, str] = {}
    within_s: Seconds = USUAL_LIMIT_S
    silent_s: Seconds | None = None
    answers: list[Reply] = []
    terminal: bool = False
    exit_codes: list[int] = Field(default=[0], min_length=1)
    failed: PatternText = ""
    warned: PatternText = ""
    done: PatternText = ""
    writes: list[DataPath] = []
    twice: bool = False

    @property
    def given_groups(self) -> Sequence[str]:
        """Groups that it has besides those of its account: none, for a vendor does not say whose rights it gets."""
        return ()

    def names(self, brace: str) -> bool:
        """Whether it is given what stands for `{brace}`."""
        return any("{" + brace + "}" in one for one in (*self.run, self.folder, *self.environment.values()))


class ReleaseCommand(CommandKeys):
    """`[[commands]]` of a sheet: a command that the vendor wants run."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[^/\n]+$")
    at: PointText

    @model_validator(mode="after")
    def _fits_its_point(self) -> ReleaseCommand:
        refuse_misplaced(self.at, self)
        return self


class SameAnswer(Record):
    """`remade.same`: a command of the release before and one of the new release that must print the same."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[^/\n]+$")
    before: Argv
    after: Argv | None = None


class Remade(Record):
    """`[[remade]]`: a data folder that is made anew while the old one lies aside.

    The new release imports into an empty one what the release before has exported, or what it reads in the old folder
    itself; or the new folder begins as a copy of the old one.
    """

    folder: TreePath
    export_by: CommandKeys | None = None
    import_by: CommandKeys | None = None
    copied: bool = False
    carries: list[TreePath] = []
    same: list[SameAnswer] = []

    @model_validator(mode="after")
    def _hands_over(self) -> Remade:
        for name, keys in (("export_by", self.export_by), ("import_by", self.import_by)):
            if keys is not None and keys.writes:
                raise ValueError(f"has `writes` in `{name}`, which writes its folder and nothing else")
        if self.copied:
            if self.export_by is not None or self.carries:
                raise ValueError("has `export_by` or `carries` beside `copied`, which takes everything along")
            return self
        if self.import_by is None:
            raise ValueError("needs `import_by`, or `copied = true` where the new release goes on with a copy")
        if self.export_by is None:
            if not self.import_by.names("before"):
                text = "what the release before exports, or {before} in `import_by`"
                raise ValueError(f"needs `export_by`: {text}, the old folder that is read")
            return self
        for name, keys in (("export_by", self.export_by), ("import_by", self.import_by)):
            if not keys.names("exported"):
                raise ValueError(f"needs {{exported}} in `{name}`: the folder that what is exported lies in meanwhile")
        return self


def refuse_misplaced(at: Point, keys: CommandKeys) -> None:
    """Raise ValueError for what cannot be at a point of a climb."""
    if at in (Point.EXPORT, Point.IMPORT):
        raise ValueError(f"is at {at}, which is no point for commands: see [[remade]]")
    if at is Point.GOING_BACK and not keys.twice:
        raise ValueError("is run when going back, which may be begun again after a kill: it needs twice = true")
    if at is Point.SETTINGS and (keys.writes or not keys.twice):
        raise ValueError("only reads the settings that it is given, while the site serves: no `writes`, twice = true")
    told = [keys.folder, *keys.run, *keys.environment.values()]
    if at is Point.BEFORE_CLOSE and any("{release}" in one for one in told):
        raise ValueError("names {release} before there is a backup, and a new release must not meet the data by then")


class ByStart(Record):
    """`migrations.by_start`: the release migrates when it is started, and this tells that it is done.

    `failed` is a line of the log that tells that it will not be; `writes` are the files that it may change meanwhile.
    """

    service: str = ""
    url: PageUrl = ""
    status: int = 200
    log_line: PatternText = ""
    failed: PatternText = ""
    query: str = ""
    wanted: str = ""
    database: str = "main"
    writes: list[DataPath] = []
    within_s: Seconds = USUAL_LIMIT_S

    @model_validator(mode="after")
    def _asks_something(self) -> ByStart:
        if not (self.url or self.log_line or self.query):
            raise ValueError("needs a sign that it is done: `url`, `log_line` or `query`, or several of them")
        if bool(self.query) != bool(self.wanted):
            raise ValueError("needs `query` and `wanted` together, or neither")
        return self
