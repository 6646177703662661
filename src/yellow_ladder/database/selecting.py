"""The part of the port that reads selections; what differs between engines is how SQL is written and sent."""

from __future__ import annotations

import contextlib
from abc import ABC, abstractmethod
from collections.abc import Generator, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from yellow_ladder.database.port import Chunk, Packed, Span, Sums, Table
from yellow_ladder.database.selection import Selection

if TYPE_CHECKING:
    from yellow_ladder.database.columns import Column

Row = tuple[Any, ...]


class Selecting(ABC):
    """Reads selections; a mixin for the engines."""

    reads_alone = False

    @abstractmethod
    def quoted(self, identifier: str) -> str:
        """An identifier in the engine's own quoting."""

    @abstractmethod
    def _source_text(self, table: str) -> str:
        """What the rows of a table are selected from."""

    @abstractmethod
    def _answer(self, query: str, *, lenient: bool) -> Iterator[Chunk]:
        """The rows of a query in chunks of bounded memory; raises UndecodableText unless `lenient`."""

    @abstractmethod
    def _in_bytes(self, column: str, kind: str) -> str:
        """SQL for the bytes of a column's text, by which rows are sorted; `kind` is its type where it is known."""

    @abstractmethod
    def unlike(self, first: str, second: str) -> str:
        """SQL that is true where two expressions differ; NULL is like NULL."""

    @abstractmethod
    def query_columns(self, query: str) -> tuple[str, ...]:
        """The names of the columns of a query's answer."""

    def _kinds(self, selection: Selection) -> Mapping[str, str]:  # noqa: ARG002
        """The types of a selection's table, where SQL depends on them."""
        return {}

    def _column(self, name: str, kind: str) -> str:  # noqa: ARG002
        """SQL that reads a column as it is compared."""
        return self.quoted(name)

    def _text_of(self, selection: Selection) -> str:
        kinds = self._kinds(selection)
        source = f"({selection.query}) AS q" if selection.query else self._source_text(selection.table)
        return selection.text(source, self.quoted, lambda name: self._column(name, kinds.get(name, "")))

    def selected_columns(self, selection: Selection) -> tuple[str, ...]:
        """See the port."""
        return self.query_columns(self._text_of(selection))

    def sums_itself(self) -> bool:
        """Not on every engine."""
        return False

    def summed(self, selection: Selection, key: Sequence[str], span: Span | None) -> Sums | None:  # noqa: ARG002
        """Not on every engine."""
        return None

    def read_packed(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[Packed] | None:  # noqa: ARG002
        """Not on every engine."""
        return None

    def read_columns(self, table: Table, columns: Sequence[str], span: Span | None) -> Iterator[list[Column]] | None:  # noqa: ARG002
        """Not on every engine."""
        return None

    def read_selected(self, selection: Selection, *, lenient: bool = False) -> Iterator[Chunk]:
        """See the port."""
        yield from self._answer(self._text_of(selection), lenient=lenient)

    def sorted_selected(self, selection: Selection, width: int, *, lenient: bool = False) -> Generator[Row, None, None]:
        """See the port."""
        kinds = self._kinds(selection)
        parts = [
            self._in_bytes(self.quoted(f"f{number}"), kinds.get(one.column or one.name, "") if not one.sql else "")
            for number, one in enumerate(selection.fields[:width])
        ]
        for chunk in self._answer(selection.in_order(self._text_of(selection), parts), lenient=lenient):
            yield from (tuple(map(_decoded, row)) for row in chunk) if lenient else chunk


def _decoded(value: Any) -> Any:
    """Text where it can be one: read leniently, some engines give everything as bytes."""
    if isinstance(value, bytes):
        with contextlib.suppress(UnicodeDecodeError):
            return value.decode()
    return value
