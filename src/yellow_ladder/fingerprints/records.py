"""Fingerprints as they are kept."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from yellow_ladder.database.port import COUNTER_OF, Sums

MODULUS = 2**64
OUR_WAY = "words"
TWO_WAYS = "cannot be compared: its fingerprint before was taken in another way, by another build of yl or server"


@dataclass(frozen=True, slots=True)
class ColumnSums:
    """One column's fingerprint: values that are not NULL, their sum mixed with the key, their sum alone."""

    values: int = 0
    keyed: int = 0
    loose: int = 0

    def __add__(self, other: ColumnSums) -> ColumnSums:
        """The fingerprint of both parts of a table together."""
        return ColumnSums(
            self.values + other.values,
            (self.keyed + other.keyed) % MODULUS,
            (self.loose + other.loose) % MODULUS,
        )


@dataclass(frozen=True, slots=True)
class Piece:
    """A part of a table whose key is one whole number: where it begins, its rows, the keyed sum of each column.

    Two sides of which all pieces but one are equal differ in that one.
    """

    begin: int
    rows: int
    keyed: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class TablePrint:
    """One table: its rows, the key that its columns are tied to, and each column's sums.

    `unread` are columns that are there and were not summed, since there is nothing to hold them against. `way` says how
    values were hashed: here, or by a server's own means. Sums made in two ways say nothing of each other.
    """

    rows: int
    key: tuple[str, ...]
    columns: Mapping[str, ColumnSums]
    unread: tuple[str, ...] = ()
    way: str = OUR_WAY
    pieces: tuple[Piece, ...] = field(default=(), compare=False)

    @property
    def edges(self) -> tuple[int, ...]:
        """Where its pieces begin, but for the first, which has all that is before the second."""
        return tuple(one.begin for one in self.pieces[1:])

    def as_piece(self, begin: int) -> TablePrint:
        """The same, as a part that begins there."""
        return replace(self, pieces=(Piece(begin, self.rows, tuple(one.keyed for one in self.columns.values())),))

    @property
    def names(self) -> tuple[str, ...]:
        """All columns."""
        return (*self.columns, *self.unread)

    def __add__(self, other: TablePrint) -> TablePrint:
        """Two parts of one table together."""
        columns = {name: sums + other.columns[name] for name, sums in self.columns.items()}
        pieces = (*self.pieces, *other.pieces)
        return TablePrint(self.rows + other.rows, self.key, columns, self.unread, self.way, pieces)

    def as_record(self) -> dict[str, Any]:
        """As JSON; sums in hex, since JSON numbers end at 2**53."""
        sums = {name: [one.values, f"{one.keyed:016x}", f"{one.loose:016x}"] for name, one in self.columns.items()}
        return {
            "rows": self.rows,
            "key": list(self.key),
            "columns": sums,
            "unread": list(self.unread),
            "way": self.way,
            "pieces": [[one.begin, one.rows, [f"{keyed:016x}" for keyed in one.keyed]] for one in self.pieces],
        }

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> TablePrint:
        """Read what `as_record` gave."""
        columns = {
            name: ColumnSums(values, int(keyed, 16), int(loose, 16))
            for name, (values, keyed, loose) in record["columns"].items()
        }
        unread, way = tuple(record["unread"]), record.get("way", "")
        pieces = tuple(
            Piece(begin, rows, tuple(int(one, 16) for one in keyed)) for begin, rows, keyed in record.get("pieces", ())
        )
        return TablePrint(record["rows"], tuple(record["key"]), columns, unread, way, pieces)

    @staticmethod
    def from_sums(sums: Sums, key: tuple[str, ...], names: Sequence[str], unread: tuple[str, ...] = ()) -> TablePrint:
        """What a server summed."""
        columns = {name: ColumnSums(*one) for name, one in zip(names, sums.columns, strict=True)}
        return TablePrint(sums.rows, key, columns, unread, sums.way)


@dataclass(frozen=True, slots=True)
class Ties:
    """How tables must be read so that they can be held against earlier sums: the columns that tie their rows, by table,
    and where their pieces begin; and what was kept apart from them, None where that need not be read.
    """

    keys: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    edges: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    apart: Mapping[str, str] | None = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class DatabasePrint:
    """One database: its tables, its objects (views, triggers, indexes) by definition, where its sequences stand.

    `apart` is what is kept beside the rows of tables: a dump has materialised views filled anew when it is loaded.
    """

    tables: Mapping[str, TablePrint] = field(default_factory=dict)
    objects: Mapping[str, str] = field(default_factory=dict)
    positions: Mapping[str, str] = field(default_factory=dict)
    apart: Mapping[str, str] = field(default_factory=dict, compare=False)

    @property
    def rows(self) -> int:
        """Rows of all tables."""
        return sum(table.rows for table in self.tables.values())

    def as_record(self) -> dict[str, Any]:
        """As JSON."""
        tables = {name: table.as_record() for name, table in self.tables.items()}
        others = {"objects": dict(self.objects), "positions": dict(self.positions), "apart": dict(self.apart)}
        return {"tables": tables, **others}

    @staticmethod
    def from_record(record: Mapping[str, Any]) -> DatabasePrint:
        """Read what `as_record` gave."""
        tables = {name: TablePrint.from_record(table) for name, table in record["tables"].items()}
        # As earlier builds wrote down that an account has all rights on a table, before servers had one more.
        objects = {name: text.replace("=arwdDxt/", "=all/") for name, text in record["objects"].items()}
        return DatabasePrint(tables, objects, record.get("positions", {}), record.get("apart", {}))

    def without(self, tables: Collection[str]) -> DatabasePrint:
        """All but some tables, and the sequences that belong to them."""
        kept = {name: table for name, table in self.tables.items() if name not in tables}
        stands = {name: at for name, at in self.positions.items() if not _belongs(name, tables)}
        return replace(self, tables=kept, positions=stands)

    def differences(self, other: DatabasePrint) -> list[str]:
        """What is not the same in another one, by name: tables, then objects, then sequences."""
        found = []
        for word, ours, theirs in (
            ("the table", self.tables, other.tables),
            ("the", self.objects, other.objects),
            ("the sequence", self.positions, other.positions),
        ):
            unlike = [name for name in ours.keys() | theirs.keys() if ours.get(name) != theirs.get(name)]
            found += [f"{word} {name}{_why(ours.get(name), theirs.get(name))}" for name in sorted(unlike)]
        return found


def _why(ours: Any, theirs: Any) -> str:
    both = isinstance(ours, TablePrint) and isinstance(theirs, TablePrint)
    return f": it {TWO_WAYS}" if both and ours.columns and theirs.columns and ours.way != theirs.way else ""


def _belongs(sequence: str, tables: Collection[str]) -> bool:
    return sequence.removeprefix(COUNTER_OF) in tables or sequence.rpartition(".")[0] in tables
