"""The names of steps, as values: what the lists of steps, the journal and every question about it have in common."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yellow_ladder.errors import BadInput, Problem


class StepKind(StrEnum):
    """What a step does; the first group on the way up, the second on the way back."""

    LOOK_AGAIN = "look-again"
    ASK_BEFORE = "ask-before"
    FIRST_COPY = "first-copy"
    CLOSE = "close"
    STOP = "stop"
    AT_REST = "at-rest"
    LOOK_AT_REST = "look-at-rest"
    BACKUP_FILES = "backup-files"
    BACKUP_DATABASE = "backup-database"
    READ_BACK = "backup-read-back"
    BEFORE = "before"
    CLONE = "clone"
    COPY = "copy"
    ASK_FOR_RELEASE = "rung-ask"
    EXPORT = "rung-export"
    SERVER_STOP = "server-stop"
    PLACE = "rung-place"
    IMPORT = "rung-import"
    SERVER_START = "server-start"
    MIGRATE = "rung-migrate"
    MIGRATE_BY_COMMAND = "rung-migrate-command"
    MIGRATE_BY_START = "rung-migrate-start"
    COMMAND = "command"
    BUILD = "build"
    CHECK_RUNG = "rung-check"
    HOLD = "rung-hold"
    LET_IN = "let-in"
    START = "start"
    PROVE = "prove"
    ALIVE = "alive"
    KEEP_LEFT = "keep-left"
    SITE_FILE = "site-file"
    OPEN = "open"
    ASK_OPENED = "ask-opened"
    TIDY = "tidy"

    BACK_CLOSE = "back-close"
    BACK_STOP = "back-stop"
    BACK_AT_REST = "back-at-rest"
    BACK_KEEP_NEWER = "back-keep-newer"
    BACK_SERVER_STOP = "back-server-stop"
    BACK_TREE = "back-tree"
    BACK_REMADE = "back-remade"
    BACK_FILES = "back-files"
    BACK_SERVER_START = "back-server-start"
    BACK_DATABASE = "back-database"
    BACK_SITE_FILE = "back-site-file"
    BACK_LET_IN = "back-let-in"
    BACK_COMMAND = "back-command"
    BACK_START = "back-start"
    BACK_PROVE = "back-prove"
    BACK_ALIVE = "back-alive"
    BACK_OPEN = "back-open"
    BACK_KEEP_WRITTEN = "back-keep-written"
    BACK_TIDY = "back-tidy"


@dataclass(frozen=True, slots=True)
class StepName:
    """One step of a climb: its kind, and what it is about: a service, a database, a place for copies, a rung's number,
    a command.

    As text, in the journal, `close` or `stop:web`.
    """

    kind: StepKind
    of: str = ""

    def __str__(self) -> str:
        """As the journal has it."""
        return f"{self.kind}:{self.of}" if self.of else str(self.kind)

    @staticmethod
    def parse(text: str) -> StepName:
        """Read the text; raises BadInput for a step that this build does not know."""
        kind, _, of = text.partition(":")
        try:
            return StepName(StepKind(kind), of)
        except ValueError as unknown:
            message = f"the journal has a step that this yl does not know: {text}"
            remedy = "go on with the build of yl that began this climb"
            raise BadInput(Problem("step-unknown", message, remedy)) from unknown
