"""What every database engine must be able to do for a climb."""

from __future__ import annotations

from collections.abc import Callable, Collection, Generator, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from yellow_ladder.database.address import DatabaseAddress
from yellow_ladder.database.selection import Selection

if TYPE_CHECKING:
    from yellow_ladder.database.columns import Column

Row = tuple[Any, ...]
Chunk = Sequence[Row]
OnAmount = Callable[[int, int], None]
"""Called with (done, total) of an amount in bytes."""


@dataclass(frozen=True, slots=True)
class Table:
    """A table as it stands: its columns in order, and those of its key: the primary one, or the shortest that is unique
    and never NULL; none where no such thing tells its rows apart.
    """

    name: str
    columns: tuple[str, ...]
    key: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Span:
    """A part of a table, both ends included: by the values of `column`, or by the engine's own numbers of rows.

    A table is read whole or in spans that do not overlap.
    """

    low: int
    high: int
    column: str = ""


def cut(low: int, high: int, parts: int, edges: Sequence[int] = ()) -> list[tuple[int, int]]:
    """Cut a range of numbers into parts of equal length, or where `edges` say that parts after the first begin."""
    begins = [low + (high + 1 - low) * part // parts for part in range(1, parts)]
    inner = [edge for edge in edges or begins if low < edge <= high]
    return list(zip([low, *inner], [*(edge - 1 for edge in inner), high], strict=True))


@dataclass(frozen=True, slots=True)
class LedgerEntry:
    """One migration that was applied: written in the same transaction as its changes."""

    migration: str
    version: str
    sha256: str
    applied_at: str


@dataclass(frozen=True, slots=True)
class TableChanges:
    """Rows of a table that differ between two moments."""

    table: str
    added: int
    changed: int
    deleted: int


@dataclass(frozen=True, slots=True)
class Traits:
    """What a database is like: engine (as sheets name it), its version, encoding, collations in use, sequences."""

    engine: str
    version: str
    encoding: str
    collations: tuple[str, ...] = ()
    sequences: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Session:
    """Somebody who is connected to a server; `transaction_s` is how long a transaction of theirs has been open."""

    who: str
    transaction_s: float | None = None


@dataclass(frozen=True, slots=True)
class Sums:
    """What a server summed of a part of a table: its rows, and of each column how many values are not NULL, their
    hashes tied to their rows, and their hashes alone, both modulo 2**64. `way` names how the hashes are made.
    """

    way: str
    rows: int
    columns: tuple[tuple[int, int, int], ...]


FIELD_END, ROW_END, NULL_MARK = b"\x1f", b"\x1e", b"\x1d"


@dataclass(frozen=True, slots=True)
class Packed:
    """Rows as one piece of bytes: values in UTF-8, FIELD_END between them, ROW_END behind each row; NULL is NULL_MARK.

    `filled` says of each column how many values are not NULL, so that a text that looks like a mark is found out.
    """

    data: bytes
    rows: int
    filled: tuple[int, ...]


class CannotPack(Exception):
    """Rows cannot be told from one packed piece; they must be read one by one."""


class UndecodableText(Exception):
    """A text value is not valid in the database's encoding; the reading must start again, leniently."""


# How a fault ends that is none: the engine lacks what the application brings with it.
OF_APPLICATION = "is the application's own"
LEDGER_TABLE = "yellow_ladder_ledger"
NOT_READ = "not read: "
"""How the words begin for what is kept apart and may not be read."""
NOT_FILLED = "not filled"
"""A materialised view that gives an error to whoever reads it, until it is filled."""
AS_ASKED = "; what its query gives"
"""How the words end for a materialised view that holds what its query gives now."""
COUNTER_OF = "counter of "
"""Before the name of a table whose own counter gives out numbers that are free, wherever it stands."""
Details = Mapping[str, Any]
"""What a backup's file does not say of its database: owner and rights, as the engine needs them for putting it back."""


class Database(Protocol):
    """One database of a site. Every method connects, does its work and disconnects; see `kept` for what may stay."""

    address: DatabaseAddress
    ending: str
    """How the name of a backup of this engine ends."""
    reads_alone: bool
    """Whether it is read at a moment that only this process can see."""
    moves_meanwhile: bool
    """Whether what `backed_up` gives to read may have been written to since, where others were not kept from it."""

    def probe(self) -> str:
        """Engine and version; raises AnswerNo or BadInput when it is missing, locked or no database."""

    def size_bytes(self) -> int:
        """What the database takes on disk."""

    def own_files(self) -> tuple[Path, ...]:
        """Files that are the database's, to be left out of a copy of the files."""

    def tables(self) -> list[Table]:
        """All tables of the site in name order, without the engine's and the ledger's."""

    def objects(self) -> dict[str, str]:
        """Views, triggers, indexes and everything else that is defined, by `kind name`, with its definition.

        Of the kind `table`, the definition has what a fingerprint does not see: types, defaults, owner, rights.
        """

    def object_counts(self) -> dict[str, int]:
        """How many objects there are of each kind, by the first word of their names in `objects`."""

    def positions(self) -> dict[str, str]:
        """Where each sequence stands, by its name, or by `table.column` where it belongs to one; and each table's own
        counter, by `COUNTER_OF` and the table.
        """

    def kept_apart(self, known: Mapping[str, str]) -> dict[str, str]:
        """What is kept beside the rows of tables, by `kind name`, in words that are equal where it is: `history` of
        versioned tables, `contents` of materialised views.

        `known` is what was kept before: only the history of then is told, and of contents that are others, whether they
        are AS_ASKED.
        """

    def scalar(self, query: str) -> Any:
        """The first value of the first row of a query, None where there is no row; reads only."""

    def count_rows(self, table: str) -> int:
        """The number of rows of a table."""

    def count_all(self, tables: Sequence[str], *, gently: bool = False) -> dict[str, int]:
        """The number of rows of each of these tables.

        `gently`: counted so that no writer waits for longer than a moment; rows may come meanwhile.
        """

    def traits(self) -> Traits:
        """Version of the engine, encoding, collations, sequences."""

    def broken_objects(self) -> list[str]:
        """Views and triggers that no longer work, each with the reason."""

    def invalid_constraints(self, *, thorough: bool) -> list[str]:
        """Constraints that rows break. Unless `thorough`, what would take long is named as not checked."""

    def writers(self) -> list[int]:
        """Processes of this machine with a write transaction open just now; takes no lock."""

    def holders(self) -> list[int]:
        """Processes of this machine, but this one, that have the database's files open; none of a server's."""

    def sessions(self) -> list[Session]:
        """Who else is connected, where a server knows."""

    def lacks(self) -> list[tuple[str, str]]:
        """What this account may not do here, or what is missing, that a backup and its return would need; each with
        its remedy.
        """

    def beyond_backups(self) -> list[str]:
        """What a backup does not hold though it belongs to the database, or the server empties by itself, in words."""

    def unfinished(self) -> str:
        """What a crash left unfinished in the database, or nothing."""

    def spans(self, table: str, parts: int, edges: Sequence[int] = ()) -> list[Span | None]:
        """Up to `parts` spans of about equal length that cover the table; `[None]` when it cannot be parted.

        Where its key is one whole number and rows lie in its order, they are spans of that column. With `edges` they
        begin there, as far as there are rows.
        """

    def read_rows(
        self, table: Table, columns: Sequence[str], span: Span | None, *, lenient: bool = False
    ) -> Iterator[Chunk]:
        """Rows in chunks of bounded memory; raises UndecodableText unless `lenient`, which is slower."""

    def sums_itself(self) -> bool:
        """Whether `summed` gives sums."""

    def summed(self, selection: Selection, key: Sequence[str], span: Span | None) -> Sums | None:
        """Sums of a selection's columns, tied to the columns `key` of it, worked out where the data are.

        None where the engine has no hash of 64 bits that is the same in all its versions.
        """

    def read_packed(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[Packed] | None:
        """The same rows as `read_rows` gives, all values of them text; None where that cannot be had.

        May raise CannotPack on the way, and UndecodableText.
        """

    def read_columns(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[list[Column]] | None:
        """The same rows by columns, in bulk; None where that cannot be had. May raise CannotPack on the way, and
        UndecodableText.
        """

    def read_selected(self, selection: Selection, *, lenient: bool = False) -> Iterator[Chunk]:
        """Rows of a selection in chunks; raises UndecodableText unless `lenient`, AnswerNo where SQL of it is wrong."""

    def sorted_selected(self, selection: Selection, width: int, *, lenient: bool = False) -> Generator[Row, None, None]:
        """Its rows by the bytes of the text of its first `width` columns, NULL first; these bytes come before each
        row's columns.
        """

    def selected_columns(self, selection: Selection) -> tuple[str, ...]:
        """The engine's names of a selection's columns; nothing is read. Raises AnswerNo where its SQL is wrong."""

    def query_columns(self, query: str) -> tuple[str, ...]:
        """The names of the columns of a query's answer."""

    def quoted(self, identifier: str) -> str:
        """An identifier in the engine's own quoting."""

    def unlike(self, first: str, second: str) -> str:
        """SQL that is true where two expressions differ; NULL is like NULL."""

    def backed_up(self, target: Path, on_amount: OnAmount, *, at_rest: bool) -> AbstractContextManager[Database]:
        """Write a backup to `target`, which is not there yet, consistent while others write.

        Gives a database to read that holds what the backup holds, for as long as the block lasts. `at_rest`: nobody
        is meant to write, and nobody may.
        """

    def is_same_as_backup(self, backup: Path) -> bool:
        """Whether the database is sure to hold what a backup taken of it just now holds."""

    def check_backup(self, backup: Path) -> None:
        """Read a backup through and raise AnswerNo unless its structure is sound."""

    def held_still(self, scratch: Path) -> AbstractContextManager[Database]:
        """The database as it is now, to be read at length while others write; `scratch` is a path for a copy."""

    def copied_to(self, backup: Path, scratch: Path) -> Database:
        """A scratch database with a backup's content, to be written to and thrown away; `scratch` is what it is known
        by, and its place where it is a file. What is there already is replaced.
        """

    def opened_scratch(self, scratch: Path) -> Database:
        """A scratch database that was made before."""

    def drop_scratch(self, scratch: Path) -> None:
        """Remove a scratch database, also one that is only half made; may be repeated."""

    def details(self) -> Details:
        """Owner and rights of the database itself."""

    def changes_since(self, then: Database, leave_out: Collection[str] = ()) -> list[TableChanges]:
        """What differs from an earlier state of the same descent, table by table; both must be at rest."""

    def write_changes_since(self, then: Database, changes: Sequence[TableChanges], folder: Path) -> list[Path]:
        """Write the rows that differ as CSV, a file for each table that has any."""

    def restore_from(self, backup: Path, details: Details) -> None:
        """Make the database what the backup holds, and set the present one aside in one instant; may be repeated.

        What an earlier call has set aside is gone then: look at it before.
        """

    def keep_others_out(self) -> None:
        """Keep other sessions from writing until `let_others_in`, by means of the engine, where it has any for one
        database that this account may use; sessions that are there are ended then. May be repeated.
        """

    def let_others_in(self) -> None:
        """Undo that; may be repeated."""

    def why_others_get_in(self) -> tuple[str, str]:
        """Why others may write while they are kept out, in words, with what would change that; nothing where they may
        not, and where the engine has no door at all.
        """

    def why_only_counted(self) -> tuple[str, str]:
        """Why rows that differ, or were written since, could be counted and not told, in words, with what would change
        that; nothing where they can be told.
        """

    def accounts(self) -> dict[str, str]:
        """What its server knows of accounts and other things that are no part of a database, with what is set for each;
        without secrets. Empty where there is no server, or this account may not look.
        """

    def others_of_server(self) -> list[str]:
        """Databases of people's that its server has besides this one."""

    def data_folder(self) -> Path | None:
        """Where the server keeps its data on this machine, None where it does not say, or is another machine's."""

    def sets_aside(self) -> bool:
        """Whether putting back can set the present database aside; where it cannot, a copy must be kept before."""

    def set_aside(self) -> Database | None:
        """What putting back has set aside: the database as it was until that instant, which nobody writes to any more.

        None where there is none. Raises AnswerNo where somebody still has it open.
        """

    def why_no_clone(self) -> str:
        """Why there is no quick clone of this database, in words for people; nothing where there is one."""

    def make_clone(self, place: Path) -> int:
        """Keep the database as it is now so that it can be put back quickly; nobody writes to it. Returns its bytes.

        `place` is what the clone is known by, and where it lies if it is files. May be repeated.
        """

    def has_clone(self, place: Path) -> bool:
        """Whether there is a clone; whether it is whole is for the journal to say."""

    def opened_clone(self, place: Path) -> AbstractContextManager[Database | None]:
        """The clone, to be read for as long as the block lasts; None where there is none, or it is no database."""

    def return_to_clone(self, place: Path, details: Details) -> None:
        """Make the database what the clone holds, as `restore_from` does; the clone may be used up by that."""

    def drop_clone(self, place: Path) -> None:
        """Remove a clone; may be repeated."""

    def drop_leftovers(self) -> None:
        """Remove what putting back has set aside; may be repeated, and nothing waits for it."""

    def ledger(self) -> list[LedgerEntry]:
        """Migrations applied by this tool, in order."""

    def apply(self, statements: Sequence[str], entry: LedgerEntry) -> bool:
        """Run statements and write the ledger entry, each exactly once however often it is begun; False when the
        entry is there already. Where the engine can, it is one transaction.
        """
