"""What is read of a database beyond whole tables: some columns, what SQL makes of them, some rows, a query's answer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Field:
    """One column of a selection: a column of the table, or `sql` over its row; for a query, a column of its answer.

    A column is read as NULL in rows for which `unless`, SQL over the row, is true.
    """

    name: str
    column: str = ""
    sql: str = ""
    unless: str = ""


@dataclass(frozen=True, slots=True)
class Selection:
    """Columns of a table's rows, or of a `query`'s; `where` is SQL over a row of the table."""

    fields: tuple[Field, ...]
    table: str = ""
    query: str = ""
    where: str = ""

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns, in order."""
        return tuple(one.name for one in self.fields)

    def text(self, source: str, quoted: Callable[[str], str], column: Callable[[str], str] | None = None) -> str:
        """As SQL, with its columns named `f0`, `f1`, …; `source` is what the rows come from.

        `quoted` quotes an identifier, `column` gives the SQL that reads a column of the table as it is compared.
        """
        read = column or quoted

        def part(one: Field) -> str:
            text = f"({one.sql})" if one.sql else read(one.column or one.name)
            return f"CASE WHEN ({one.unless}) THEN NULL ELSE {text} END" if one.unless else text

        parts = [part(one) for one in self.fields]
        listed = ", ".join(f"{part} AS {quoted(f'f{number}')}" for number, part in enumerate(parts))
        text = f"SELECT {listed} FROM {source}"
        return f"{text} WHERE ({self.where})" if self.where else text

    def in_order(self, text: str, parts: list[str]) -> str:
        """The same, sorted by `parts`, which come before its columns; NULL first."""
        listed = ", ".join([*parts, "x.*"])
        order = ", ".join(f"{number} IS NOT NULL, {number}" for number in parts)
        return f"SELECT {listed} FROM ({text}) AS x" + (f" ORDER BY {order}" if order else "")
